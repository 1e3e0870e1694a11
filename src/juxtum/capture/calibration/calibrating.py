"""Guided calibration: which poses, how to get there, and what the observations say."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from juxtum.devices.artefacts import board_dots
from juxtum.devices.protocol import Message
from juxtum.errors import FitError, InputError
from juxtum.geometry.arrays import Floats
from juxtum.geometry.registration import rigid_from_pairs
from juxtum.instruments.models import InstrumentModel, Kind
from juxtum.nominal import Nominal
from juxtum.plan.turntable import symmetry_warnings

SHARE_OF_ERROR = 1 / 3
"""What a calibration may leave, of the instrument's own error."""
FRAMES = 4
"""Of the board at each pose; their mean counts."""
NEAR_ENOUGH = (12.0, 4.0)
"""A hand within so many mm and degrees of the wanted pose may take it."""


class CalibrationKind(StrEnum):
    """What is calibrated."""

    TRACKER = "tracker"
    SCANNER = "scanner"
    SYSTEM = "system"
    PHOTO = "photo set"
    TIP = "probe tip"
    BOARD = "turntable by board"
    SHAPE = "turntable by shape"


ORDER = {
    Kind.HANDHELD: (CalibrationKind.SCANNER,),
    Kind.TRACKED: (CalibrationKind.TRACKER, CalibrationKind.SCANNER, CalibrationKind.SYSTEM),
    Kind.HEAD: (CalibrationKind.SCANNER, CalibrationKind.BOARD),
    Kind.PHOTO: (CalibrationKind.PHOTO,),
    Kind.PROBE: (CalibrationKind.TIP,),
}
"""In which order; an earlier one that fails or is repeated makes the later ones void."""


@dataclass(frozen=True)
class HandPose:
    """How the scanner is held before the board: distance in mm, tilt forward and lean sideways in degrees."""

    distance: float
    tilt: float
    lean: float

    def towards(self, wanted: HandPose) -> str:
        """One or two words for the hand.

        Examples
        --------
        >>> HandPose(300, 0, 0).towards(HandPose(400, 0, 20)), HandPose(300, 1, 0).towards(HandPose(305, 0, 1))
        ('back off, lean right', 'hold')
        """
        words = []
        if abs(wanted.distance - self.distance) > NEAR_ENOUGH[0]:
            words.append("back off" if wanted.distance > self.distance else "closer")
        if abs(wanted.tilt - self.tilt) > NEAR_ENOUGH[1]:
            words.append("tilt up" if wanted.tilt > self.tilt else "tilt down")
        if abs(wanted.lean - self.lean) > NEAR_ENOUGH[1]:
            words.append("lean right" if wanted.lean > self.lean else "lean left")
        return ", ".join(words) or "hold"

    def is_at(self, wanted: HandPose) -> bool:
        """Whether it is near enough."""
        return self.towards(wanted) == "hold"


@dataclass(frozen=True)
class CalibrationResult:
    """What came out.

    Parameters
    ----------
    scale : float
        Correction of scale, per unit of length.
    value, limit : float
        What is left after it, and how much may be, mm.
    slope, slope_limit : float
        How sure the correction of scale is, k = 2, and how sure it has to be, per unit of length.
    """

    kind: CalibrationKind
    scale: float
    value: float
    limit: float
    words: str
    slope: float = 0.0
    slope_limit: float = np.inf

    @property
    def passed(self) -> bool:
        """Whether it is within the acceptance limits."""
        return self.value <= self.limit and self.slope <= self.slope_limit


def order_for(model: InstrumentModel) -> tuple[CalibrationKind, ...]:
    """What is to be calibrated, in the right order."""
    return ORDER.get(model.kind, ())


def check_kind(kind: CalibrationKind, nominal: Nominal | None) -> None:
    """See that a way of calibrating suits the part.

    Raises
    ------
    InputError
        By shape, when the part looks the same after a turn.
    """
    if kind is CalibrationKind.SHAPE and nominal is not None:
        found = symmetry_warnings(nominal)
        if found:
            raise InputError(
                "the part looks the same after a turn, so its shape does not tell how far the table turned",
                "turntable",
                "Use the board",
            )


def poses_for(model: InstrumentModel) -> tuple[HandPose, ...]:
    """Where to hold the scanner: near, far and tilted, so that scale and depth come apart."""
    near, best, far = model.modes[0].stand_off
    distances = (
        best,
        near + 0.15 * (best - near),
        far - 0.15 * (far - best),
        best,
        best,
        best,
        best,
        near + 0.5 * (best - near),
        far - 0.5 * (far - best),
    )
    leans = ((0, 0), (0, 0), (0, 0), (20, 0), (-20, 0), (0, 20), (0, -20), (12, 12), (-12, -12))
    return tuple(HandPose(round(d, 1), float(t), float(n)) for d, (t, n) in zip(distances, leans, strict=True))


def request(pose: HandPose) -> Message:
    """What is sent to see the board."""
    fields = {"distance": pose.distance, "tilt": pose.tilt, "lean": pose.lean, "frames": FRAMES}
    return Message("board", fields)


def solve_board(kind: CalibrationKind, answers: Sequence[Message], model: InstrumentModel) -> CalibrationResult:
    """Scale and what is left, from the board seen in several poses.

    Raises
    ------
    FitError
        With fewer than five poses.
    """
    if len(answers) < 5:
        raise FitError(f"{len(answers)} poses are too few to calibrate", kind.value, "Take at least five")
    known = board_dots()
    seen = [message.table("dots", 3) for message in answers]
    if any(len(dots) != len(known) for dots in seen):
        raise FitError("the board was not seen whole", kind.value, "Hold it so that all dots are in view")
    scales = np.array([_scale(dots, known) for dots in seen])
    scale = float(scales.mean())
    left = np.mean([_left(dots / (1 + scale), known) for dots in seen], axis=0)
    value, slope = float(np.sqrt(np.mean(left**2))), float(2 * scales.std(ddof=1) / np.sqrt(len(scales)))
    chain = model.chains[0]
    limit, slope_limit = SHARE_OF_ERROR * chain.a, SHARE_OF_ERROR * chain.b / 1000
    words = (
        f"scale {1e6 * scale:+.0f} \u00b1 {1e6 * slope:.0f} \u00b5m/m, \u00b1 {1e6 * slope_limit:.0f} allowed; "
        f"{1000 * value:.1f} \u00b5m left on the board, {1000 * limit:.1f} allowed"
    )
    return CalibrationResult(kind, scale, value, limit, words, slope, slope_limit)


def _scale(dots: Floats, known: Floats) -> float:
    """How much larger the dots appear than they are (Umeyama 1991, scale alone)."""
    a, b = dots - dots.mean(0), known - known.mean(0)
    return float(np.sqrt((a**2).sum() / (b**2).sum()) - 1)


def _left(dots: Floats, known: Floats) -> Floats:
    """What a rigid motion leaves of each dot (N, 3): the noise of one pose goes away over several, the rest stays."""
    return np.asarray(rigid_from_pairs(dots, known).apply(dots) - known)


@dataclass(frozen=True)
class CheckResult:
    """A check on a certified bar: largest errors of size and length against the stated limits, mm."""

    size_error: float
    length_error: float
    size_limit: float
    length_limit: float

    @property
    def passed(self) -> bool:
        """Whether both are within."""
        return self.size_error <= self.size_limit and self.length_error <= self.length_limit

    @property
    def words(self) -> str:
        """As a person reads it."""
        return (
            f"size {1000 * self.size_error:.0f} \u00b5m of {1000 * self.size_limit:.0f}, "
            f"length {1000 * self.length_error:.0f} \u00b5m of {1000 * self.length_limit:.0f} allowed"
        )


def bar_requests(length: float, diameter: float, model: InstrumentModel) -> tuple[Message, ...]:
    """The bar in seven places and directions."""
    best = model.modes[0].stand_off[1]
    turns = ((0.0, 0.0), (0.0, 45.0), (0.0, 90.0), (30.0, 0.0), (-30.0, 0.0), (30.0, 60.0), (-30.0, -60.0))
    common = {"length": length, "diameter": diameter, "distance": best}
    return tuple(Message("bar", common | {"tilt": tilt, "lean": lean}) for tilt, lean in turns)


def evaluate_bar(
    answers: Sequence[Message], length: float, diameter: float, u: float, model: InstrumentModel
) -> CheckResult:
    """Errors of a bar measured in several places; the limits are those of the instrument and of the bar's certificate."""
    if not answers:
        raise FitError("the bar was not measured", "check", "Measure it in several places")
    ends = [message.table("ends", 3) for message in answers]
    lengths = np.array([np.linalg.norm(e[0] - e[1]) for e in ends])
    sizes = np.concatenate([np.asarray(message.fields.get("diameters", []), dtype=float) for message in answers])
    chain = model.chains[0]
    size_error = float(np.abs(sizes - diameter).max()) if diameter > 0 and len(sizes) else 0.0
    return CheckResult(size_error, float(np.abs(lengths - length).max()), chain.a + u, chain.error(length) + u)
