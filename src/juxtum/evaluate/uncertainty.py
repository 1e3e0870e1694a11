"""The budget of uncertainty of one value (GUM, JCGM 100)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.evaluate.instrument import Environment, Instrument

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
class Chain:
    """Everything that adds to the uncertainty but the data themselves."""

    instrument: Instrument
    environment: Environment

    def budget(self, length: float, sampling: float, alignment: float, count: int) -> Budget:
        """The budget of a distance from the nominal.

        Parameters
        ----------
        length : float
            Over which the value was measured: from the middle of the alignment to the place, mm.
        sampling, alignment : float
            Standard uncertainties, mm.
        count : int
            Points behind the value.
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
        return Budget(tuple(lines))
