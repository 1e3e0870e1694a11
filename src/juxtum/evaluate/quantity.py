"""Lines of the drawing, their limits, what was measured of them and what follows: the same for every kind."""

from __future__ import annotations

import math
from dataclasses import dataclass

from juxtum.evaluate.decision import Verdict
from juxtum.evaluate.uncertainty import Budget
from juxtum.geometry.arrays import Floats

UPPER, LOWER = "upper", "lower"


@dataclass(frozen=True)
class Limits:
    """What a quantity may be.

    Parameters
    ----------
    lower, upper : float, optional
        None where there is no limit on that side.
    nominal : float
    unit : str
        Of all three.

    Examples
    --------
    >>> Limits(-0.2, 0.3).room(0.25)
    0.04999999999999999
    """

    lower: float | None
    upper: float | None
    nominal: float = 0.0
    unit: str = "mm"

    def room(self, value: float) -> float:
        """How far a value lies inside the nearer limit; negative beyond it."""
        above = math.inf if self.upper is None else self.upper - value
        below = math.inf if self.lower is None else value - self.lower
        return min(above, below)

    @property
    def half_width(self) -> float:
        """Half of the zone, or the size of the only limit."""
        if self.lower is not None and self.upper is not None:
            return (self.upper - self.lower) / 2
        only = self.upper if self.upper is not None else self.lower
        return abs(only) if only is not None else math.inf


@dataclass(frozen=True)
class Line:
    """One line of the drawing.

    Parameters
    ----------
    id : str
        Its number, as people call it.
    kind : str
        What is measured, for example a profile of a surface.
    faces : tuple of int
        Numbers of the nominal faces; the whole part when empty.
    least_seen : float
        Share of its area (0 to 1) that must have been seen before it is decided.
    """

    id: str
    title: str
    kind: str
    limits: Limits
    faces: tuple[int, ...] = ()
    least_seen: float = 0.9
    tag: str = "profile"
    """Its kind as documents call it."""
    features: str = ""
    """As a drawing names them; empty where it is enough to name faces."""
    datums: str = ""
    """Letters of its own datums; empty where the alignment in force counts."""
    worst_counts: bool = True
    """Whether one place beyond its limits decides, however little else was seen; a size or a place of all that was seen does not."""


@dataclass(frozen=True)
class Aim:
    """A characteristic as planning sees it.

    Parameters
    ----------
    width : float
        Of the tolerance, in its unit.
    faces : tuple of int
        Numbers of the nominal faces; the whole part when empty.
    within : bool
        Whether it is measured within its own faces, as a form is, rather than from the datums.
    counts : float
        How many times its value has the error of a length: 2 where it is twice what lies off, as a position is.
    ways : (int, int)
        In how many ways across each other what is round, and what is flat, may lie off, where the value is the length of an offset.
    """

    id: str
    title: str
    width: float
    faces: tuple[int, ...] = ()
    within: bool = False
    unit: str = "mm"
    counts: float = 1.0
    ways: tuple[int, int] = (1, 1)

    def width_over(self, length: float) -> float:
        """Width of the tolerance, mm; of an angle what it makes over a length.

        Examples
        --------
        >>> Aim("1", "Cone", 0.5, unit="\N{DEGREE SIGN}").width_over(100.0)
        0.8726646259971648
        """
        return self.width if self.unit == "mm" else math.radians(self.width) * length


@dataclass(frozen=True, eq=False)
class SideMeasured:
    """What was measured on one side of a zone, and whether it conforms there.

    Parameters
    ----------
    side : str
        Upper or lower; another word where the kind has but one.
    value : float
        Extreme on that side; NaN when nothing was seen.
    place : array (3,), optional
        Where it lies.
    """

    side: str
    value: float
    budget: Budget
    place: Floats | None
    verdict: Verdict
    probability: float
    reason: str

    @property
    def expanded(self) -> float:
        """Expanded uncertainty."""
        return self.budget.expanded

    @property
    def words(self) -> str:
        """Which side of a zone with two it is; nothing where there is but one."""
        return f"{self.side} side" if self.side in (UPPER, LOWER) else ""


@dataclass(frozen=True, eq=False)
class Measured:
    """What was measured of a line: its sides, the data behind it, and what the value means in words."""

    sides: tuple[SideMeasured, ...]
    points: int
    area_seen: float
    meaning: str = ""
    bonus: float | None = None
    """What the size of the feature adds to the zone, mm; None where nothing may be added."""


@dataclass(frozen=True, eq=False)
class LineResult:
    """A line with what was measured of it and its verdict.

    Parameters
    ----------
    side : SideMeasured
        The worse one: its value is the line's.
    """

    line: Line
    measured: Measured
    side: SideMeasured
    verdict: Verdict
    probability: float
    reason: str

    @property
    def value(self) -> float:
        """Of the worse side."""
        return self.side.value

    @property
    def budget(self) -> Budget:
        """Of the worse side's value."""
        return self.side.budget

    @property
    def place(self) -> Floats | None:
        """Where the worse side's value lies (3,)."""
        return self.side.place

    @property
    def expanded(self) -> float:
        """Expanded uncertainty of the value."""
        return self.side.expanded

    @property
    def points(self) -> int:
        """Points behind it."""
        return self.measured.points

    @property
    def area_seen(self) -> float:
        """Share of its area with data, 0 to 1."""
        return self.measured.area_seen

    @property
    def k(self) -> float:
        """Coverage factor."""
        return self.side.budget.k

    @property
    def excess(self) -> float:
        """How far the value lies beyond its limit, in half widths of the zone; negative inside."""
        room = self.line.limits.room(self.value)
        return -room / max(self.line.limits.half_width, 1e-9) if math.isfinite(room) else -math.inf


_BADNESS = {Verdict.DOES_NOT_CONFORM: 2, Verdict.NOT_DECIDED: 1, Verdict.CONFORMS: 0}


def judged(line: Line, measured: Measured, objection: str, doubts: tuple[str, ...]) -> LineResult:
    """The verdict on a line from its sides, and from what forbids one.

    Parameters
    ----------
    objection : str
        Why nothing may be decided; empty when something may.
    doubts : tuple of str
        What forbids to say that it conforms, largest first.
    """
    side = max(measured.sides, key=lambda s: (_BADNESS[s.verdict], -_room(line, s)))
    known = [s.probability for s in measured.sides]
    probability = max(0.0, 1.0 - sum(1.0 - p for p in known)) if all(map(math.isfinite, known)) else float("nan")
    verdict, reason = side.verdict, side.reason
    if verdict is Verdict.CONFORMS and doubts:
        more = f"; {len(doubts) - 1} more such place{'s' if len(doubts) > 2 else ''}" if len(doubts) > 1 else ""
        verdict, reason = Verdict.NOT_DECIDED, doubts[0] + more
    undecided = {Verdict.CONFORMS} if line.worst_counts else {Verdict.CONFORMS, Verdict.DOES_NOT_CONFORM}
    if verdict in undecided and measured.area_seen < line.least_seen:
        verdict = Verdict.NOT_DECIDED
        reason = (
            f"only {100 * measured.area_seen:.0f} % of its area was seen, and {100 * line.least_seen:.0f} % must be"
        )
    if objection:
        verdict, reason = Verdict.NOT_DECIDED, objection
    return LineResult(line, measured, side, verdict, probability, reason)


def _room(line: Line, side: SideMeasured) -> float:
    return line.limits.room(side.value) if math.isfinite(side.value) else -math.inf
