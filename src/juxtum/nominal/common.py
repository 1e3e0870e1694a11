"""The one feature that several faces of the nominal make."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry import Cone, Cylinder, Feature, Plane
from juxtum.nominal.model import Nominal

SAME = 1e-4
"""Features nearer than this to each other are one, mm."""
COAXIAL = 1e-3
"""Nearer than this to each other all along, two drawn axes are one, mm."""


def common_feature(nominal: Nominal, numbers: Sequence[int], where: str) -> Feature:
    """The one feature on which all of some faces lie.

    Raises
    ------
    InputError
        When no face is named, one has no feature, or they lie on several.
    """
    if not numbers:
        raise InputError("no face is named", where, "Pick one on the nominal")
    faces = [nominal.face(number) for number in numbers]
    first = faces[0].feature
    if first is None:
        what = f"face {faces[0].number} is {faces[0].kind}, which is no feature by itself"
        raise InputError(what, where, "Pick a plane, a cylinder, a cone, a sphere or a torus")
    for face in faces[1:]:
        if not _same(first, face.feature):
            raise InputError(
                f"faces {faces[0].number} and {face.number} do not lie on one {faces[0].kind}", where, "Pick others"
            )
    return first


def _same(a: Feature, b: Feature | None) -> bool:
    if b is None or type(a) is not type(b) or any(abs(b.sizes[name] - size) > SAME for name, size in a.sizes.items()):
        return False
    mine, other = a.holds(), b.holds()
    apart = float(np.linalg.norm(other.brought_to(mine.place) - mine.place))
    if mine.direction is None or other.direction is None:
        return apart < SAME
    along = float(mine.direction @ other.direction)
    # A plane looks out of the material and a cone widens one way; the others have no sense.
    return apart < SAME and (along if isinstance(a, Plane | Cone) else abs(along)) > 1 - 1e-9


def are_coaxial(nominal: Nominal, of: Sequence[Sequence[int]]) -> bool:
    """Whether two groups of faces lie on cylinders about one axis."""
    cylinders = [common_feature(nominal, faces, "") for faces in of]
    if not all(isinstance(one, Cylinder) for one in cylinders):
        return False
    ends = np.concatenate([nominal.face_mesh(tuple(faces)).points[[0, -1]] for faces in of])
    one, two = cylinders
    return max(float(np.linalg.norm(one.anchored(p).point - two.anchored(p).point)) for p in ends) <= COAXIAL


def two_bearings(nominal: Nominal, numbers: Sequence[int]) -> tuple[tuple[int, ...], tuple[int, ...]] | None:
    """Faces on two different cylinders about one axis, as two groups; None where they are anything else."""
    features = [nominal.face(number).feature for number in numbers]
    if not features or not all(isinstance(feature, Cylinder) for feature in features):
        return None
    first = features[0]
    assert first is not None
    mine = tuple(n for n, feature in zip(numbers, features, strict=True) if _same(first, feature))
    rest = tuple(n for n in numbers if n not in mine)
    try:
        return (mine, rest) if rest and are_coaxial(nominal, (mine, rest)) else None
    except InputError:
        return None


def is_hollow(nominal: Nominal, number: int) -> bool:
    """Whether material lies round a face that turns about an axis, as it does round a hole.

    Raises
    ------
    InputError
        When there is no such face.
    """
    feature, face = nominal.face(number).feature, nominal.face(number)
    if feature is None or not hasattr(feature, "radial"):
        return False
    row = int((nominal.triangle_faces == face.number - 1).argmax())
    middle, normal = nominal.mesh.corners[row].mean(0), nominal.mesh.triangle_normals[row]
    return bool(feature.radial(middle[None])[0] @ normal < 0)
