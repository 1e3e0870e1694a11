"""Probe: guided to the planned points, one after the other; the tip is compensated and the feature told at once."""

from __future__ import annotations

import numpy as np

from juxtum.capture.ways.others import located
from juxtum.capture.ways.probing import ProbedFeature, ProbeTask, evaluate, guide, task_for
from juxtum.capture.ways.touching import ProbeLie, touched_face, touches_document, write_touches
from juxtum.desk.capturing.driver import Connection
from juxtum.desk.capturing.panel import CapturePanel
from juxtum.desk.overlays import Pin
from juxtum.desk.widgets import Facts, button, combo, form, label, row
from juxtum.devices.kinds import DeviceKind, model_for
from juxtum.devices.link import ask
from juxtum.devices.protocol import Message
from juxtum.errors import JuxtumError
from juxtum.folders import data_folder
from juxtum.geometry.arrays import Floats
from juxtum.guide.next_actions import NextAction
from juxtum.job.roles import Role, free_name
from juxtum.job.touching import touches_in, with_touches, without_touches
from juxtum.progress import Progress
from juxtum.scene.picking import Hit

LEAST_TARGETS = 4
"""With fewer a probe's coordinates cannot be laid onto those of a capture."""


class ProbePanel(CapturePanel):
    """The touch probe in the hand."""

    def build(self) -> None:
        """Feature, guidance large, touches, result."""
        self._connection: Connection | None = None
        self._lie: ProbeLie | None = None
        self._kept: dict[int, tuple[ProbeTask, list[Floats]]] = {}
        """What was touched since the probe was connected, by face."""
        self._tip_radius, self._name = 1.5, ""
        self._is_touching = False
        """A touch that is asked for twice is made once."""
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
        self._held = label("", "soft", wrap=True)
        self._held.setAccessibleName("Touches in the job")
        self._out = button(
            "Take what was touched out of the job", self.take_out, tip="The scan counts again; undo brings it back"
        )
        self.body.addWidget(self._held)
        self.body.addLayout(row(self._out))
        self._show(None)

    def show_job(self) -> None:
        """Holes and own planes of the drawing; what was touched already."""
        held = touches_in(self.station.session.job)
        words = "What is touched to the end is kept in the job, and counts there in place of the scan."
        self._held.setText(
            f"In the job: {', '.join(one.name for one in held)}. They count in place of the scan." if held else words
        )
        self._out.setEnabled(bool(held))
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
        if self.task is None and not self.isHidden():
            self.station.view.set_pins(self._wanted())

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
        self.station.view.frame(faces.bounds, self.task.points[0].normal)

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
        if task is None or self._is_touching:
            return
        self._is_touching = True
        points = task.points[len(self.middles) : len(self.middles) + count]

        def work(progress: Progress) -> object:
            connection, lie = self._ready()
            found = []
            for point in points:
                progress.check()
                request = {"from": [float(v) for v in point.start], "direction": [float(v) for v in -point.normal]}
                contact = ask(connection.link, Message("touch", request), "contact")
                found.append(lie.to_part.apply(contact.vector("middle")[None])[0])
            return found

        def done(found: object) -> None:
            assert isinstance(found, list)
            self._is_touching = False
            if task is not self.task:
                # Another feature was begun meanwhile.
                return
            self.middles += found
            if points:
                self.tip = points[-1].start
            left = task.points[len(self.middles) :]
            self._show(None if left else evaluate(task, self.middles, self._tip_radius))
            self.station.show_next()
            if not left:
                self._keep(task)

        def failed(problem: Exception) -> None:
            self._is_touching = False
            self.station.session.tell_failure(problem)

        self.station.session.workbench.ask(work, done, failed)

    def _keep(self, task: ProbeTask) -> None:
        """What was touched goes into the job, where characteristics of the feature are measured from it."""
        planner, session, lie = self.station.planner, self.station.session, self._lie
        if planner is None or lie is None or len(self.middles) < len(task.points):
            return
        self._kept[task.face] = (task, list(self.middles))
        is_captured = session.job.capture is not None and len(lie.targets) >= LEAST_TARGETS
        features = [touched_face(one, middles, lie if is_captured else None) for one, middles in self._kept.values()]
        document = touches_document(
            features, model_for(DeviceKind.PROBE, planner), self._tip_radius, lie, is_captured=is_captured
        )
        folder = data_folder() / "captures" / session.job.id
        folder.mkdir(parents=True, exist_ok=True)
        self._name = self._name or free_name(Role.TOUCHES, tuple(held.name for held in session.job.inputs))
        path, name = folder / f"{self._name}.json", self._name
        write_touches(path, document)
        file = session.files.adopt(path)
        session.edit(f"touches of {task.name}", lambda job: with_touches(job, name, file))

    def take_out(self) -> None:
        """The scan counts again for everything."""

        self._kept, self._name = {}, ""
        self.station.session.edit("touches taken out", without_touches)

    def _ready(self) -> tuple[Connection, ProbeLie]:
        planner = self.station.planner
        assert planner is not None
        if self._connection is None or self._lie is None:
            self._connection = self.station.link.hosting.for_kind(DeviceKind.PROBE, self.station.derived.job, planner)()
            about = ask(self._connection.link, Message("hello", {"version": 1}), "about")
            self._tip_radius = about.number("tip_radius")
            self._lie = located(planner, ask(self._connection.link, Message("targets?"), "targets"))
        return self._connection, self._lie

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
            self.station.view.set_pins(_pins(task, done))
        else:
            self._guide.setText("all touched")
            self._words.setText(f"{len(task.points)} touches, tip \u00d8{2 * self._tip_radius:.3f} mm compensated.")
            self.station.view.set_pins(_pins(task, done))
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
                model = model_for(DeviceKind.PROBE, self.station.planner) if self.station.planner is not None else None
                if model is not None:
                    facts.append(("its U, k = 2", f"{found.diameter_u(model.as_instrument(model.chain())):.3f} mm"))
        self._facts.show_facts(facts)

    def _wanted(self) -> list[Pin]:
        """The features that a characteristic asks for and a probe can touch, by the characteristic's number."""
        d, planner = self.station.derived, self.station.planner
        if d.nominal is None or planner is None:
            return []
        asked = {face: aim.id for aim in reversed(planner.task.aims) for face in aim.faces}
        return [Pin(d.nominal.face(face).centre, asked[face], "ink") for face in d.probed if face in asked]

    def close_all(self) -> None:
        """Let the probe go."""
        if self._connection is not None:
            self._connection.close()
        self._connection = self._lie = None
        self._kept, self._name = {}, ""


def _pins(task: ProbeTask, done: int) -> list[Pin]:
    """All points of a feature: those that are touched without a number, the next one in colour."""
    return [
        Pin(point.place, "" if k < done else str(k + 1), "conforms" if k < done else "accent" if k == done else "ink")
        for k, point in enumerate(task.points)
    ]
