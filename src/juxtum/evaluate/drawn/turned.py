"""A zone that may turn about the axis of its datum: to the plane through that axis in which a feature lies best."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from juxtum.evaluate.drawn.frames import Frame
from juxtum.evaluate.drawn.taken import Situation
from juxtum.geometry import Plane, RigidTransform
from juxtum.geometry.transform import rotation_from_vector

WIDE = 0.2
"""So far the zone is turned to either side at most, radians: a feature that lies farther round is not the one drawn."""
ALONG = 1e-6


def turned_to(frame: Frame, at: Situation) -> Frame | None:
    """The frame turned about the axis of its only datum so that the farthest of a middle plane lies as near as can be.

    None where the datums are more than one axis, or the drawn plane does not hold that axis: then nothing is free, or the
    turn would not serve.
    """
    if len(frame.datums) != 1 or not isinstance(at.nominal, Plane) or not isinstance(at.measured, Plane):
        return None
    drawn = frame.datums[0].nominal.holds()
    if drawn.direction is None or isinstance(frame.datums[0].nominal, Plane):
        return None
    foot = np.asarray(frame.datums[0].nominal.point)
    if (
        abs(float(at.nominal.normal @ drawn.direction)) > ALONG
        or abs(float(at.nominal.distances(foot[None])[0])) > ALONG
    ):
        return None
    from scipy.optimize import minimize_scalar

    places = np.concatenate([part.outline for part in at.parts])
    places = places - np.outer(at.nominal.distances(places), at.nominal.normal)

    def move(angle: float) -> RigidTransform:
        turn = rotation_from_vector(angle * np.asarray(drawn.direction))
        return RigidTransform.from_parts(turn, foot - turn @ foot) @ frame.move

    def farthest(angle: float) -> float:
        return float(np.abs(at.measured.moved(move(angle)).distances(places)).max())

    # The largest of distances that all change about evenly with the turn has one lowest place.
    best = minimize_scalar(farthest, bounds=(-WIDE, WIDE), method="bounded", options={"xatol": 1e-9})
    return replace(frame, move=move(float(best.x)), free=np.zeros((0, 6)))
