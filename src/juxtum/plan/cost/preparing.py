"""Before the capture: what a surface needs, how long a part soaks, what a coat does to the uncertainty."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.instruments.coats import COATS, Coat
from juxtum.instruments.models import Mode
from juxtum.plan.blind import Finish
from juxtum.plan.task import UNKNOWN_CAPACITY

HEAT_TRANSFER = 9.0
"""To still air by convection and radiation, W/(m2 K)."""
RUB_MARGIN = 15.0
"""Fingers take a coat off so far around where they held the part, mm."""


@dataclass(frozen=True)
class SurfaceAdvice:
    """What to do about faces of one finish.

    Parameters
    ----------
    exposure : str
        What to do with the exposure.
    coats : tuple of Coat
        That would do, the one that disturbs the measurement least first.
    needs_coat : bool
        Whether there is no way without.
    """

    finish: Finish
    faces: tuple[int, ...]
    exposure: str
    coats: tuple[Coat, ...]
    needs_coat: bool
    words: str


def surface_advice(finishes: dict[int, Finish], mode: Mode, other: Mode | None = None) -> tuple[SurfaceAdvice, ...]:
    """Advice for every finish that is not matt.

    Parameters
    ----------
    other : Mode, optional
        A mode of the same instrument that copes with dark and glossy faces.
    """
    coats = tuple(sorted((c for name, c in COATS.items() if name != "none"), key=lambda c: (c.thickness, c.drying)))
    found = []
    for finish in Finish:
        faces = tuple(sorted(f for f, kind in finishes.items() if kind is finish))
        if faces and finish is not Finish.MATT:
            found.append(SurfaceAdvice(finish, faces, *_ways(finish, mode, other, coats)))
    return tuple(found)


def _ways(
    finish: Finish, mode: Mode, other: Mode | None, coats: tuple[Coat, ...]
) -> tuple[str, tuple[Coat, ...], bool, str]:
    if finish in (Finish.MIRROR, Finish.CLEAR):
        return "no exposure helps", coats, True, f"coat: {coats[0].name}; or probe"
    exposure = (
        "raise it by two or three" if finish is Finish.DARK else "lower it and come in at an angle, away from the glare"
    )
    if mode.dark:
        return exposure, coats, False, f"'{mode.name}' copes without a coat"
    if other is not None:
        return exposure, coats, False, f"use '{other.name}', or coat: {coats[0].name}"
    return exposure, coats, False, f"{exposure}, or coat: {coats[0].name}"


def coat_uncertainty(coat: Coat) -> float:
    """Standard uncertainty that a coat brings to a coated surface, mm: half its spread, rectangular (GUM 4.3.7).

    Examples
    --------
    >>> round(coat_uncertainty(COATS["powder"]), 4)
    0.0046
    """
    return float(coat.spread / np.sqrt(3))


def soak_minutes(
    mass: float, area: float, difference: float, allowed: float = 0.5, capacity: float = UNKNOWN_CAPACITY
) -> float:
    """Minutes until a part is within `allowed` kelvin of the room.

    A lumped body in still air cools by exp(-t/tau) with tau = m c / (h A); good while heat runs faster inside the
    part than away from it, as in metal parts of these sizes.

    Parameters
    ----------
    mass : float
        kg.
    area : float
        Surface, mm2.
    difference : float
        Between part and room, kelvin, of either sign.
    capacity : float
        Specific heat of the material, J per kg and kelvin.

    Examples
    --------
    >>> round(soak_minutes(10.0, 4e5, 8.0))
    64
    """
    if abs(difference) <= allowed:
        return 0.0
    tau = mass * capacity / (HEAT_TRANSFER * area * 1e-6)
    return float(tau * np.log(abs(difference) / allowed) / 60)


@dataclass(frozen=True)
class CoatWindow:
    """When a coat may be scanned: minutes since midnight, from when it is dry until it is gone."""

    opens: float
    closes: float

    def left(self, now: float) -> float:
        """Minutes that are left."""
        return self.closes - now


def coat_window(coat: Coat, coated_at: float) -> CoatWindow:
    """The window of a coat put on at a time (minutes since midnight)."""
    return CoatWindow(coated_at + coat.drying, coated_at + coat.lasts)
