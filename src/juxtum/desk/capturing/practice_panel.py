"""Practice: exercises against the clock, faults on purpose, a debrief, and the learner's record."""

from __future__ import annotations

import time
from datetime import datetime

import numpy as np
from PyQt6.QtWidgets import QLineEdit

from juxtum.capture.live.points import capture_memory
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.live.snapshot import Snapshot
from juxtum.capture.ways.practice import EXERCISES, Debrief, body_for_exercise, debrief, debrief_bars, exercise_of
from juxtum.desk.capturing.dial import StandOffDial
from juxtum.desk.capturing.driver import Connection
from juxtum.desk.capturing.floor import clock
from juxtum.desk.capturing.hosting import scanner_of
from juxtum.desk.capturing.painting import skin_of
from juxtum.desk.capturing.panel import CapturePanel
from juxtum.desk.overlays import Pin
from juxtum.desk.widgets import Facts, button, combo, form, label, line, row
from juxtum.devices.link import DirectLink
from juxtum.devices.protocol import Message
from juxtum.devices.standin import StandIn
from juxtum.guide.next_actions import NextAction
from juxtum.plan.planner import Planner
from juxtum.progress import Progress
from juxtum.scene.capture_layers import Skin
from juxtum.scene.picking import Hit

FAULTS: tuple[tuple[str, str, dict[str, float]], ...] = (
    ("the device ends", "killed", {}), ("the cable is pulled", "closed", {}), ("it stalls for five seconds", "stalled", {"seconds": 5.0}),
    ("it sends garbage", "garbage", {}), ("the hall warms by 5 K", "temperature", {"kelvin": 5.0}), ("a target is knocked off", "target", {"index": 0}),
    ("the calibration is lost", "uncalibrated", {}),
)  # fmt: skip


class PracticePanel(CapturePanel):
    """Exercises."""

    def build(self) -> None:
        """Exercise, clock, dial, debrief, record."""
        self._begun: float | None = None
        self._places: list[np.ndarray] = []
        self._learner = QLineEdit()
        self._learner.setAccessibleName("Learner")
        self._learner.setPlaceholderText("name of the learner")
        self._choice = combo("Exercise")
        for exercise in EXERCISES:
            self._choice.addItem(exercise.title, exercise.id)
        self._choice.activated.connect(lambda _: self._show_exercise())
        self.body.addLayout(form([("Learner", self._learner), ("Exercise", self._choice)]))
        self._text = label("", "", wrap=True)
        self._text.setAccessibleName("Task")
        self.body.addWidget(self._text)
        self._clock = label("00:00", "large")
        self._clock.setAccessibleName("Clock")
        self._start = button("Start", self.start, "primary")
        self._finish = button("Finish", self.finish)
        self.body.addLayout(row(self._clock, self._start, self._finish))
        self.dial = StandOffDial()
        self.body.addWidget(self.dial)
        self._fault = combo("Fault")
        for text, name, fields in FAULTS:
            self._fault.addItem(text, (name, fields))
        self._put = button(
            "Put it in", self.put_fault, tip="On purpose: what happens then must be known before it happens"
        )
        self.body.addLayout(row(self._fault, self._put))
        self._build_debrief()
        self.last: Debrief | None = None
        self._show_exercise()

    def _build_debrief(self) -> None:
        self.body.addWidget(line())
        self.body.addWidget(label("Debrief", "heading"))
        self._score = label("\u2013", "large")
        self._score.setAccessibleName("Score")
        self.body.addWidget(self._score)
        self._facts = Facts("Debrief")
        self.body.addWidget(self._facts)
        self._advice = label("", "", wrap=True)
        self._advice.setAccessibleName("Advice")
        self.body.addWidget(self._advice)
        self.body.addWidget(label("Earlier", "heading"))
        self._record = label("", "soft", wrap=True)
        self._record.setAccessibleName("Earlier exercises")
        self.body.addWidget(self._record)

    def _show_exercise(self) -> None:
        exercise = exercise_of(self._choice.currentData())
        self._text.setText(f"{exercise.text} About {exercise.minutes:.0f} minutes.")
        self._finish.setEnabled(self._begun is not None)
        self._start.setEnabled(self._begun is None)
        self._choice.setEnabled(self._begun is None)
        self._put.setEnabled(self.station.driver is not None)

    def _began_or_ended(self) -> None:
        self._show_exercise()
        self.station.show_next()

    @property
    def is_running(self) -> bool:
        """Whether the clock runs."""
        return self._begun is not None

    def next_action(self) -> NextAction:
        """Start, finish, start again."""
        if self.is_running:
            return NextAction("finish when you are done", "then comes the debrief", "finish exercise", "Finish")
        return NextAction(
            "practise", "a part, a simulated scanner, a clock and an honest debrief", "start exercise", "Start"
        )

    def show_job(self) -> None:
        """The learner's record."""
        self._show_exercise()
        book = self.station.desk.shop.book
        if book is None or not self.isVisible():
            return
        rows = book.exercises(self._learner.text().strip())[:6]
        lines = [
            f"{r.at:%d %b %H:%M}  {exercise_of(r.exercise).title}: {r.score:.0f} in {clock(r.seconds)}" for r in rows
        ]
        self._record.setText("\n".join(lines) or "None yet.")

    def start(self) -> None:
        """Prepare the part as the exercise wants it, and start the clock."""
        planner, station = self.station.planner, self.station
        exercise = exercise_of(self._choice.currentData())
        if planner is None or station.derived.job.nominal is None:
            station.desk.tell("there is no part to practise on", "practice", "Open a demo job")
            return
        if exercise.id == "bars":
            self._places, self._begun = [], time.monotonic()
            station.start_picking("Click both ends of the first bar, then of the second", self._bar_end)
            self._began_or_ended()
            return
        if not planner.plan.is_tracked and exercise.id != "stick":
            station.desk.tell("the plan has no targets yet", "practice", "Plan the targets first")
            return
        if station.driver is not None:
            station.desk.tell("the scanner is still connected", "practice", "Disconnect it first")
            return
        changed = Planner(planner.nominal, planner.task, exercise.prepare(planner.plan), planner.grounds)
        job = station.derived.job

        def work(progress: Progress) -> tuple[CaptureSession, Skin, StandIn]:
            changed.ground(progress.part(0, 0.5))
            session = CaptureSession(changed, capture_memory())
            device = station.link.hosting.within(
                scanner_of(changed), job, changed, lambda body: body_for_exercise(exercise, body, changed)
            )
            return session, skin_of(session), device

        def done(made: tuple[CaptureSession, Skin, StandIn]) -> None:
            session, skin, device = made
            self._begun = time.monotonic()
            station.link.begin(session, skin, lambda: Connection(DirectLink(device)), None)
            if station.driver is not None:
                # What is practised is not part of the job.
                station.driver.keep = None
            if exercise.id == "stick":
                station.start_picking("Click where targets shall be stuck; Esc when all are", self._stick)
            self._began_or_ended()

        station.session.compute(work, done)

    def _stick(self, hit: Hit) -> None:
        nominal = self.station.derived.nominal
        if self.station.driver is None or nominal is None:
            return
        found = nominal.projector.project(hit.place[None])
        place, normal = found.feet[0], found.normals[0]
        edge = float(nominal.edge_distances(place[None], 30.0)[0])
        self.station.driver.ask(
            Message("stick", {"place": [float(v) for v in place], "normal": [float(v) for v in normal], "edge": edge})
        )
        self._places.append(place)
        self.station.view.set_pins([Pin(p, str(k + 1)) for k, p in enumerate(self._places)])

    def _bar_end(self, hit: Hit) -> None:
        self._places.append(hit.place)
        self.station.view.set_pins([Pin(p, str(k + 1)) for k, p in enumerate(self._places)])
        if len(self._places) == 4:
            self.finish()

    def finish(self) -> None:
        """Stop the clock and say what came of it."""
        station, planner = self.station, self.station.planner
        if self._begun is None or planner is None:
            return
        seconds, self._begun = time.monotonic() - self._begun, None
        exercise = exercise_of(self._choice.currentData())
        station.stop_picking()
        if exercise.id == "bars":
            ends = tuple(
                tuple(float(v) for v in np.concatenate([self._places[2 * k], self._places[2 * k + 1]]))
                for k in range(len(self._places) // 2)
            )
            if not ends:
                station.desk.tell("no bar was laid", "practice", "Start again and click both ends")
                self._began_or_ended()
                return
            station.session.compute(lambda _: debrief_bars(planner, ends, seconds), self._told)
            return
        driver = station.driver
        if driver is None:
            self._began_or_ended()
            return
        session, body = driver.session, station.link.hosting.body
        driver.end()

        def work(_: Progress) -> Debrief:
            driver.join()
            return debrief(exercise, session, body)

        station.session.compute(work, self._told)

    def _told(self, made: object) -> None:
        from juxtum.logbook.tables import ExerciseRow

        assert isinstance(made, Debrief)
        self.last = made
        self._score.setText(f"{made.score:.0f} of 100")
        self._facts.show_facts(list(made.facts))
        self._advice.setText("\n".join(f"\u2022 {words}" for words in made.advice) or "Nothing to do differently.")
        book, learner = self.station.desk.shop.book, self._learner.text().strip() or "unnamed"
        if book is not None:
            part = self.station.derived.job.title
            book.add_exercise(
                ExerciseRow(
                    learner=learner,
                    exercise=made.exercise,
                    part=part,
                    at=datetime.now(),
                    seconds=made.seconds,
                    score=made.score,
                    words=made.words,
                )
            )
        self.station.view.set_pins([])
        self._places = []
        self.show_job()
        self.station.show_next()
        self.station.ensureWidgetVisible(self._record)
        self.station.ensureWidgetVisible(self._score)

    def put_fault(self) -> None:
        """Put a fault into the stand-in."""
        name, fields = self._fault.currentData()
        if self.station.driver is not None:
            self.station.driver.ask(Message("fault", {"name": name, **fields}))

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Clock and dial."""
        self.dial.show_snapshot(snapshot)
        if self._begun is not None:
            self._clock.setText(clock(time.monotonic() - self._begun))
        self._put.setEnabled(True)
