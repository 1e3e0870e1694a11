"""A structured-light head before its turntable: shot after shot, each laid onto those before it, as patches of a capture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.capture.live.patch import Patch
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.ways.turns import TurnedShot, TurnedShots
from juxtum.devices.link import Link, ask
from juxtum.devices.protocol import DeviceError, Message
from juxtum.geometry import RigidTransform
from juxtum.instruments.models import InstrumentModel, Kind, shipped
from juxtum.plan.planner import Planner
from juxtum.plan.turntable import TurntablePlan, laid_down
from juxtum.progress import Progress, silent

PATIENCE = 120.0
LITTLE = 0.3
"""Less overlap than this, as a share of a shot, ties it loosely."""


@dataclass(frozen=True)
class TurnStop:
    """A shot that is planned: the position of the part on the table, and how far the table is turned, degrees."""

    position: int
    degrees: float


@dataclass(frozen=True, eq=False)
class TurnShotFacts:
    """What became of a shot."""

    stop: TurnStop
    patch: int
    points: int
    overlap: float
    rms: float
    dark: float
    bloomed: float

    @property
    def words(self) -> str:
        """The verdict in words."""
        if self.dark > 0.4:
            return "too dark: more light"
        if self.bloomed > 0.3:
            return "too bright: less light"
        return "ties loosely to those before it" if 0 < self.overlap < LITTLE else "good"


class TurnRun:
    """The planned turns of a part on a table, taken one by one.

    Parameters
    ----------
    session : CaptureSession
        Takes the shots as patches. The table tells where the part is: no target is needed.
    plan : TurntablePlan
    """

    def __init__(self, session: CaptureSession, plan: TurntablePlan, model: InstrumentModel | None = None) -> None:
        self.session, self.plan = session, plan
        self.model = model or shipped(Kind.HEAD)
        self._moves = laid_down(session.planner.nominal, plan.tilts)
        self.stops = tuple(
            TurnStop(position, 360 * k / plan.steps) for position in range(len(self._moves)) for k in range(plan.steps)
        )
        self.facts: list[TurnShotFacts] = []
        self._held = TurnedShots(self._floor(0))
        session.mode = self.model.modes[0]
        session.map.locate(RigidTransform.identity())

    @property
    def next_stop(self) -> TurnStop | None:
        """The shot that comes next; None when all are taken."""
        return self.stops[len(self.facts)] if len(self.facts) < len(self.stops) else None

    @property
    def turns_over(self) -> bool:
        """Whether the part must be laid on its other side before the next shot."""
        stop = self.next_stop
        return stop is not None and bool(self.facts) and stop.position != self.facts[-1].stop.position

    def shoot(self, link: Link) -> TurnShotFacts:
        """Take the next shot.

        Raises
        ------
        DeviceError
            When all are taken, or the head refuses.
        """
        stop = self.next_stop
        if stop is None:
            raise DeviceError("all planned shots are taken", "turntable", "Discard one to take it again")
        ask(link, Message("position", {"number": stop.position}), "done")
        ask(link, Message("spacing", {"mm": self.session.spacing}), "done")
        ask(link, Message("turn", {"degrees": stop.degrees}), "done")
        frame = ask(link, Message("shoot"), "frame", PATIENCE)
        self._held.lay(self._floor(stop.position))
        shot = self._held.take(frame, RigidTransform(frame.vector("pose", 16).reshape(4, 4)))
        patch = self._keep(frame, shot, stop)
        facts = TurnShotFacts(
            stop,
            patch.number,
            len(shot.places),
            shot.overlap,
            shot.rms,
            frame.number("dark", 0.0),
            frame.number("bloomed", 0.0),
        )
        self.facts.append(facts)
        return facts

    def shoot_all(self, link: Link, progress: Progress | None = None) -> None:
        """Take what is left of the turn; the part is not turned over by itself."""
        progress = progress or silent()
        stop = self.next_stop
        position = stop.position if stop is not None else -1
        while (stop := self.next_stop) is not None and stop.position == position:
            progress.phase(f"shot {len(self.facts) + 1} of {len(self.stops)}", len(self.facts) / len(self.stops))
            progress.check()
            self.shoot(link)

    def discard_last(self) -> None:
        """Let the last shot go, to take it again."""
        if self.facts:
            self.session.discard(self.facts.pop().patch)
            self._held.shots.pop()

    def _keep(self, frame: Message, shot: TurnedShot, stop: TurnStop) -> Patch:
        """A shot as a patch of its own, where its overlap with the others puts it."""
        session = self.session
        session.position = stop.position
        patch = session.begin()
        pose = shot.move @ RigidTransform(frame.vector("pose", 16).reshape(4, 4))
        fields = {**frame.fields, "pose": [float(v) for v in pose.matrix.ravel()], "time": session.time}
        fields["state"] = "tracking"
        session.take(Message("frame", fields, frame.payload))
        if len(patch.store) == 0:
            session.accept()
            raise DeviceError(
                "the head sees nothing of the part", "turntable", "Check the light, and that the part stands before it"
            )
        session.accept()
        # Frames are counted by a few of their points; a shot is one whole frame.
        session.recount(patch)
        assert self.model.turntable is not None
        patch.seconds = self.model.turntable.seconds_per_step
        return patch

    def _floor(self, position: int) -> tuple[np.ndarray, np.ndarray]:
        """A place on the table and its upright, part coordinates."""
        back = self._moves[position].inverse
        return back.apply(np.zeros((1, 3)))[0], back.turn(np.array([[0.0, 0, 1]]))[0]


def begin_turns(planner: Planner, memory: float, progress: Progress | None = None) -> TurnRun:
    """Plan the turns and prepare a session for them.

    Raises
    ------
    InputError
        When the part does not fit on the table.
    """
    progress = progress or silent()
    plan = planner.turntable(progress=progress.part(0, 0.6))
    progress.phase("preparing the capture", 0.6)
    low, high = shipped(Kind.HEAD).modes[0].spacing
    spacing = float(np.clip(planner.spacing(), max(low, planner.nominal.diagonal / 600), high))
    return TurnRun(CaptureSession(planner, memory, spacing), plan)
