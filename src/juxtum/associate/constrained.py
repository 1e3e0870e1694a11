"""Features that are not free: along or across a direction, or of a given radius."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.associate.seed import circle_seed, cylinder_seeds, plane_seed, sphere_seed
from juxtum.associate.solve import Fit, gauss
from juxtum.errors import FitError, InputError
from juxtum.geometry.arrays import Floats, orthonormal_frame, unit
from juxtum.geometry.features import Cylinder, Feature, Plane
from juxtum.geometry.transform import RigidTransform

KINDS = ("plane", "cylinder", "sphere")
"""What can be held."""


@dataclass(frozen=True, eq=False)
class Held:
    """What a feature must keep.

    Parameters
    ----------
    direction : array (3,), optional
        Another feature's axis or normal.
    across : bool
        Whether its own axis or normal stands square to that direction; otherwise it lies along it.
    radius : float, optional
        mm.
    told : str
        The same in words.
    """

    direction: Floats | None = None
    across: bool = False
    radius: float | None = None
    told: str = ""


@dataclass(frozen=True, eq=False)
class _Reduced(Feature):
    """A feature whose steps are only those that keep what is held."""

    inner: Feature
    held: Held

    @property
    def name(self) -> str:  # type: ignore[override]
        return self.inner.name

    @property
    def rows(self) -> int:  # type: ignore[override]
        return self.inner.rows

    @property
    def loose(self) -> tuple[str, str]:  # type: ignore[override]
        return self.inner.loose

    @property
    def least(self) -> int:  # type: ignore[override]
        count, left = self.basis().shape
        least: int = self.inner.least
        return max(1, least - int(count - left))

    @property
    def sizes(self) -> dict[str, float]:
        return self.inner.sizes

    def basis(self) -> Floats:
        """Steps of the feature (P, Q) that are left."""
        names = list(self.inner.sizes)
        count = self.inner.linearised(self.inner.point[None] + 1.0)[1].shape[1]
        keep = np.eye(count)
        gone = [count - len(names) + names.index("radius")] if self.held.radius is not None else []
        tilts = [count - len(names) - 2, count - len(names) - 1]
        if self.held.direction is not None:
            gone += tilts
        columns = [keep[:, k] for k in range(count) if k not in gone]
        if self.held.direction is not None and self.held.across:
            u, v, _ = orthonormal_frame(_direction(self.inner))
            along = np.zeros(count)
            along[tilts] = unit(np.array([-(v @ self.held.direction), u @ self.held.direction]))
            columns.append(along)
        if not columns:
            raise InputError("nothing of the feature is left to be found", "feature", "Hold less of it")
        return np.stack(columns, axis=1)

    def distances(self, points: npt.ArrayLike) -> Floats:
        return self.inner.distances(points)

    def linearised(self, points: Floats) -> tuple[Floats, Floats]:
        residuals, jacobian = self.inner.linearised(points)
        return residuals, jacobian @ self.basis()

    def stepped(self, step: Floats) -> _Reduced:
        return _reduced(self.inner.stepped(self.basis() @ step), self.held)

    def moved(self, transform: RigidTransform) -> _Reduced:
        way = self.held.direction
        turned = self.held if way is None else replace(self.held, direction=transform.turn(way))
        return _reduced(self.inner.moved(transform), turned)

    def anchored(self, place: Floats) -> _Reduced:
        return _reduced(self.inner.anchored(place), self.held)


def fit_held(kind: str, points: Floats, held: Held, start: Feature | None = None) -> Fit[Feature]:
    """The feature of a kind with the least sum of squared distances among those that keep what is held.

    Parameters
    ----------
    kind : str
        "plane", "cylinder" or "sphere".
    points : array (N, 3)
        mm.
    start : Feature, optional
        Near the answer; from the points themselves where there is none.

    Raises
    ------
    InputError
        For another kind, or where what is held does not go with it.
    FitError
        With too few points, or points that leave it free.

    Examples
    --------
    >>> corners = np.array([[0.0, 0, 5], [9, 0, 5.2], [9, 7, 5.2], [0, 7, 5]])
    >>> made = fit_held("plane", corners, Held(np.array([0.0, 0, 1])))
    >>> np.abs(made.feature.normal).tolist(), round(float(made.feature.point[2]), 9)
    ([0.0, 0.0, 1.0], 5.1)
    """
    points = np.asarray(points, dtype=np.float64)
    _check(kind, points, held)
    begun = _reduced(start if start is not None and start.name == kind else _start(kind, points, held), held)
    fit = gauss(begun, points)
    inner, basis = fit.feature.inner, fit.feature.basis()
    return Fit(inner, fit.count, fit.rms, fit.form, basis @ fit.covariance @ basis.T)


def _check(kind: str, points: Floats, held: Held) -> None:
    if kind not in KINDS:
        raise InputError(f"a {kind} cannot be held", "feature", f"Choose of {', '.join(KINDS)}")
    if held.direction is not None and kind == "sphere":
        raise InputError("a sphere has no direction that could be held", "feature", "Hold its radius, or nothing")
    if held.radius is not None and kind == "plane":
        raise InputError("a plane has no radius that could be held", "feature", "Hold its direction, or nothing")
    if held.radius is not None and not 0 < held.radius < 1e6:
        raise InputError(f"a radius of {held.radius:g} mm cannot be held", "feature", "Give one above zero")
    if len(points) == 0:
        raise FitError(f"no points do not make a {kind}", next="Take some")


def _direction(feature: Feature) -> Floats:
    return np.asarray(feature.normal if isinstance(feature, Plane) else getattr(feature, "axis"))  # noqa: B009


def _reduced(inner: Feature, held: Held) -> _Reduced:
    """With what is held kept to the last digit."""
    changes: dict[str, Any] = {}
    if held.direction is not None:
        mine, way = _direction(inner), unit(held.direction)
        if held.across:
            level = mine - (mine @ way) * way
            if np.linalg.norm(level) < 1e-3:
                level = orthonormal_frame(way)[0]
            aimed = unit(level)
        else:
            aimed = way if mine @ way >= 0 else -way
        changes["normal" if isinstance(inner, Plane) else "axis"] = aimed
    if held.radius is not None:
        changes["radius"] = held.radius
    made = replace(inner, **changes) if changes else inner
    return _Reduced(made.point, made, held)


def _start(kind: str, points: Floats, held: Held) -> Feature:
    middle = points.mean(0)
    if kind == "sphere":
        return sphere_seed(points)
    if kind == "plane":
        if len(points) >= Plane.least:
            return plane_seed(points)
        return Plane(
            middle, held.direction if held.direction is not None and not held.across else np.array([0.0, 0, 1])
        )
    if held.direction is not None and not held.across:
        way = Plane(middle, held.direction)
        circle = circle_seed(points, way)
        return Cylinder(circle.point, held.direction, circle.radius)
    return cylinder_seeds(points)[0]
