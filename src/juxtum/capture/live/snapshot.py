"""What a window shows of a capture at one moment: made where the capture runs, only read elsewhere."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.capture.kept.document import CapturedPatch
from juxtum.capture.live.counting import TOO_BRIGHT, TOO_DARK
from juxtum.capture.live.coverage import Seen
from juxtum.capture.live.dial import DialReading, read_dial
from juxtum.capture.live.next_view import NextView
from juxtum.capture.live.patch import State
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.live.sieve import cut_plane
from juxtum.devices.surface import USUAL
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.instruments.models import Mode

SHOWN_POINTS = 400
SIMULATED = "simulated"
"""What a stand-in is called, wherever it is shown."""


@dataclass(frozen=True)
class PatchRow:
    """One line of the list of patches."""

    number: int
    position: int
    mode: str
    points: int
    seconds: float
    held: float
    has_jumped: bool
    is_running: bool
    zone: bool

    @classmethod
    def of_kept(cls, patch: CapturedPatch) -> PatchRow:
        """The line of a patch that a job keeps."""
        return cls(
            patch.number, patch.position, patch.mode, patch.points, patch.seconds, patch.held,
            has_jumped=False, is_running=False, zone=False,
        )  # fmt: skip


@dataclass(frozen=True, eq=False)
class Snapshot:
    """A moment.

    Parameters
    ----------
    seen : array (C,)
        What there is of each cell, values of `Seen`.
    points : array (N, 3)
        Some of the last frame's points, part coordinates; empty until the part is recognised.
    coverage, one_pass : float
        Shares of the measured area, 0 to 1.
    """

    state: State
    why: str
    dial: DialReading
    mode: Mode
    exposure: int
    targets: int
    needed: int
    rate: float
    coverage: float
    one_pass: float
    goal: float
    seconds: float
    expected_seconds: float
    memory: float
    memory_limit: float
    points_taken: int
    patches: tuple[PatchRow, ...]
    position: int
    is_recognised: bool
    seen: Ints
    points: Floats
    view: NextView | None
    dark: float
    bloomed: float
    news: tuple[str, ...]
    device: str = ""
    """What it calls itself, and that it is simulated where it is."""
    kept: Bools | None = None
    """Which of `points` the sieve keeps; None before there are any."""
    left_out: int = 0
    cut: Floats | None = None
    """Corners (4, 3) of the plane below which nothing is kept, part coordinates; None where nothing is cut."""
    is_preview: bool = False
    station: int = -1
    """Of the tracker, where one follows the scanner and knows where it stands."""

    @property
    def exposure_words(self) -> str:
        """What to do about the light."""
        if self.bloomed > TOO_BRIGHT:
            return "too bright"
        return "too dark" if self.dark > TOO_DARK else "light is good"


def _cut_of(session: CaptureSession) -> Floats | None:
    if session.sieve.cut is None:
        return None
    move, bounds = session.laid[min(session.position, len(session.laid) - 1)]
    return cut_plane(session.sieve.cut, bounds, move)


def take_snapshot(session: CaptureSession, view: NextView | None) -> Snapshot:
    """How a session stands now."""
    last = session.last
    points, kept = np.empty((0, 3)), None
    if last is not None and len(last.points) and session.map.to_part is not None and last.pose is not None:
        some = last.points[:: max(1, len(last.points) // SHOWN_POINTS)]
        points = session.map.to_part.apply(last.pose.apply(some["place"]))
        kept = session.passed(some, last.pose)
    expected = session.planner.plan.expected
    rows = tuple(
        PatchRow(
            p.number,
            p.position,
            p.mode,
            len(p.store),
            p.seconds,
            p.held / max(p.frames, 1),
            p.has_jumped,
            p is session.current,
            p.zone is not None,
        )
        for p in session.patches
    )
    needs = session.planner.model.targets
    return Snapshot(
        state=session.state, why=session.why, device=", ".join(w for w in (session.device, SIMULATED if session.is_simulated else "") if w),
        dial=read_dial(session.mode, last.stand_off if last is not None else None), mode=session.mode,
        exposure=last.exposure if last is not None else USUAL, targets=last.targets if last is not None else 0, needed=needs.least if needs is not None else 0,
        rate=session.rate, coverage=session.coverage.share(), one_pass=session.coverage.share(Seen.ONE_PASS),
        goal=session.goal, seconds=session.seconds,
        expected_seconds=60 * expected.minutes if expected is not None else 0.0, memory=session.budget.used, memory_limit=session.budget.limit,
        points_taken=session.points, patches=rows, position=session.position, is_recognised=session.map.to_part is not None,
        seen=frozen(session.coverage.seen.copy(), np.int8), points=frozen(points), view=view,
        dark=last.dark if last is not None else 0.0, bloomed=last.bloomed if last is not None else 0.0,
        kept=kept, left_out=session.left_out, cut=_cut_of(session), is_preview=session.sieve.is_preview,
        station=session.stations.station if session.stations is not None and session.state is not State.MOVED else -1,
        news=tuple(f"{h.word}: {h.why}" if h.why else h.word for h in session.happenings[-4:] if h.word != "target found"),
    )  # fmt: skip
