"""Guided calibration and checks on the desk: the pad asks for poses, the stand-in answers, the logbook keeps the result."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject

from juxtum.capture.calibration.calibrating import (
    CalibrationKind,
    CalibrationResult,
    CheckResult,
    HandPose,
    bar_requests,
    check_kind,
    evaluate_bar,
)
from juxtum.capture.calibration.calibrating_others import correction_of, poses_of, requests_of, solve
from juxtum.desk.capturing.hosting import Hosting
from juxtum.desk.readying.pose_pad import WIDEST, PosePad
from juxtum.desk.timers import timer
from juxtum.devices.kinds import DeviceKind
from juxtum.devices.protocol import Message
from juxtum.devices.standin import StandIn
from juxtum.errors import JuxtumError
from juxtum.instruments.models import Kind
from juxtum.plan.planner import Planner
from juxtum.progress import Progress

if TYPE_CHECKING:
    from juxtum.desk.stations.ready import ReadyStation
    from juxtum.logbook import Logbook
    from juxtum.logbook.tables import InstrumentRow

DEVICES = {
    CalibrationKind.PHOTO: DeviceKind.CAMERA, CalibrationKind.TIP: DeviceKind.PROBE, CalibrationKind.BOARD: DeviceKind.HEAD,
    CalibrationKind.SHAPE: DeviceKind.HEAD,
}  # fmt: skip
"""What is calibrated besides the scanner; the rest is the scanner's own."""
ARTEFACT_KINDS = {CalibrationKind.TIP: "ball"}
"""On which kind of artefact something is calibrated; everything else on a board."""
BY_ITSELF_MS = 350
"""Between two poses when the calibration runs by itself."""


class Calibrating(QObject):
    """Leads through a calibration or a check."""

    def __init__(self, station: ReadyStation) -> None:
        super().__init__(station)
        self._station = station
        self.hosting = Hosting(station.session)
        self.pad = PosePad(station.view)
        self.pad.reached.connect(self._take_pose)
        self.kind: CalibrationKind | None = None
        """What is being calibrated."""
        self._poses: tuple[HandPose, ...] = ()
        self._answers: list[Message] = []
        self._device: StandIn | None = None
        self._is_taking = False
        self._runs = timer(self, BY_ITSELF_MS, self._step_by_itself)

    def begin_chosen(self) -> None:
        """Begin a guided calibration of the chosen kind, or of the first that is open."""
        planner = self._station.planner
        if planner is None:
            return
        kind = CalibrationKind(self._station.kind_text)
        try:
            check_kind(kind, planner.nominal)
        except JuxtumError as problem:
            self._station.session.failed.emit(problem)
            return
        self._with_device(planner, lambda: self._begin(kind, planner), DEVICES.get(kind))

    def _with_device(self, planner: Planner, then: Callable[[], None], wanted: DeviceKind | None = None) -> None:
        """Bring up a stand-in that has lost its calibration, as after a journey."""

        kind = wanted or (DeviceKind.TRACKED if planner.model.kind is Kind.TRACKED else DeviceKind.HANDHELD)

        def work(progress: Progress) -> StandIn:
            progress.phase("switching the scanner on")
            made = self.hosting.within(kind, self._station.derived.job, planner)
            made.handle(Message("fault", {"name": "uncalibrated"}))
            return made

        def done(made: object) -> None:
            assert isinstance(made, StandIn)
            self._device = made
            then()

        if self._device is not None and self._device.kind == kind.value:
            then()
        else:
            self._station.session.compute(work, done)

    def _begin(self, kind: CalibrationKind, planner: Planner) -> None:
        self.kind, self._answers = kind, []
        self._poses = poses_of(kind, planner.model)
        self.pad.widest = max(WIDEST, 1.1 * max(max(abs(p.tilt), abs(p.lean)) for p in self._poses))
        self._station.tell_result("")
        self._ask()
        self._station.show_results()

    def _ask(self) -> None:
        assert self.kind is not None
        done = len(self._answers)
        self._station.place()
        self.pad.ask(f"Calibrate the {self.kind}", self._poses[done], done + 1, len(self._poses))

    def _take_pose(self) -> None:
        """The hand holds still at the wanted pose: take it, away from the interface."""
        kind, device = self.kind, self._device
        if kind is None or device is None or self._is_taking:
            return
        self._is_taking = True
        asked = requests_of(kind, self.pad.pose, len(self._answers))
        self._station.session.workbench.ask(
            lambda _: [a for message in asked for a in device.handle(message)][-1], self._taken, self._failed
        )

    def _taken(self, answer: object) -> None:
        self._is_taking = False
        if self.kind is None:
            return
        assert isinstance(answer, Message)
        self._answers.append(answer)
        if len(self._answers) < len(self._poses):
            self._ask()
        else:
            self._solve()

    def _failed(self, problem: Exception) -> None:
        """The calibration is given up; nothing is written down."""
        self._is_taking = False
        self.stop()
        self._station.session.failed.emit(problem)

    def run_by_itself(self) -> None:
        """Let the poses be taken one after another."""
        if self.kind is None:
            self.begin_chosen()
        self._runs.start()

    def _step_by_itself(self) -> None:
        if self.pad.wanted is None:
            if self.kind is None and not self._station.session.workbench.is_busy:
                self._runs.stop()
            return
        wanted = self.pad.wanted
        self.pad.hold(HandPose(wanted.distance + 2.0, wanted.tilt + 0.5, wanted.lean - 0.5))
        self._take_pose()

    def _solve(self) -> None:
        kind, device, answers = self.kind, self._device, self._answers
        self.pad.end()
        self._runs.stop()
        self.kind = None
        if kind is None or device is None:
            return

        def work(progress: Progress) -> CalibrationResult:
            progress.phase("solving the calibration")
            found = solve(kind, answers, device.model)
            if found.passed:
                device.handle(correction_of(found))
            return found

        self._station.session.workbench.ask(work, self._solved, self._failed)

    def _solved(self, found: object) -> None:
        from juxtum.logbook.book import Entry

        assert isinstance(found, CalibrationResult) and self._device is not None
        self._show_result(found)
        book, job = self._station.desk.shop.book, self._station.derived.job
        if book is not None:
            own = self._station.instrument()
            model = self._device.model
            instrument = own if own is not None and own.model == model.id else book.instrument(model)
            artefact, room = calibrated_on(found.kind, book), job.circumstances.environment
            book.add_calibration(
                instrument,
                Entry(
                    found.kind.value,
                    artefact,
                    job.brief.operator,
                    room.instrument_temperature,
                    found.value,
                    found.limit,
                ),
            )
        self._station.policy.look_again()
        self._station.show_results()

    def _show_result(self, found: CalibrationResult) -> None:
        self._station.tell_result(f"{'Passed' if found.passed else 'Failed'}: {found.words}.")

    def stop(self) -> None:
        """Give it up; nothing is written down."""
        self._runs.stop()
        self.pad.end()
        self.kind = None
        self._station.show_results()

    def check_on_artefact(self) -> None:
        """Measure the chosen artefact in several places and write it down."""
        planner, book, instrument = self._station.planner, self._station.desk.shop.book, self._station.instrument()
        if planner is None or book is None or instrument is None or not self._station.artefact_text:
            return
        artefact = book.artefact(self._station.artefact_text)

        def begin() -> None:
            assert self._device is not None
            answers = [
                a
                for m in bar_requests(artefact.length, artefact.diameter, planner.model)
                for a in self._device.handle(m)
            ]
            found = evaluate_bar(answers, artefact.length, artefact.diameter, artefact.uncertainty, planner.model)
            self._write_check(found, artefact.name, instrument)

        self._with_device(planner, begin)

    def _write_check(self, found: CheckResult, artefact: str, instrument: InstrumentRow) -> None:
        from juxtum.logbook.book import Entry

        book, job = self._station.desk.shop.book, self._station.derived.job
        assert book is not None
        common = ("", artefact, job.brief.operator, job.circumstances.environment.instrument_temperature)
        book.add_check(
            instrument,
            Entry(*common, found.size_error, found.size_limit),
            Entry(*common, found.length_error, found.length_limit),
        )
        self._station.tell_result(f"{'Passed' if found.passed else 'Failed'} on {artefact}: {found.words}.")
        self._station.policy.look_again()
        self._station.show_results()


def calibrated_on(kind: CalibrationKind, book: Logbook) -> str:
    """The artefact of the register on which something is calibrated, or that there is none."""
    if kind is CalibrationKind.SHAPE:
        return "the part itself"
    wanted = ARTEFACT_KINDS.get(kind, "board")
    own = [row.name for row in book.artefacts() if row.kind == wanted]
    return own[0] if own else f"a {wanted} that is not in the register"
