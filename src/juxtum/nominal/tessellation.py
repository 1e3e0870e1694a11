"""The exact faces of a CAD model as the projection reads them, each one checked against its own nodes."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.exchange.solid import KIND_NAMES, CadArrays, TessellationRule
from juxtum.geometry.arrays import Bools, Floats, Ints, unit

SOUND = 1e-4
"""A face whose own nodes lie farther (mm) from its exact surface cannot be used."""

__all__ = ["SOUND", "Checked", "TessellationRule", "checked"]


@dataclass(frozen=True, eq=False)
class Checked:
    """The faces that can be used, and what was said of the others."""

    arrays: CadArrays
    problems: tuple[str, ...]


def checked(arrays: CadArrays) -> Checked:
    """Turn the surfaces' senses outwards and leave out every face whose surface does not pass through its nodes.

    Raises
    ------
    InputError
        When no face is left.
    """
    feet, normals = node_feet(arrays)
    away = np.linalg.norm(feet - arrays.nodes, axis=1)
    owners = node_owners(arrays)
    lies = np.zeros(len(arrays.kinds))
    np.maximum.at(lies, np.asarray(owners, dtype=np.int64), np.where(np.isfinite(away), away, np.inf))
    numbers = arrays.numbers.copy()
    numbers[:, 8] = _senses(arrays, normals)
    arrays = replace(arrays, numbers=numbers)
    bad = lies > SOUND
    if not bad.any():
        return Checked(arrays, ())
    if bad.all():
        raise InputError("no face of the model can be used", next="Export it again, best as STEP")
    return Checked(_kept(arrays, ~bad), tuple(_sentence(arrays, int(face), lies[face]) for face in np.flatnonzero(bad)))


def surface_tables(arrays: CadArrays) -> tuple[npt.NDArray[Any], ...]:
    """Arrays per face for the kernels: kinds, numbers, spline shapes and boxes, knots, poles."""
    count = len(arrays.kinds)
    shapes, boxes = np.zeros((count, 9), dtype=np.int64), np.zeros((count, 4))
    free = arrays.spline_rows >= 0
    shapes[free] = arrays.spline_shapes[arrays.spline_rows[free]]
    boxes[free] = arrays.spline_boxes[arrays.spline_rows[free]]
    knots = arrays.knots if len(arrays.knots) else np.zeros(1)
    poles = arrays.poles if len(arrays.poles) else np.zeros((1, 4))
    return arrays.kinds.astype(np.int64), arrays.numbers, shapes, boxes, knots, poles


def node_owners(arrays: CadArrays) -> Ints:
    """Face of each node (N,)."""
    owners = np.zeros(len(arrays.nodes), dtype=np.int64)
    owners[arrays.triangles.ravel()] = np.repeat(arrays.triangle_faces, 3)
    return owners


def node_feet(arrays: CadArrays) -> tuple[Floats, Floats]:
    """Feet and normals (N, 3) of the nodes on their own exact surfaces; NaN where there is none."""
    from juxtum.nominal import _foot_kernels as kernels

    feet, normals = np.full_like(arrays.nodes, np.nan), np.zeros_like(arrays.nodes)
    kernels.feet_of_nodes(arrays.nodes, node_owners(arrays), arrays.parameters, surface_tables(arrays), feet, normals)
    return feet, normals


def _senses(arrays: CadArrays, normals: Floats) -> Floats:
    """1 where the surface's own normal looks the way the triangles wind, -1 where it looks the other way (F,)."""
    corners = arrays.nodes[arrays.triangles]
    crosses = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    mean = normals[arrays.triangles].sum(1)
    votes = np.einsum("ij,ij->i", crosses, unit(mean))
    return np.where(np.bincount(arrays.triangle_faces, votes, len(arrays.kinds)) >= 0, 1.0, -1.0)


def _kept(arrays: CadArrays, keep: Bools) -> CadArrays:
    """The arrays without some faces; nodes and spline tables stay as they are."""
    number = np.cumsum(keep) - 1
    used, coarse = keep[arrays.triangle_faces], keep[arrays.coarse_faces]
    edge = keep[arrays.tangent_owners[:, 0]]
    owners = arrays.tangent_owners[edge].copy()
    owners[:, 0] = number[owners[:, 0]]
    nodes, triangles = _compact(arrays.triangles[used], len(arrays.nodes))
    owners[:, 1] = nodes[owners[:, 1]]
    kept_nodes = nodes >= 0
    bend = (nodes[arrays.bend_owners] >= 0).all(1)
    return replace(
        arrays,
        nodes=arrays.nodes[kept_nodes],
        parameters=arrays.parameters[kept_nodes],
        triangles=triangles,
        triangle_faces=number[arrays.triangle_faces[used]].astype(np.int32),
        tangent_owners=owners,
        tangents=arrays.tangents[edge],
        bend_owners=nodes[arrays.bend_owners[bend]],
        bends=arrays.bends[bend],
        marks=tuple(mark for mark, kept in zip(arrays.marks, keep, strict=False) if kept),
        kinds=arrays.kinds[keep],
        numbers=arrays.numbers[keep],
        spline_rows=arrays.spline_rows[keep],
        areas=arrays.areas[keep],
        coarse_triangles=arrays.coarse_triangles[coarse],
        coarse_faces=number[arrays.coarse_faces[coarse]].astype(np.int32),
        volume=float("nan"),
    )


def _compact(triangles: Ints, count: int) -> tuple[Ints, Ints]:
    """New number of each node (-1 where no triangle uses it), and the triangles in these numbers."""
    numbers = np.full(count, -1, dtype=np.int64)
    used = np.unique(triangles)
    numbers[used] = np.arange(len(used))
    return numbers, numbers[triangles].astype(np.int32)


def _sentence(arrays: CadArrays, face: int, away: float) -> str:
    name = f"a {KIND_NAMES[int(arrays.kinds[face])]} face of {arrays.areas[face]:.4g} mm2"
    how = f"{away:.2g} mm off" if np.isfinite(away) else "not to be evaluated"
    return f"{name} cannot be used and is left out: its surface is {how} at its own nodes"
