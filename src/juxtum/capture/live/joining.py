"""Where the part is, by its shape: for a position in which no target is known from the one before."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from juxtum.align import best_fit
from juxtum.align.best_fit import BestFitOptions
from juxtum.align.result import Alignment
from juxtum.capture.live.gearmap import GearMap
from juxtum.capture.live.patch import Patch
from juxtum.capture.live.points import normals_of, places_of
from juxtum.errors import AlignmentError
from juxtum.geometry import PointCloud, RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.nominal import Nominal
from juxtum.plan.targets.gear import Gear

LEAST_POINTS = 3000
MOST_POINTS = 12_000
NEAR = 25.0
"""A part put down by eye lies within this of where it should be, mm."""
ON_PLATE = 0.4
"""What is no farther from the plate than this, mm, is the plate."""
OUTLINE = 0.3
"""Per cent of points that may lie beyond what counts as the outline, on every side."""
AGREEING = 0.8
"""Of what lies near the part, so much has to lie on it."""
SURE = 0.1
"""A place of the part has to be known within this, mm, standard uncertainty."""


def plate_under(gear_map: GearMap, gear: Gear) -> RigidTransform | None:
    """From the map to the plate or the turntable under the part; None where there is none or it is not met yet."""
    return next((way for index, way in gear_map.ways.items() if gear.items[index].is_under), None)


def guessed(gear_map: GearMap, gear: Gear, position: int) -> RigidTransform | None:
    """About where the part is (map to part), from where it was to be put down on the equipment; None while that is not met."""
    for index, to_item in gear_map.ways.items():
        return gear.turned[position].inverse @ gear.stands[position][index] @ to_item
    return None


def located_by_shape(
    patches: Sequence[Patch], nominal: Nominal, guess: RigidTransform, plate: RigidTransform | None = None
) -> RigidTransform | None:
    """From the map to the part, by a best fit of what was captured; None where that does not decide it yet.

    Parameters
    ----------
    guess : RigidTransform
        Within some centimetres and degrees.
    plate : RigidTransform, optional
        From the map to what the part stands on, whose surface is z = 0: what lies there is not the part.
    """
    if sum(len(p.store) for p in patches) < LEAST_POINTS:
        return None
    points = np.concatenate([p.store.all() for p in patches])
    if plate is not None:
        points = points[np.abs(plate.apply(places_of(points))[:, 2]) > ON_PLATE]
    points = points[:: max(1, len(points) // MOST_POINTS)]
    cloud = PointCloud(places_of(points), normals_of(points))
    guess = _centred(cloud.points, nominal, guess)
    found = nominal.projector.project(guess.apply(cloud.points), guess.turn(normals_of(points)), limit=NEAR)
    if found.found.sum() < LEAST_POINTS / 3:
        return None
    part = PointCloud(cloud.points[found.found], normals_of(points)[found.found])
    try:
        rough = best_fit(part, nominal, guess, BestFitOptions(trim=0.1, reach=NEAR / 2))
        fine = best_fit(part, nominal, rough.transform, BestFitOptions(trim=0.05, reach=1.0))
    except AlignmentError:
        return None
    return fine.transform if _decides(fine, part, nominal) else None


def _centred(points: Floats, nominal: Nominal, guess: RigidTransform) -> RigidTransform:
    """The guess moved along the table until the outline of what was captured lies in the middle of the part's."""
    there = guess.apply(points)
    near = (np.abs(there - nominal.centre) < np.ptp(nominal.mesh.bounds, axis=0) / 2 + NEAR).all(1)
    if not near.any():
        return guess
    middle = np.percentile(there[near], [OUTLINE, 100 - OUTLINE], axis=0).mean(0)
    shift = nominal.mesh.bounds.mean(0) - middle
    return RigidTransform.translation([shift[0], shift[1], 0.0]) @ guess


def _decides(made: Alignment, part: PointCloud, nominal: Nominal) -> bool:
    """Whether a fit leaves nothing free and lies on what was captured."""
    if "free" in made.locked.values() or made.used < AGREEING * 0.95 * len(part.points):
        return False
    corners = np.array(np.meshgrid(*nominal.mesh.bounds.T)).reshape(3, -1).T
    uncertain = [made.point_uncertainty(corners, np.broadcast_to(axis, corners.shape)).max() for axis in np.eye(3)]
    return bool(max(uncertain) < SURE)
