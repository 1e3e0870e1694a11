"""Small helpers for arrays that value objects hold."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.signedinteger[Any]]
Bools = npt.NDArray[np.bool_]


def frozen(values: npt.ArrayLike, dtype: Any = np.float64) -> npt.NDArray[Any]:
    """A contiguous read-only array; shares memory where the input already is one."""
    array = np.ascontiguousarray(values, dtype=dtype)
    if array.flags.writeable:
        if array.base is not None or array is values:
            array = array.view()
        array.setflags(write=False)
    return array


def unit(vectors: npt.ArrayLike) -> Floats:
    """Vectors along the last axis scaled to length one; zero vectors stay zero."""
    array = np.asarray(vectors, dtype=np.float64)
    length = np.linalg.norm(array, axis=-1, keepdims=True)
    return array / np.where(length > 0, length, 1.0)


def areas_of(points: Floats, triangles: Ints) -> Floats:
    """Areas (M,) of triangles, some at a time so that no large arrays are needed in between."""
    result = np.empty(len(triangles))
    for start in range(0, len(triangles), 1 << 13):
        part = triangles[start : start + (1 << 13)]
        first = points[part[:, 0]]
        (ux, uy, uz), (vx, vy, vz) = (points[part[:, 1]] - first).T, (points[part[:, 2]] - first).T
        square = (uy * vz - uz * vy) ** 2 + (uz * vx - ux * vz) ** 2 + (ux * vy - uy * vx) ** 2
        result[start : start + len(part)] = 0.5 * np.sqrt(square)
    return result


def even_directions(count: int) -> Floats:
    """Unit vectors (N, 3) evenly over the sphere (golden spiral)."""
    k = np.arange(count) + 0.5
    z, turn = 1 - 2 * k / count, np.pi * (1 + np.sqrt(5)) * k
    r = np.sqrt(1 - z * z)
    return np.column_stack([r * np.cos(turn), r * np.sin(turn), z])


def cross(first: Floats, second: Floats) -> Floats:
    """Cross products of rows (N, 3); what numpy's own spends on looking at shapes outweighs a few hundred rows.

    Examples
    --------
    >>> cross(np.array([[1.0, 0, 0]]), np.array([[0.0, 1, 0]])).tolist()
    [[0.0, 0.0, 1.0]]
    """
    (ax, ay, az), (bx, by, bz) = first.T, second.T
    made = np.empty((len(first), 3))
    made[:, 0], made[:, 1], made[:, 2] = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    return made


def value_at_share(values: Floats, share: float) -> float:
    """The value (N,) that this share of the values does not exceed, by selecting it and without sorting.

    Examples
    --------
    >>> value_at_share(np.array([3.0, 1.0, 2.0, 4.0]), 0.5)
    3.0
    """
    index = min(int(share * len(values)), len(values) - 1)
    return float(np.partition(values, index)[index])


def box_corners(bounds: npt.ArrayLike) -> Floats:
    """The eight corners (8, 3) of a box from its lowest and highest place (2, 3)."""
    ends = np.asarray(bounds, dtype=np.float64)
    return np.array([[ends[i, 0], ends[j, 1], ends[k, 2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])


def orthonormal_frame(direction: npt.ArrayLike) -> Floats:
    """Three orthonormal rows (3, 3) of which the last is `direction`."""
    # By hand: a fit asks for it some hundred times, and numpy spends more on three numbers than on looking at them.
    x, y, z = (float(value) for value in np.asarray(direction, dtype=np.float64))
    length = math.hypot(x, y, z) or 1.0
    x, y, z = x / length, y / length, z / length
    least = min(abs(x), abs(y), abs(z))
    a, b, c = (0.0, -z, y) if abs(x) == least else (z, 0.0, -x) if abs(y) == least else (-y, x, 0.0)
    length = math.hypot(a, b, c) or 1.0
    a, b, c = a / length, b / length, c / length
    return np.array([(a, b, c), (y * c - z * b, z * a - x * c, x * b - y * a), (x, y, z)])
