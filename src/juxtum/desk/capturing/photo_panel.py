"""Photos: a walk round the part, each photo judged as it is taken, then all adjusted together."""

from __future__ import annotations

import numpy as np

from juxtum.capture.photowalk import PhotoWalk
from juxtum.desk.capturing.driver import Connection
from juxtum.desk.capturing.panel import CapturePanel
from juxtum.desk.widgets import Facts, button, label, row
from juxtum.devices.kinds import DeviceKind
from juxtum.devices.protocol import DeviceError, Message
from juxtum.plan.bundle import BarTie
from juxtum.progress import Progress
from juxtum.scene.plan_layers import camera_lines

PATIENCE = 60.0


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
        self._show()

    def _ready(self, progress: Progress) -> tuple[PhotoWalk, Connection]:
        """The walk and the camera, brought up when they are first needed."""
        planner = self.station.planner
        assert planner is not None
        if self.walk is None or self._connection is None:
            plan = planner.photos(progress=progress.part(0, 0.5))
            connection = self.station.hosting.for_kind(DeviceKind.CAMERA, self.station.derived.job, planner)()
            about = _ask(connection, Message("hello", {"version": 1}), "about")
            bars = tuple(BarTie(int(a), int(b), c, d) for a, b, c, d in about.table("bars", 4))
            self.walk, self._connection = PhotoWalk(plan, bars or None), connection
        return self.walk, self._connection

    def take_next(self) -> None:
        """The next planned photo."""
        self._take(1)

    def take_all(self) -> None:
        """Every planned photo that is left."""
        self._take(10_000)

    def _take(self, count: int) -> None:
        if self.station.planner is None:
            return

        def work(progress: Progress) -> object:
            walk, connection = self._ready(progress)
            left = range(len(walk.photos), min(len(walk.photos) + count, len(walk.plan.views)))
            for done, index in enumerate(left):
                progress.phase(f"photo {index + 1} of {len(walk.plan.views)}", 0.5 + 0.5 * done / max(len(left), 1))
                walk.take(_ask(connection, walk.request(index), "photo"))
            return walk

        self.station.session.compute(work, lambda _: self._show())

    def discard_last(self) -> None:
        """Take it again."""
        if self.walk is not None:
            self.walk.discard_last()
            self._show()

    def adjust(self) -> None:
        """All photos together."""
        walk = self.walk
        if walk is not None:
            self.station.session.compute(lambda _: walk.adjust(), self._adjusted)

    def _adjusted(self, answer: object) -> None:
        adjusted, usable = answer  # type: ignore[misc]
        bars = [f"{adjusted.length(*_ends(k, usable)):.3f} mm" for k in self.walk.bars if usable[k.first] and usable[k.second]] if self.walk else []
        self._result.show_facts(
            [
                ("targets placed", f"{int(usable.sum())} of {len(usable)}"), ("residuals", f"{adjusted.rms:.2f} of the noise"),
                ("focal length", f"{adjusted.lens.focal:.3f} mm"), *((f"bar {k + 1}", text) for k, text in enumerate(bars)),
            ]
        )  # fmt: skip

    def _show(self) -> None:
        walk = self.walk
        taken = len(walk.photos) if walk is not None else 0
        planned = len(walk.plan.views) if walk is not None else 0
        if walk is not None and walk.verdicts:
            last = walk.verdicts[-1]
            self._verdict.setText("enough" if last.is_enough else "not enough")
            self._words.setText(f"Photo {taken}: {last.words}; {last.targets} targets, {last.codes} codes, {last.shared} shared with earlier photos.")
            table = walk.table()
            weak = [str(t.number) for t in table if not t.is_enough]
            facts = [("photos", f"{taken} of {planned}"), ("targets with rays enough", f"{len(table) - len(weak)} of {len(table)}")]
            facts += [("still weak", ", ".join(weak[:8]) + ("\u2026" if len(weak) > 8 else ""))] if weak else []
            self._facts.show_facts(facts)
        else:
            self._verdict.setText("No photo yet")
            self._words.setText("Walk round the part; each photo is judged at once.")
            self._facts.show_facts([])
        self._back.setEnabled(taken > 0)
        self._adjust.setEnabled(taken > 3)
        self._next.setEnabled(walk is None or taken < planned)
        self._all.setEnabled(walk is None or taken < planned)
        self.dress()

    def show_job(self) -> None:
        """Another part: another walk."""
        planner = self.station.planner
        if self.walk is not None and (planner is None or self.walk.plan.points.shape[0] == 0):
            self.close_all()

    def dress(self) -> None:
        """Where photos were taken, and where the next one is."""
        station = self.station
        walk = self.walk
        if getattr(station.window_, "_station", None) is not station or station.way.value != "Photos":
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
                station.view.put("gear", camera_lines(views.eyes[taken : taken + 1], views.axes[taken : taken + 1], views.ups[taken : taken + 1], 1.4 * size))

    def close_all(self) -> None:
        """Let the camera go."""
        if self._connection is not None:
            self._connection.close()
        self.walk, self._connection = None, None


def _ends(bar: BarTie, usable: object) -> tuple[int, int]:
    new = np.cumsum(np.asarray(usable)) - 1
    return int(new[bar.first]), int(new[bar.second])


def _ask(connection: Connection, message: Message, wanted: str) -> Message:
    connection.link.send(message)
    for answer in connection.link.receive(PATIENCE):
        if answer.kind == "error":
            raise DeviceError(answer.text("what"), "device", answer.text("next"))
        if answer.kind == wanted:
            return answer
    raise DeviceError("the device does not answer", "connection", "Check it, then connect again")
