"""A patch of free form: the drawn surface itself, laid onto what was scanned of it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Self

import numpy as np
import numpy.typing as npt

from juxtum.align.best_fit import free_motions
from juxtum.associate.solve import Fit, gauss
from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, cross
from juxtum.geometry.features import Feature
from juxtum.geometry.registration import Pulls
from juxtum.geometry.transform import RigidTransform
from juxtum.nominal.projection import Projector
from juxtum.wording import listed

LIMIT = 20.0
"""Farther from the drawn surface nothing is looked for, mm."""
MOST = 4000
"""Points that lay it."""
FREE = 1e-3
"""A motion that moves the points out of the surface by less than this share of what others do is not taken from them."""


@dataclass(frozen=True, eq=False)
class FreeForm(Feature):
    """A drawn surface that was moved: `point` is a place on it; a step goes along the motions that are held.

    Parameters
    ----------
    move : RigidTransform
        From where it is drawn.
    drawn : Projector
        The nominal's surface.
    held : array (6, Q)
        Shifts along the axes and turns about them through its place that a step is made of.
    """

    move: RigidTransform
    drawn: Projector
    held: Floats = field(default_factory=lambda: np.eye(6))

    name: ClassVar[str] = "free form"
    least: ClassVar[int] = 6
    loose: ClassVar[tuple[str, str]] = ("its shape leaves it free", "Take more of it, or another kind")

    def _at(self, points: npt.ArrayLike) -> tuple[Floats, Floats]:
        """Signed distances (N,) and directions (N, 3) out of the surface as it lies; nothing for what lies far off it."""
        found = self.drawn.project(self.move.inverse.apply(np.asarray(points, dtype=float)), limit=LIMIT)
        there = np.isfinite(found.distances)
        return np.where(there, found.distances, 0.0), self.move.turn(np.where(there[:, None], found.normals, 0.0))

    def distances(self, points: npt.ArrayLike) -> Floats:
        """Signed distances (N,), positive outside."""
        return self._at(points)[0]

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        """Distances from the surface."""
        off, out = self._at(points)
        return off, np.concatenate([-out, -cross(np.asarray(points) - self.point, out)], axis=1) @ self.held

    @property
    def shift(self) -> Floats:
        """By how much its place (3,) was moved, mm."""
        return np.asarray(self.point - self.move.inverse.apply(self.point))

    def stepped(self, step: Floats) -> Self:
        """After some of each motion that is held."""
        return self.moved(RigidTransform.about(self.point, self.held @ step))

    def moved(self, transform: RigidTransform) -> Self:
        """The feature after a rigid motion."""
        return replace(self, point=transform.apply(self.point), move=transform @ self.move)


def fit_free_form(drawn: Projector, points: Floats) -> tuple[Fit[Any], str]:
    """The drawn surface laid onto points (N, 3) by least squares, and a note on what its shape leaves free.

    A patch of a sphere or a cylinder turns on itself: along such motions it stays as it is drawn.

    Returns
    -------
    Fit
        Its covariance (6, 6) is that of a shift along the axes and a turn about them, none along what is free.

    Raises
    ------
    InputError
        Where nothing of the nominal is near.
    FitError
        Where the points hold nothing.
    """
    some = points[:: max(1, len(points) // MOST)]
    start = FreeForm(some.mean(0), RigidTransform.identity(), drawn)
    off, out = start._at(some)
    if not out.any():
        raise InputError(f"nothing of the nominal lies within {LIMIT:g} mm of it", "feature", "Click where it is drawn")
    size = max(float(np.linalg.norm(np.ptp(some, axis=0))), 1e-9)
    pulls = Pulls(some, out, off)
    _, held, _ = pulls.motions(size, FREE)
    held = held * np.repeat([1, 1 / size], 3)[:, None]
    fit = gauss(replace(start, held=held), some)
    covariance = held @ fit.covariance @ held.T
    free = free_motions(pulls, size, FREE)
    note = f"{listed(list(free))} by its shape: there it stays as it is drawn" if free else ""
    return replace(fit, covariance=covariance), note
