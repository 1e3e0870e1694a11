"""The budget of uncertainty of one value (GUM, JCGM 100)."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import Enum
from functools import cached_property

import numpy as np

from juxtum.align import Alignment
from juxtum.geometry.arrays import Floats, Ints
from juxtum.instruments.circumstances import NO_INSTRUMENT, Circumstances
from juxtum.instruments.stated import Environment, Instrument

CONFIDENCE = 0.9545
"""Share of a normal distribution within two standard deviations: that of k = 2."""


MANY = 200.0
"""With so many degrees of freedom k is 2 to the second decimal."""


class LineOrigin(Enum):
    """Whence a line of a budget comes."""

    DATA = "data"
    """Of the points themselves, so that drawing them anew draws it too."""
    LIMIT = "limit"
    """Of a limit within which any error is as likely as another: rectangular (GUM 4.3.7)."""
    STATED = "stated"
    """Of a standard uncertainty that somebody stated."""


@dataclass(frozen=True)
class Contribution:
    """One line of a budget.

    Parameters
    ----------
    source : str
        In words.
    standard : float
        Its standard uncertainty, mm.
    freedom : float
        Degrees of freedom with which that is known; few where it was estimated from few data.
    origin : LineOrigin
        What a simulation draws it from.
    """

    source: str
    standard: float
    freedom: float = np.inf
    origin: LineOrigin = LineOrigin.STATED


@dataclass(frozen=True)
class Budget:
    """All lines of one value's uncertainty.

    Parameters
    ----------
    is_known : bool
        Whether all of it is known; without an instrument it is not, and the uncertainty is NaN.
    widening : float
        By how much k is larger since the value is the length of an offset, see `of_offset`.
    """

    contributions: tuple[Contribution, ...]
    is_known: bool = True
    widening: float = 1.0

    @property
    def standard(self) -> float:
        """Combined standard uncertainty, mm."""
        return float(np.sqrt(sum(c.standard**2 for c in self.contributions))) if self.is_known else float("nan")

    @cached_property
    def k(self) -> float:
        """Coverage factor for 95.45 %: 2, and more where what counts most was estimated from few data (GUM G.4.1), or of a short offset."""
        from scipy.special import stdtrit

        standard = self.standard
        poor = sum(c.standard**4 / c.freedom for c in self.contributions if np.isfinite(c.freedom))
        if not self.is_known or poor <= 0 or standard <= 0:
            return 2.0 * self.widening
        freedom = max(standard**4 / poor, 1.0)
        return self.widening * (2.0 if freedom > MANY else float(stdtrit(freedom, (1 + CONFIDENCE) / 2)))

    @property
    def expanded(self) -> float:
        """Expanded uncertainty, mm."""
        return self.k * self.standard

    def of_offset(self, length: float, ways: int, among: int = 1) -> Budget:
        """The budget of a value that is the length of an offset, which can lie in so many ways across each other.

        Each of its parts is as unsure as the budget says. What lies off by chance alone then has a length, and only ever a
        positive one: of an axis that is where it was drawn, in 95.45 % of all cases within 2.49 standard uncertainties, not 2
        (Rayleigh; of a centre 2.83). Of a long offset the way along it alone counts, and k comes down to 2 with its square.

        Parameters
        ----------
        length : float
            The value, mm.
        ways : int
            2 of an axis, 3 of a centre; 1 where the value is no such length.
        among : int
            The longest of so many that are alike.

        Examples
        --------
        >>> budget = Budget((Contribution("sampling", 0.01),))
        >>> round(budget.of_offset(0.0, 2).k, 2), round(budget.of_offset(0.5, 2).k, 2), budget.of_offset(0.0, 1).k
        (2.49, 2.0, 2.0)
        """
        from scipy.special import chdtri

        standard = self.standard
        if ways < 2 or not self.is_known or standard <= 0:
            return self
        short = float(np.sqrt(chdtri(ways, 1 - CONFIDENCE ** (1 / among))))
        factor = 2 + (short - 2) * min(1.0, short * standard / max(abs(length), 1e-12)) ** 2
        return replace(self, widening=factor / 2)

    def counted(self, times: float, *, data: bool) -> Budget:
        """The budget of a value that has the error of a length so many times: a position is twice what lies off, a run-out the difference of two lengths.

        Parameters
        ----------
        data : bool
            Whether the lines that come of the data are of a single length as well; they may be counted already.
        """
        if times == 1:
            return self
        words = "twice" if times == 2 else f"{times:.2g} times"
        lines = (
            replace(c, source=f"{c.source}, {words}", standard=times * c.standard)
            if data or c.origin is not LineOrigin.DATA
            else c
            for c in self.contributions
        )
        return replace(self, contributions=tuple(lines))

    @property
    def usable(self) -> float:
        """Expanded uncertainty for a decision, mm; nothing where it is not known, and then nothing is decided."""
        return self.expanded if self.is_known else 0.0


@dataclass(frozen=True)
class Sampling:
    """What the data behind a value leave open.

    Parameters
    ----------
    standard : float
        Standard uncertainty, mm.
    count : int
        Points behind the value.
    freedom : float
        Degrees of freedom with which it was estimated.
    """

    standard: float
    count: int
    freedom: float = np.inf

    @property
    def contribution(self) -> Contribution:
        """As a line of a budget."""
        return Contribution(f"sampling, {self.count} points", self.standard, self.freedom, LineOrigin.DATA)


@dataclass(frozen=True)
class CoatLayer:
    """A coat that was on the part while it was scanned.

    Parameters
    ----------
    faces : tuple of int
        Numbers of the faces it was on; all of them when empty.
    thickness, spread : float
        Of the layer and half its spread, mm.
    """

    faces: tuple[int, ...]
    thickness: float
    spread: float

    def is_on(self, face: int) -> bool:
        """Whether a face (by number) was coated."""
        return not self.faces or face in self.faces

    def thickness_on(self, faces: Ints) -> Floats:
        """Thickness (N,) on faces (N,) by index from 0, mm."""
        coated = (
            np.isin(faces, np.array(self.faces, dtype=np.int64) - 1) if self.faces else np.ones(len(faces), dtype=bool)
        )
        return np.where(coated, self.thickness, 0.0)


@dataclass(frozen=True)
class Handling:
    """What was done to a scan before it was measured, as standard uncertainties in mm; 0 where nothing was.

    Parameters
    ----------
    joining : float
        Along an axis, of where the scans lie that it is joined of.
    working : float
        Of where its surface lies after it was smoothed or thinned.
    """

    joining: float = 0.0
    working: float = 0.0

    @property
    def lines(self) -> list[Contribution]:
        """What there is of both."""
        named = (("joining of the scans", self.joining), ("smoothing and thinning", self.working))
        return [Contribution(name, standard) for name, standard in named if standard > 0]


@dataclass(frozen=True)
class Chain:
    """Everything that adds to the uncertainty but the data themselves.

    Parameters
    ----------
    instrument : Instrument, optional
        None when nobody stated it.
    handling : Handling
    """

    instrument: Instrument | None
    environment: Environment
    coats: tuple[CoatLayer, ...] = ()
    handling: Handling = Handling()

    @classmethod
    def of(cls, circumstances: Circumstances, handling: Handling | None = None) -> Chain:
        """What a measurement's circumstances add."""
        coats = tuple(CoatLayer(c.faces, c.thickness, c.spread) for c in circumstances.coats_on)
        return cls(circumstances.instrument, circumstances.environment, coats, handling or Handling())

    def thickness_on(self, faces: Ints) -> Floats:
        """Thickness of all coats (N,) on faces (N,) by index from 0, mm."""
        return np.sum([coat.thickness_on(faces) for coat in self.coats], axis=0) if self.coats else np.zeros(len(faces))

    def budget(self, length: float, sampling: Sampling, alignment: float, face: int = 0) -> Budget:
        """The budget of a distance from the nominal.

        Parameters
        ----------
        length : float
            Over which the value was measured, mm; see `measured_length`.
        sampling : Sampling
            Of the data themselves.
        alignment : float
            Standard uncertainty of where the part lies, at that place, mm.
        face : int
            Number of the face it is on; 0 where that does not matter.
        """
        lines = [
            *self._instrument_lines(length),
            sampling.contribution,
            Contribution("alignment", alignment, origin=LineOrigin.DATA),
        ]
        lines += [self._temperature_line(length), *self._coat_lines(face), *self.handling.lines]
        return Budget(tuple(lines), self.instrument is not None)

    def form_budget(self, length: float, sampling: Sampling, face: int) -> Budget:
        """The budget of a form within a face: neither where the part lies nor its temperature matters.

        Parameters
        ----------
        length : float
            From one end of the face to the other, mm.
        face : int
            Number of the face.
        """
        worked = Handling(working=self.handling.working).lines
        lines = (*self._instrument_lines(length), sampling.contribution, *self._coat_lines(face), *worked)
        return Budget(lines, self.instrument is not None)

    def _coat_lines(self, face: int) -> list[Contribution]:
        """Half the spread of a coat counts as rectangular (GUM 4.3.7); the thickness itself is taken off the value."""
        on = [coat for coat in self.coats if face and coat.is_on(face)]
        return [
            Contribution(
                f"coat {1000 * c.thickness:.0f} \u00b1 {1000 * c.spread:.0f} \u00b5m",
                c.spread / np.sqrt(3),
                origin=LineOrigin.LIMIT,
            )
            for c in on
        ]

    def _instrument_lines(self, length: float) -> list[Contribution]:
        instrument = self.instrument
        if instrument is None:
            return [Contribution(NO_INSTRUMENT, float("nan"))]
        words = f"instrument {instrument.a:.3f} + {instrument.b:.3f} L/m, L = {length:.0f} mm"
        lines = [Contribution(words, instrument.length_error(length) / np.sqrt(3), origin=LineOrigin.LIMIT)]
        if instrument.repeatability > 0:
            lines.append(Contribution("repeatability of the instrument", instrument.repeatability))
        if instrument.certificate_u > 0:
            name = instrument.certificate or "certificate"
            lines.append(Contribution(f"certificate {name}", instrument.certificate_u / instrument.certificate_k))
        return lines

    def _temperature_line(self, length: float) -> Contribution:
        room = self.environment
        if room.temperature is None:
            return Contribution("temperature not stated", 0.0)
        expansion = 1e-6 * room.expansion
        heat = np.hypot(
            room.expansion_u * 1e-6 * length * abs(room.temperature - 20.0), expansion * length * room.temperature_u
        )
        return Contribution(f"temperature {room.temperature:.1f} \u00b0C", float(heat))


def measured_length(alignment: Alignment, place: Floats, bounds: Floats) -> float:
    """Over which length a place of the part is measured, mm.

    From the datum features to the place where datums made the frame; from the middle of the data where a fit of all
    of it did; and, where the frame was given, from the farthest end of the part, since nobody knows from where.
    """
    if alignment.anchors is not None:
        return float(np.linalg.norm(alignment.anchors - place, axis=1).max())
    if alignment.method == "none":
        return float(np.linalg.norm(np.maximum(np.abs(bounds[0] - place), np.abs(bounds[1] - place))))
    return float(np.linalg.norm(place - alignment.centre))
