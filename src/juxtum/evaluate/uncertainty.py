"""The budget of uncertainty of one value (GUM, JCGM 100)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.evaluate.instrument import Environment, Instrument
from juxtum.geometry.arrays import Floats, Ints

COVERAGE = 2.0


@dataclass(frozen=True)
class Contribution:
    """One line of a budget: its source in words and its standard uncertainty in mm."""

    source: str
    standard: float


@dataclass(frozen=True)
class Budget:
    """All lines of one value's uncertainty."""

    contributions: tuple[Contribution, ...]

    @property
    def standard(self) -> float:
        """Combined standard uncertainty, mm."""
        return float(np.sqrt(sum(c.standard**2 for c in self.contributions)))

    @property
    def expanded(self) -> float:
        """Expanded uncertainty with k = 2, mm."""
        return COVERAGE * self.standard


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
        coated = np.isin(faces, np.array(self.faces, dtype=np.int64) - 1) if self.faces else np.ones(len(faces), dtype=bool)
        return np.where(coated, self.thickness, 0.0)


@dataclass(frozen=True)
class Chain:
    """Everything that adds to the uncertainty but the data themselves."""

    instrument: Instrument
    environment: Environment
    coat: CoatLayer | None = None

    def budget(self, length: float, sampling: float, alignment: float, count: int, face: int = 0) -> Budget:
        """The budget of a distance from the nominal.

        Parameters
        ----------
        length : float
            Over which the value was measured: from the middle of the alignment to the place, mm.
        sampling, alignment : float
            Standard uncertainties, mm.
        count : int
            Points behind the value.
        face : int
            Number of the face it is on; 0 where that does not matter.
        """
        instrument, room = self.instrument, self.environment
        warm = abs(room.temperature - 20.0)
        expansion = 1e-6 * room.expansion
        heat = np.hypot(room.expansion_u * 1e-6 * length * warm, expansion * length * room.temperature_u)
        lines = [
            Contribution(
                f"instrument {instrument.a:.3f} + {instrument.b:.3f} L/m, L = {length:.0f} mm",
                instrument.length_error(length) / np.sqrt(3),
            ),
            Contribution(f"sampling, {count} points", sampling),
            Contribution("alignment", alignment),
            Contribution(f"temperature {room.temperature:.1f} \u00b0C", float(heat)),
        ]
        if instrument.certificate_u > 0:
            name = instrument.certificate or "certificate"
            lines.append(Contribution(f"certificate {name}", instrument.certificate_u / instrument.certificate_k))
        if self.coat is not None and face and self.coat.is_on(face):
            # Half the spread counts as rectangular (GUM 4.3.7); the thickness itself is taken off the value.
            lines.append(Contribution(f"coat {1000 * self.coat.thickness:.0f} \u00b1 {1000 * self.coat.spread:.0f} \u00b5m", self.coat.spread / np.sqrt(3)))
        return Budget(tuple(lines))
