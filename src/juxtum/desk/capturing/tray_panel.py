"""Tray: a cabinet looks through a whole tray of parts at once."""

from __future__ import annotations

import numpy as np

from juxtum.capture.live.points import write_points
from juxtum.capture.ways.traying import TrayScan, scan_tray
from juxtum.desk.capturing.panel import CapturePanel
from juxtum.desk.widgets import Facts, button, label, row
from juxtum.devices.kinds import DeviceKind
from juxtum.exchange.writing import as_file_name, write_atomically
from juxtum.guide.facts import thousands
from juxtum.guide.next_actions import NextAction
from juxtum.plan.tray import TrayPlan
from juxtum.progress import Progress
from juxtum.scene.drawables import plain_cloud
from juxtum.scene.plan_layers import cylinder_lines, tray_lines

MOST_OUTLINED = 40
"""Parts of a tray whose places are outlined; more of them would hide what was scanned."""
SHOWN = 250_000
"""Points that are drawn of a tray."""


class TrayPanel(CapturePanel):
    """One scan of all parts that lie in the tray."""

    def build(self) -> None:
        """What is planned, the scan, what it gave."""
        self.plan: TrayPlan | None = None
        self.scan: TrayScan | None = None
        self._framed = False
        self._word = label("Nothing scanned yet", "large", wrap=True)
        self._word.setAccessibleName("Tray")
        self.body.addWidget(self._word)
        self._words = label(
            "Lay the parts into the tray as planned; the cabinet sees inner surfaces too.", "soft", wrap=True
        )
        self.body.addWidget(self._words)
        self._scan = button("Scan the tray", self.scan_it, "primary")
        self._save = button("Save the cloud\u2026", self.save_cloud, tip="Points and normals of all parts, PLY")
        self.body.addLayout(row(self._scan, self._save))
        self._facts = Facts("Tray scan")
        self.body.addWidget(self._facts)
        self._show()

    def scan_it(self) -> None:
        """Bring the cabinet up, let it scan, let it go."""
        station = self.station
        planner, job = station.planner, station.derived.job
        if planner is None:
            return

        def work(progress: Progress) -> tuple[TrayPlan, TrayScan]:
            progress.phase("loading the tray", 0.0)
            plan = planner.tray()
            connection = station.link.hosting.for_kind(DeviceKind.CABINET, job, planner)()
            try:
                return plan, scan_tray(connection.link, progress)
            finally:
                connection.close()

        station.session.compute(work, self._have)

    def _have(self, made: object) -> None:
        assert isinstance(made, tuple)
        self.plan, self.scan = made
        self._framed = False
        self._show()
        self.station.dress()
        self.station.show_next()

    def save_cloud(self) -> None:
        """Write the cloud where a person wants it."""
        scan = self.scan
        if scan is None:
            return
        name = f"{as_file_name(self.station.derived.job.brief.part)} tray.ply"
        path = self.station.desk.asking.cloud(name)
        if path is not None:
            self.station.session.compute(
                lambda _: write_atomically(path, lambda target: write_points(target, scan.points)), lambda _: None
            )

    def _show(self) -> None:
        scan, plan = self.scan, self.plan
        self._save.setEnabled(scan is not None)
        if scan is None or plan is None:
            self._word.setText("Nothing scanned yet")
            self._facts.show_facts([])
            return
        self._word.setText(f"{scan.parts} part{'' if scan.parts == 1 else 's'} in one scan")
        self._facts.show_facts(
            [
                ("points", thousands(len(scan.points))), ("spacing", f"{scan.spacing:.2f} mm"), ("tilted by", f"{plan.tilt:.0f}\u00b0"),
                ("minutes for a part", f"{plan.minutes_each:.1f}"), ("measured alone", f"{plan.minutes_single:.1f}"),
            ]
        )  # fmt: skip

    def next_action(self) -> NextAction | None:
        """Scan, then save."""
        if self.scan is None:
            return NextAction("scan the tray", "all its parts come as one cloud", "scan tray", "Scan it")
        return NextAction("save the cloud", "points and normals of all its parts, as PLY", "save tray", "Save it\u2026")

    def dress(self) -> None:
        """The cloud in its cylinder instead of the part."""
        view, plan, scan = self.station.view, self.plan, self.scan
        if plan is None or scan is None:
            return
        for name in ("nominal", "edges", "ghost"):
            view.put(name, None)
        some = scan.points[:: max(1, len(scan.points) // SHOWN)]
        view.put("scan", plain_cloud(some["place"].astype(np.float64), some["normal"] / 127.0))
        view.put("rays", tray_lines(plan) if plan.count <= MOST_OUTLINED else None)
        view.put("gear", cylinder_lines(plan.cylinder.diameter, plan.cylinder.height))
        if not self._framed:
            self._framed = True
            places = some["place"].astype(np.float64)
            view.frame_all(np.stack([places.min(0), places.max(0)]))

    def close_all(self) -> None:
        """Another job."""
        self.plan, self.scan = None, None
        self._show()
