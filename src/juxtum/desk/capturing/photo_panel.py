"""Photos: a walk round the part, each photo judged as it is taken, then all adjusted together."""

from __future__ import annotations

from datetime import datetime

import numpy as np

from juxtum.capture.ways.photowalk import PhotoWalk, begin_walk, map_rows, walk_along
from juxtum.desk.capturing.driver import Connection
from juxtum.desk.capturing.panel import CapturePanel
from juxtum.desk.widgets import Facts, button, label, row
from juxtum.devices.kinds import DeviceKind
from juxtum.geometry.arrays import Bools
from juxtum.guide.next_actions import NextAction
from juxtum.job.planning import with_tick
from juxtum.plan.photos.bundle import Adjusted, BarTie
from juxtum.progress import Progress
from juxtum.scene.plan_layers import camera_lines

CLEARED = "cleared"
"""The tick that bars and codes are off the part."""


class PhotoPanel(CapturePanel):
    """The photographer's walk."""

    def build(self) -> None:
        """Verdict large, then the walk's numbers."""
        self.walk: PhotoWalk | None = None
        self._connection: Connection | None = None
        self._framed: PhotoWalk | None = None
        self._verdict = label("No photo yet", "large", wrap=True)
        self._verdict.setAccessibleName("Photo verdict")
        self.body.addWidget(self._verdict)
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("Photo in words")
        self.body.addWidget(self._words)
        self._next = button("Take the next photo", self.take_next)
        self._all = button("Take all that are left", self.take_all)
        self._back = button("Discard the last", self.discard_last)
        self.body.addLayout(row(self._next, self._all))
        self.body.addLayout(row(self._back))
        self._facts = Facts("Walk")
        self.body.addWidget(self._facts)
        self._adjust = button("Adjust them together", self.adjust, "primary")
        self.body.addLayout(row(self._adjust))
        self._result = Facts("Adjusted")
        self.body.addWidget(self._result)
        self._use = button(
            "Give them to the scanner", self.give_map, tip="Their places are its map; lengths are the photos' then"
        )
        self._clear = button(
            "Bars and codes are off", self.clear_up, tip="What stays lying would be scanned with the part"
        )
        self.body.addLayout(row(self._use))
        self.body.addLayout(row(self._clear))
        self._given = label("", "soft", wrap=True)
        self._given.setAccessibleName("Map of the scanner")
        self.body.addWidget(self._given)
        self._show()

    def _ready(self, progress: Progress) -> tuple[PhotoWalk, Connection]:
        """The walk and the camera, brought up when they are first needed."""
        planner = self.station.planner
        assert planner is not None
        if self.walk is None or self._connection is None:
            plan = planner.photos(progress=progress.part(0, 0.5))
            connection = self.station.link.hosting.for_kind(DeviceKind.CAMERA, self.station.derived.job, planner)()
            self.walk, self._connection = begin_walk(plan, connection.link), connection
        return self.walk, self._connection

    def take_next(self) -> None:
        """The next planned photo."""
        self._take(1)

    def take_all(self) -> None:
        """Every planned photo that is left."""
        self._take(None)

    def _take(self, count: int | None) -> None:
        if self.station.planner is None:
            return

        def work(progress: Progress) -> object:
            walk, connection = self._ready(progress)
            walk_along(walk, connection.link, count, progress.part(0.5, 1.0))
            return walk

        self.station.session.compute(work, lambda _: self._walked())

    def discard_last(self) -> None:
        """Take it again."""
        if self.walk is not None:
            self.walk.discard_last()
            self._walked()

    def _walked(self) -> None:
        """Other photos than before: what was adjusted of them no longer holds."""
        self._result.show_facts([])
        self._show()
        self.station.show_next()

    def adjust(self) -> None:
        """All photos together."""
        walk = self.walk
        if walk is not None:
            self.station.session.compute(lambda _: walk.adjust(), self._adjusted)

    def give_map(self) -> None:
        """The adjusted targets become the scanner's map."""
        walk, planner = self.walk, self.station.planner
        if walk is not None and planner is not None:
            planned = np.array([t.place for t in planner.plan.placed]).reshape(-1, 3)
            self.station.session.compute(lambda _: map_rows(walk, planned), self._have_map)

    def clear_up(self) -> None:
        """What only the photos needed is off the part: who said so, and when."""
        now = datetime.now().replace(microsecond=0)
        self.station.session.edit("tick cleared", lambda job: with_tick(job, CLEARED, now))

    def _have_map(self, rows: object) -> None:
        assert isinstance(rows, list)
        self.station.link.take_map(rows)
        if self.station.link.photo_map:
            self._given.setText(f"{len(rows)} targets are the scanner's map now.")
        self.station.show_next()

    def _adjusted(self, answer: tuple[Adjusted, Bools]) -> None:
        adjusted, usable = answer
        bars = (
            [
                f"{adjusted.length(*_ends(k, usable)):.3f} mm"
                for k in self.walk.bars
                if usable[k.first] and usable[k.second]
            ]
            if self.walk
            else []
        )
        self._result.show_facts(
            [
                ("targets placed", f"{int(usable.sum())} of {len(usable)}"), ("residuals", f"{adjusted.rms:.2f} of the noise"),
                ("focal length", f"{adjusted.lens.focal:.3f} mm"), *((f"bar {k + 1}", text) for k, text in enumerate(bars)),
            ]
        )  # fmt: skip
        self.station.show_next()

    def _show(self) -> None:
        walk = self.walk
        taken = len(walk.photos) if walk is not None else 0
        planned = len(walk.plan.views) if walk is not None else 0
        if walk is not None and walk.verdicts:
            last = walk.verdicts[-1]
            self._verdict.setText("enough" if last.is_enough else "not enough")
            self._words.setText(
                f"Photo {taken}: {last.words}; {last.targets} targets, {last.codes} codes, {last.shared} shared with earlier photos."
            )
            table = walk.table()
            weak = [str(t.number) for t in table if not t.is_enough]
            facts = [
                ("photos", f"{taken} of {planned}"),
                ("targets with rays enough", f"{len(table) - len(weak)} of {len(table)}"),
            ]
            facts += [("still weak", ", ".join(weak[:8]) + ("\u2026" if len(weak) > 8 else ""))] if weak else []
            self._facts.show_facts(facts)
        else:
            self._verdict.setText("No photo yet")
            self._words.setText("Walk round the part; each photo is judged at once.")
            self._facts.show_facts([])
        self._back.setEnabled(taken > 0)
        self._adjust.setEnabled(taken > 3)
        self._use.setEnabled(taken > 3)
        self._clear.setEnabled(taken > 3)
        self._next.setEnabled(walk is None or taken < planned)
        self._all.setEnabled(walk is None or taken < planned)
        self.dress()

    def next_action(self) -> NextAction | None:
        """Take, adjust, give; then the scan's own next step."""
        walk, record = self.walk, self.station.derived.job.capture
        if walk is None or len(walk.photos) < len(walk.plan.views):
            return NextAction(
                "take the photos",
                "each is judged as it is taken, then all are adjusted together",
                "take photo",
                "Take the next",
            )
        if not self._result.facts:
            return NextAction("adjust them together", "all photos are taken", "adjust photos", "Adjust them")
        if not self.station.link.photo_map and self.station.driver is None and (record is None or not record.patches):
            return NextAction(
                "give the targets to the scanner",
                "its lengths are then those of the photos and their bars",
                "give photo map",
                "Give them",
            )
        if self.station.derived.job.tick(CLEARED) is None and (record is None or not record.patches):
            plan = walk.plan
            return NextAction(
                "clear up",
                f"{len(plan.bars)} bars and {plan.codes} coded targets go; what the scanner tracks by stays",
                "clear up photos",
                "They are off",
            )
        return None

    def dress(self) -> None:
        """Where photos were taken, and where the next one is."""
        station = self.station
        walk = self.walk
        if not station.is_here or station.way.value != "Photos":
            return
        station.view.put("gear", None)
        station.view.put("rays", None)
        if walk is not None:
            views, size = walk.plan.views, 0.05 * float(np.ptp(walk.plan.views.eyes, axis=0).max())
            everything = np.concatenate([views.eyes, walk.plan.points])
            if self._framed is not walk:
                self._framed = walk
                station.view.frame_all(np.stack([everything.min(0), everything.max(0)]))
            taken = len(walk.photos)
            if taken:
                station.view.put("rays", camera_lines(views.eyes[:taken], views.axes[:taken], views.ups[:taken], size))
            if taken < len(views):
                station.view.put(
                    "gear",
                    camera_lines(
                        views.eyes[taken : taken + 1],
                        views.axes[taken : taken + 1],
                        views.ups[taken : taken + 1],
                        1.4 * size,
                    ),
                )

    def close_all(self) -> None:
        """Let the camera go."""
        if self._connection is not None:
            self._connection.close()
        self.walk, self._connection = None, None
        self._given.setText("")
        self._result.show_facts([])
        self._show()


def _ends(bar: BarTie, usable: object) -> tuple[int, int]:
    new = np.cumsum(np.asarray(usable)) - 1
    return int(new[bar.first]), int(new[bar.second])
