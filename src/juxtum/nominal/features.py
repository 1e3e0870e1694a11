"""The ideal feature of a nominal face, where its surface is one."""

from __future__ import annotations

import numpy as np

from juxtum.exchange import solid
from juxtum.geometry import Cone, Cylinder, Feature, Plane, Sphere, Torus, TriangleMesh
from juxtum.geometry.arrays import Floats, Ints


def feature_of_face(kind: int, numbers: Floats, mesh: TriangleMesh, mine: Ints, centre: Floats) -> Feature | None:
    """The feature of an elementary face, its reference point in the middle of the face; None for a free form.

    Parameters
    ----------
    kind : int
        As `exchange.solid` numbers them.
    numbers : array (9,)
        Origin, axis, two sizes and the sense of the normal.
    mine : array (K,)
        The face's triangles.
    centre : array (3,)
        A point of the face near its middle.
    """
    origin, axis, first, second = numbers[:3], numbers[3:6], float(numbers[6]), float(numbers[7])
    if kind == solid.PLANE:
        return Plane(centre, axis * numbers[8])
    if kind == solid.SPHERE:
        return Sphere(origin, first)
    if kind == solid.TORUS:
        return Torus(origin, axis, first, second)
    along = _middle_along(mesh, mine, origin, axis)
    if kind == solid.CYLINDER:
        return Cylinder(origin + along * axis, axis, first)
    if kind == solid.CONE:
        radius = first + along * np.tan(second)
        return Cone(origin + along * axis, axis, radius, second) if radius > 0 and second else None
    return None


def _middle_along(mesh: TriangleMesh, mine: Ints, origin: Floats, axis: Floats) -> float:
    along = (mesh.corners[mine].reshape(-1, 3) - origin) @ axis
    return float((along.min() + along.max()) / 2)
