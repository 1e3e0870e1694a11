"""Probe: guided to the planned points, one after the other; the tip is compensated and the feature told at once."""

from __future__ import annotations

import numpy as np

from juxtum.capture.ways.others import located
from juxtum.capture.ways.probing import ProbedFeature, ProbeTask, evaluate, guide, task_for
from juxtum.desk.capturing.driver import Connection
from juxtum.desk.capturing.panel import CapturePanel
from juxtum.desk.overlays import Pin
from juxtum.desk.widgets import Facts, button, combo, form, label, row
from juxtum.devices.kinds import DeviceKind
from juxtum.devices.link import ask
from juxtum.devices.protocol import Message
from juxtum.errors import JuxtumError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.guide.next_actions import NextAction
from juxtum.progress import Progress
from juxtum.scene.picking import Hit


class ProbePanel(CapturePanel):
    """The touch probe in the hand."""

    def build(self) -> None:
        """Feature, guidance large, touches, result."""
        self._connection: Connection | None = None
        self._to_part: RigidTransform | None = None
        self._tip_radius = 1.5
        self.task: ProbeTask | None = None
        self.middles: list[Floats] = []
        self.tip: Floats | None = None
        self._feature = combo("Feature to probe")
        self._feature.activated.connect(lambda _: self.choose())
        self.body.addLayout(form([("Feature", self._feature)]))
        self._guide = label("Choose a feature", "large", wrap=True)
        self._guide.setAccessibleName("Guidance")
        self.body.addWidget(self._guide)
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("Probe in words")
        self.body.addWidget(self._words)
        self._touch = button("Touch", self.touch, "primary", tip="At the planned point")
        self._all = button("Touch all that are left", self.touch_all)
        self._again = button("Begin again", self.choose)
        self.body.addLayout(row(self._touch, self._all))
        self.body.addLayout(row(self._again))
        self._facts = Facts("Probed")
        self.body.addWidget(self._facts)
        self._show(None)

    def show_job(self) -> None:
        """Holes and own planes of the drawing."""
        d, planner = self.station.derived, self.station.planner
        options: list[tuple[str, int]] = []
        if d.nominal is not None and planner is not None:
            named = {f: aim.title for aim in planner.task.aims for f in aim.faces}
            options = [(named.get(f, d.nominal.face(f).title), f) for f in d.probed]
            options.sort(key=lambda o: o[1] not in named)
        if [self._feature.itemData(k) for k in range(self._feature.count())] != [f for _, f in options]:
            self._feature.clear()
            for text, face in options:
                self._feature.addItem(text, face)
            self.task = None
            self._show(None)

    def choose(self) -> None:
        """Begin with the chosen feature."""
        nominal = self.station.derived.nominal
        if nominal is None or self._feature.currentData() is None:
            return
        try:
            self.task = task_for(nominal, int(self._feature.currentData()), self._feature.currentText())
        except JuxtumError as problem:
            self.station.session.failed.emit(problem)
            return
        self.middles, self.tip = [], None
        self._show(None)
        self.station.show_next()
        faces = nominal.face_mesh((self.task.face,))
        self.station.view.frame(faces.bounds, None)

    def choose_next(self) -> None:
        """The feature after this one."""
        self._feature.setCurrentIndex((self._feature.currentIndex() + 1) % max(self._feature.count(), 1))
        self.choose()

    def next_action(self) -> NextAction:
        """The next point, or the next feature."""
        if self.task is not None and len(self.middles) == len(self.task.points):
            return NextAction("go to the next feature", f"{self.task.name} is touched", "next feature", "Next feature")
        return NextAction(
            "touch the next point", "the plane before the edge, so that the edge is known in it", "touch point", "Touch"
        )

    def clicked(self, hit: Hit) -> None:
        """The tip was moved over the part."""
        if self.task is None:
            return
        self.tip = hit.place + np.array([0.0, 0.0, 15.0])
        self._show(None)

    def touch(self) -> None:
        """Touch the next planned point."""
        self._go(1)

    def touch_all(self) -> None:
        """Touch every point that is left."""
        self._go(10_000)

    def _go(self, count: int) -> None:
        if self.task is None:
            self.choose()
        task = self.task
        if task is None:
            return
        points = task.points[len(self.middles) : len(self.middles) + count]

        def work(progress: Progress) -> object:
            connection, to_part = self._ready()
            found = []
            for point in points:
                progress.check()
                request = {"from": [float(v) for v in point.start], "direction": [float(v) for v in -point.normal]}
                contact = ask(connection.link, Message("touch", request), "contact")
                found.append(to_part.apply(contact.vector("middle")[None])[0])
            return found

        def done(found: object) -> None:
            assert isinstance(found, list)
            self.middles += found
            if points:
                self.tip = points[-1].start
            left = task.points[len(self.middles) :]
            self._show(None if left else evaluate(task, self.middles, self._tip_radius))
            self.station.show_next()

        self.station.session.compute(work, done)

    def _ready(self) -> tuple[Connection, RigidTransform]:
        planner = self.station.planner
        assert planner is not None
        if self._connection is None or self._to_part is None:
            self._connection = self.station.link.hosting.for_kind(DeviceKind.PROBE, self.station.derived.job, planner)()
            about = ask(self._connection.link, Message("hello", {"version": 1}), "about")
            self._tip_radius = about.number("tip_radius")
            self._to_part = located(planner, ask(self._connection.link, Message("targets?"), "targets"))
        return self._connection, self._to_part

    def _show(self, found: ProbedFeature | None) -> None:
        task = self.task
        done = len(self.middles)
        self._touch.setEnabled(task is None or done < len(task.points))
        self._all.setEnabled(task is None or done < len(task.points))
        if task is None:
            self._guide.setText("Choose a feature")
            self._words.setText("The plane comes before the edge, so that the edge is known in it.")
            self._facts.show_facts([])
            self.station.view.set_pins([])
            return
        if done < len(task.points):
            point = task.points[done]
            told = guide(point, self.tip if self.tip is not None else point.start + np.array([60.0, 0, 60.0]))
            self._guide.setText(told.words)
            self.station.speaker.play(told.tone)
            self._words.setText(f"Point {done + 1} of {len(task.points)}, for the {point.purpose}.")
            self.station.view.set_pins([Pin(point.place, str(done + 1))])
        else:
            self._guide.setText("all touched")
            self._words.setText(f"{len(task.points)} touches, tip \u00d8{2 * self._tip_radius:.3f} mm compensated.")
            self.station.view.set_pins([])
        facts = [("touches", f"{done} of {len(task.points)}")]
        if found is not None:
            facts.append(
                (
                    "off it, not aligned",
                    f"{found.distances.min():+.3f} to {found.distances.max():+.3f} mm".replace("-", "\u2212"),
                )
            )
            if found.circle is not None and task.hole is not None:
                facts.append(("diameter", f"{2 * found.circle.feature.radius:.3f} mm of {task.hole.diameter:.3f}"))
                facts.append(("its U, k = 2", f"{4 * found.circle.standards['radius']:.3f} mm"))
        self._facts.show_facts(facts)

    def close_all(self) -> None:
        """Let the probe go."""
        if self._connection is not None:
            self._connection.close()
        self._connection = self._to_part = None
