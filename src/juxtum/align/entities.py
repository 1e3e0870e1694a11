"""A frame from features of the scan itself: a plane becomes XY, a direction X, a point the origin; each may be turned round."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align.result import AXES, Alignment
from juxtum.associate.solve import Fit
from juxtum.errors import AlignmentError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, frozen, orthonormal_frame, unit
from juxtum.geometry.features import Cone, Cylinder, Feature, Opening, Plane, Sphere

SQUARE = 3.0
"""Degrees: what stands so square on the plane gives no direction in it."""
METHOD = "entities"


@dataclass(frozen=True, eq=False)
class Entities:
    """What makes the frame, as it was found in the scan.

    Parameters
    ----------
    level : Fit of a plane
        Becomes XY; its normal, out of the material, becomes Z.
    towards : Fit, optional
        Its axis or normal becomes X, as far as it lies in the plane.
    origin : Fit, optional
        A ball, or an axis where it meets the plane.
    down, back : bool
        Whether Z looks into the material, and whether X runs the other way.
    """

    level: Fit[Plane]
    towards: Fit[Feature] | None = None
    origin: Fit[Feature] | None = None
    down: bool = False
    back: bool = False


def entity_alignment(given: Entities) -> Alignment:
    """Lay a scan by its own features.

    Raises
    ------
    AlignmentError
        When the direction stands square on the plane, or the origin is no point.

    Examples
    --------
    >>> from juxtum.associate import fit_plane
    >>> corners = np.array([[0.0, 0, 5], [9, 0, 5], [9, 7, 5], [0, 7, 5]])
    >>> made = entity_alignment(Entities(fit_plane(corners, np.array([0.0, 0, 1]))))
    >>> made.transform.apply(corners)[:, 2].round(9).tolist(), made.locked["Rz"], made.notes[0]
    ([0.0, 0.0, 0.0, 0.0], '', 'free to turn about Z: no direction was named')
    """
    plane = given.level.feature
    up = -plane.normal if given.down else plane.normal
    across, turn = _across(given, up)
    place, slide = _origin(given, plane)
    notes = [note for note in (turn, slide) if note]
    rotation = np.stack([across, np.cross(up, across), up])
    transform = RigidTransform.from_parts(rotation, -rotation @ place)
    used = sum(fit.count for fit in (given.level, given.towards, given.origin) if fit is not None)
    locked = dict.fromkeys(AXES, "")
    locked |= {"Tz": "plane", "Rx": "plane", "Ry": "plane"}
    locked |= {"Rz": "direction"} if given.towards is not None else {}
    locked |= {"Tx": "origin", "Ty": "origin"} if given.origin is not None else {}
    return Alignment(
        transform, METHOD, given.level.rms, used, _covariance(given, across, up, place), frozen(np.zeros(3)), locked, tuple(notes),
        anchors=frozen(np.zeros((1, 3))),
    )  # fmt: skip


def _across(given: Entities, up: Floats) -> tuple[Floats, str]:
    """The direction of X in the scan's coordinates, and what has to be told of it."""
    if given.towards is None:
        # Any that lies in the plane: the scan's own X, unless that stands square on it.
        flat = _level(np.eye(3)[0], up)
        flat = _level(np.eye(3)[1], up) if flat is None else flat
        assert flat is not None
        return flat, "free to turn about Z: no direction was named"
    flat = _level(_direction(given.towards.feature), up)
    if flat is None:
        what = f"the {given.towards.feature.name} for X stands square on the plane, and gives no direction in it"
        raise AlignmentError(what, METHOD, "Name another one")
    return (-flat if given.back else flat), ""


def _direction(feature: Feature) -> Floats:
    if isinstance(feature, Sphere):
        raise AlignmentError("a ball has no direction", METHOD, "Name a plane, a cylinder or a cone for X")
    if isinstance(feature, Opening):
        return np.asarray(feature.along)
    return np.asarray(feature.normal if isinstance(feature, Plane) else getattr(feature, "axis"))  # noqa: B009


def _level(direction: Floats, up: Floats) -> Floats | None:
    """A direction as far as it lies in the plane; none where it stands square on it."""
    flat = direction - float(direction @ up) * up
    return None if np.linalg.norm(flat) < np.sin(np.radians(SQUARE)) else np.asarray(unit(flat[None])[0])


def _origin(given: Entities, plane: Plane) -> tuple[Floats, str]:
    """Where the origin lies, on the plane, in the scan's coordinates; and what has to be told of it."""
    if given.origin is None:
        return plane.point, "free to slide in X and Y: no origin was named; it lies in the middle of the plane"
    feature = given.origin.feature
    if isinstance(feature, Sphere):
        return np.asarray(feature.point - plane.distances(feature.point[None])[0] * plane.normal), ""
    if isinstance(feature, Cylinder | Cone | Opening):
        slope = float(feature.axis @ plane.normal)
        if abs(slope) < np.sin(np.radians(SQUARE)):
            raise AlignmentError(
                "the axis for the origin lies along the plane, and does not meet it", METHOD, "Name another one"
            )
        along = float(plane.distances(feature.point[None])[0]) / slope
        return np.asarray(feature.point - along * feature.axis), ""
    raise AlignmentError(f"a {feature.name} is no point", METHOD, "Name a ball or a bore for the origin")


def _covariance(given: Entities, across: Floats, up: Floats, place: Floats) -> Floats:
    """Of three shifts and three turns about the origin, in part axes: each held by the feature that locks it."""
    level = np.diag(given.level.covariance)
    variances = np.zeros(6)
    lever = float(np.linalg.norm(place - given.level.feature.point))
    variances[3:5] = level[1:3].max()
    variances[2] = level[0] + lever**2 * variances[3]
    if given.towards is not None:
        variances[5] = _turned(given.towards, across, up)
    if given.origin is not None:
        variances[:2] = _shifted(given.origin, place)
    return frozen(np.diag(variances))


def _turned(towards: Fit[Feature], across: Floats, up: Floats) -> float:
    """Variance of a direction's turn in the plane, rad2: the steeper it stands to the plane, the less sure."""
    if isinstance(towards.feature, Opening):
        return float(towards.covariance[2, 2])
    direction, side = _direction(towards.feature), np.cross(up, across)
    flat = float(np.hypot(direction @ across, direction @ side))
    shares = orthonormal_frame(direction)[:2] @ side / max(flat, 1e-3)
    tilts = towards.feature.tilts
    return float(shares @ towards.covariance[tilts, tilts] @ shares)


def _shifted(origin: Fit[Feature], place: Floats) -> float:
    """Variance of where a ball or an axis lies, mm2: of an axis where it meets the plane, away from its middle."""
    spread = np.diag(origin.covariance)
    if isinstance(origin.feature, Sphere):
        return float(spread[:3].max())
    lever = float(np.linalg.norm(place - origin.feature.point))
    return float(spread[:2].max() + lever**2 * spread[origin.feature.tilts].max())
