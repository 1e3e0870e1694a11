"""Rigid transforms between frames."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from math import isfinite

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, frozen, unit

_UNIT = np.eye(3)
_LAST_ROW = (0.0, 0.0, 0.0, 1.0)


def rotation_from_vector(vector: npt.ArrayLike) -> Floats:
    """Rotation matrix (3, 3) of a rotation vector in radians (Rodrigues)."""
    v = np.asarray(vector, dtype=np.float64)
    angle = float(np.linalg.norm(v))
    x, y, z = v
    skew = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    if angle < 1e-8:
        return np.asarray(np.eye(3) + skew + skew @ skew / 2)
    return np.asarray(np.eye(3) + np.sin(angle) / angle * skew + (1 - np.cos(angle)) / angle**2 * (skew @ skew))


def orthonormalised(rotation: npt.ArrayLike) -> Floats:
    """The rotation matrix nearest to a 3x3 matrix, by SVD; by one step of Newton's towards it where it is nearly one."""
    matrix = np.asarray(rotation, dtype=np.float64)
    square = matrix.T @ matrix
    if _is_near_rotation(matrix, square):
        return np.asarray(matrix @ (1.5 * _UNIT - 0.5 * square))
    u, _, vt = np.linalg.svd(matrix)
    return np.asarray(u @ np.diag([1, 1, np.sign(np.linalg.det(u @ vt))]) @ vt)


def _is_near_rotation(matrix: Floats, square: Floats, within: float = 1e-7) -> bool:
    """Whether a matrix is a proper rotation but for rounding; numbers one by one, which is quicker than arrays of nine."""
    (a, b, c), (_, d, e), (_, _, f) = square.tolist()
    off = max(abs(a - 1), abs(d - 1), abs(f - 1), abs(b), abs(c), abs(e))
    return off < within and _determinant(matrix) > 0


def _determinant(matrix: Floats) -> float:
    (a, b, c), (d, e, f), (g, h, i) = matrix.tolist()
    return float(a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g))


@dataclass(frozen=True, eq=False)
class RigidTransform:
    """A rotation and a translation: `p_to = matrix @ p_from`.

    Parameters
    ----------
    matrix : array (4, 4)
        Homogeneous, row-major, millimetres.

    Raises
    ------
    InputError
        When the matrix is not rigid to 1e-6.

    Examples
    --------
    >>> RigidTransform.translation([1, 2, 3]).apply([[0, 0, 0]])
    array([[1., 2., 3.]])
    """

    matrix: Floats

    def __post_init__(self) -> None:
        matrix = np.array(self.matrix, dtype=np.float64)
        rigid = (
            matrix.shape == (4, 4)
            and all(map(isfinite, matrix[:3, 3].tolist()))
            and all(abs(value - last) < 1e-9 for value, last in zip(matrix[3].tolist(), _LAST_ROW, strict=True))
            and _is_near_rotation(matrix[:3, :3], matrix[:3, :3].T @ matrix[:3, :3], 1e-6)
        )
        if not rigid:
            raise InputError(
                "the matrix is not a rigid transform", next="Give a 4x4 matrix of rotation and translation"
            )
        object.__setattr__(self, "matrix", frozen(matrix))

    @classmethod
    def identity(cls) -> RigidTransform:
        """The transform that moves nothing."""
        return cls(np.eye(4))

    @classmethod
    def translation(cls, offset: npt.ArrayLike) -> RigidTransform:
        """A pure shift (3,) in millimetres."""
        return cls.from_parts(np.eye(3), offset)

    @classmethod
    def from_parts(cls, rotation: npt.ArrayLike, offset: npt.ArrayLike) -> RigidTransform:
        """From a rotation (3, 3), re-orthonormalised, and an offset (3,)."""
        matrix = np.eye(4)
        matrix[:3, :3] = orthonormalised(rotation)
        matrix[:3, 3] = offset
        return cls(matrix)

    @classmethod
    def about(cls, centre: npt.ArrayLike, twist: npt.ArrayLike) -> RigidTransform:
        """Turn by `twist[3:]` (radians) about `centre`, then shift by `twist[:3]`."""
        c = np.asarray(centre, dtype=np.float64)
        t = np.asarray(twist, dtype=np.float64)
        rotation = rotation_from_vector(t[3:])
        return cls.from_parts(rotation, c - rotation @ c + t[:3])

    @property
    def rotation(self) -> Floats:
        """The 3x3 part."""
        return self.matrix[:3, :3]

    @property
    def offset(self) -> Floats:
        """The translation (3,)."""
        return self.matrix[:3, 3]

    @cached_property
    def inverse(self) -> RigidTransform:
        """The transform back."""
        return RigidTransform.from_parts(self.rotation.T, -self.rotation.T @ self.offset)

    def apply(self, points: npt.ArrayLike) -> Floats:
        """Move points (N, 3)."""
        return np.asarray(points, dtype=np.float64) @ self.rotation.T + self.offset

    def turn(self, vectors: npt.ArrayLike) -> Floats:
        """Turn directions (N, 3)."""
        return np.asarray(vectors, dtype=np.float64) @ self.rotation.T

    def __matmul__(self, other: RigidTransform) -> RigidTransform:
        return RigidTransform.from_parts(self.rotation @ other.rotation, self.rotation @ other.offset + self.offset)

    @property
    def angle(self) -> float:
        """How far it turns, in degrees; exact for small angles too."""
        r = self.rotation
        sine = np.linalg.norm([r[2, 1] - r[1, 2], r[0, 2] - r[2, 0], r[1, 0] - r[0, 1]]) / 2
        return float(np.degrees(np.arctan2(sine, (np.trace(r) - 1) / 2)))

    @property
    def axis(self) -> Floats:
        """Unit axis of the rotation (3,); zero when it does not turn."""
        r = self.rotation
        skew = np.array([r[2, 1] - r[1, 2], r[0, 2] - r[2, 0], r[1, 0] - r[0, 1]])
        if np.linalg.norm(skew) > 1e-9 or self.angle < 90:
            return unit(skew)
        values, vectors = np.linalg.eigh(r + r.T)
        return np.asarray(vectors[:, int(np.argmax(values))])
