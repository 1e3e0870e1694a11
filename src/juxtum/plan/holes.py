"""Holes and thin walls of the nominal, found from its faces."""

from __future__ import annotations

from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np

from juxtum.geometry import Cylinder
from juxtum.geometry.arrays import Floats, Ints, orthonormal_frame
from juxtum.nominal import FaceKind, Nominal


@dataclass(frozen=True, eq=False)
class Hole:
    """A hole: the cylinder faces that make its wall.

    Parameters
    ----------
    faces : tuple of int
    axis : Cylinder
    depth : float
        Length of the wall along the axis, mm.
    is_through : bool
        Whether both ends are open.
    """

    faces: tuple[int, ...]
    axis: Cylinder
    depth: float
    is_through: bool

    @property
    def diameter(self) -> float:
        """mm."""
        return 2 * self.axis.radius

    @property
    def ratio(self) -> float:
        """Depth in diameters that must be looked into: half of it when both ends are open."""
        return self.depth / self.diameter / (2 if self.is_through else 1)


_FOUND: WeakKeyDictionary[Nominal, dict[float, tuple[Hole, ...]]] = WeakKeyDictionary()


def find_holes(nominal: Nominal, widest: float = 200.0) -> tuple[Hole, ...]:
    """All cylindrical holes: faces that look at their own axis and go round most of it; looked for once a nominal."""
    found = _FOUND.setdefault(nominal, {})
    if widest not in found:
        found[widest] = _holes(nominal, widest)
    return found[widest]


def _holes(nominal: Nominal, widest: float) -> tuple[Hole, ...]:
    groups: list[tuple[list[int], Cylinder, list[float]]] = []
    for face in nominal.faces:
        if face.kind is not FaceKind.CYLINDER or not isinstance(face.feature, Cylinder):
            continue
        rows = np.flatnonzero(nominal.triangle_faces == face.number - 1)
        if face.feature.radius * 2 > widest or not _looks_inward(nominal, rows, face.feature):
            continue
        along = (nominal.mesh.corners[rows].reshape(-1, 3) - face.feature.point) @ face.feature.axis
        found = next((g for g in groups if _same_axis(g[1], face.feature) and _touches(g, face.feature, along)), None)
        if found is None:
            groups.append(([face.number], face.feature, [float(along.min()), float(along.max())]))
        else:
            shift = float((face.feature.point - found[1].point) @ found[1].axis)
            turned = float(np.sign(face.feature.axis @ found[1].axis)) * along + shift
            found[0].append(face.number)
            found[2][:] = [min(found[2][0], float(turned.min())), max(found[2][1], float(turned.max()))]
    return tuple(_hole(nominal, *group) for group in groups if _goes_round(nominal, group))


def _looks_inward(nominal: Nominal, rows: Ints, cylinder: Cylinder) -> bool:
    centres, normals = nominal.mesh.corners[rows].mean(1), nominal.mesh.triangle_normals[rows]
    offset = centres - cylinder.point
    radial = offset - (offset @ cylinder.axis)[:, None] * cylinder.axis
    return bool(np.mean(np.einsum("ij,ij->i", radial, normals) < 0) > 0.5)


def _same_axis(a: Cylinder, b: Cylinder) -> bool:
    offset = b.point - a.point
    across = np.linalg.norm(offset - (offset @ a.axis) * a.axis)
    return bool(abs(a.radius - b.radius) < 1e-3 and abs(a.axis @ b.axis) > 0.99999 and across < 1e-2)


def _touches(group: tuple[list[int], Cylinder, list[float]], other: Cylinder, along: Floats) -> bool:
    shift = float((other.point - group[1].point) @ group[1].axis)
    turned = float(np.sign(other.axis @ group[1].axis)) * along + shift
    return bool(turned.min() < group[2][1] + 1 and turned.max() > group[2][0] - 1)


def _goes_round(nominal: Nominal, group: tuple[list[int], Cylinder, list[float]], least: float = 200.0) -> bool:
    """Whether the faces surround the axis by more than a half turn: a fillet does not."""
    numbers, axis, _ = group
    corners = nominal.face_mesh(numbers).points - axis.point
    u, v, _ = orthonormal_frame(axis.axis)
    angles = np.sort(np.degrees(np.arctan2(corners @ v, corners @ u)))
    gaps = np.diff(np.append(angles, angles[0] + 360))
    return bool(360 - gaps.max() > least)


def _hole(nominal: Nominal, numbers: list[int], axis: Cylinder, ends: list[float]) -> Hole:
    return Hole(tuple(numbers), axis, ends[1] - ends[0], all(_is_open(nominal, axis, end) for end in ends))


def _is_open(nominal: Nominal, axis: Cylinder, end: float) -> bool:
    """Whether the axis leaves the hole at an end without meeting the part within a few diameters."""
    outward = axis.axis * (1 if end > 0 else -1)
    hit = nominal.mesh.tree.first_hit(axis.point + axis.axis * end - outward * 0.01, outward)
    return hit is None or float((hit[1] - axis.point) @ axis.axis * np.sign(end)) > abs(end) + 4 * axis.radius


def thickness(nominal: Nominal, rows: Ints) -> Floats:
    """Thickness of material (K,) under surface samples, by a straight line into it, mm; inf where none is met."""
    samples = nominal.samples
    centres, normals = samples.centres[rows], samples.mesh.triangle_normals[rows]
    result = np.full(len(rows), np.inf)
    for index, (centre, normal) in enumerate(zip(centres, normals, strict=True)):
        hit = nominal.mesh.tree.first_hit(centre - 0.05 * normal, -normal)
        if hit is not None:
            result[index] = float(np.linalg.norm(hit[1] - centre))
    return result
