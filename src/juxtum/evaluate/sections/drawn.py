"""The nominal in a section: cut from its triangles, then drawn onto the exact faces."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from juxtum.evaluate.sections.cutting import Curve, SectionPlane, cut, ends_of
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.nominal import Nominal

SAG = 1e-4
"""Pieces are halved until the surface bulges less than this over them, mm."""
ROUNDS = 9
FLAT = 0.05
"""Where the surface lies flatter in the plane than this sine, a foot in the plane is no longer sought."""


@dataclass(frozen=True, eq=False)
class DrawnCurves:
    """What the nominal shows in a section.

    Parameters
    ----------
    curves : tuple of Curve
        Material to the left of each.
    faces : tuple of array
        Of each piece of each curve the nominal face, by index from 0.
    """

    curves: tuple[Curve, ...]
    faces: tuple[Ints, ...]

    @cached_property
    def pieces(self) -> tuple[Floats, Floats, Ints]:
        """Starts and ends (M, 2) of all pieces, and their faces."""
        if not self.curves:
            return np.zeros((0, 2)), np.zeros((0, 2)), np.zeros(0, dtype=np.int64)
        starts, ends = zip(*(curve.ends for curve in self.curves), strict=True)
        return (
            np.ascontiguousarray(np.concatenate(starts)),
            np.ascontiguousarray(np.concatenate(ends)),
            np.concatenate(self.faces),
        )

    @property
    def length(self) -> float:
        """mm."""
        return sum(curve.length for curve in self.curves)

    @property
    def area(self) -> float | None:
        """Of the material that is cut, mm2; None where a curve is open."""
        return sum(c.area for c in self.curves) if self.curves and all(c.is_closed for c in self.curves) else None


def drawn_curves(nominal: Nominal, plane: SectionPlane) -> DrawnCurves:
    """The nominal in a plane, within `SAG` of its exact faces."""
    curves, faces = [], []
    for rough in cut(nominal.mesh.points, nominal.mesh.triangles, plane):
        curve, mine = _refined(rough, nominal.triangle_faces[rough.triangles], nominal, plane)
        curves.append(curve)
        faces.append(mine)
    return DrawnCurves(tuple(curves), tuple(faces))


def _refined(rough: Curve, faces: Ints, nominal: Nominal, plane: SectionPlane) -> tuple[Curve, Ints]:
    starts, _ = rough.ends
    points = _onto(rough.points, _faces_of_points(faces, rough.is_closed), nominal, plane)
    least = max(nominal.diagonal * 1e-6, 1e-4)
    waiting = np.ones(len(starts), dtype=bool)
    for _ in range(ROUNDS):
        a, b = ends_of(points, rough.is_closed)
        rows = np.flatnonzero(waiting & (np.linalg.norm(b - a, axis=1) > least))
        if len(rows) == 0:
            break
        middles = (a[rows] + b[rows]) / 2
        there = _onto(middles, faces[rows], nominal, plane)
        bulged = np.linalg.norm(there - middles, axis=1) > SAG
        waiting[:] = False
        rows = rows[bulged]
        points = np.insert(points, rows + 1, there[bulged], axis=0)
        faces = np.insert(faces, rows + 1, faces[rows])
        waiting = np.insert(waiting, rows + 1, True)
        waiting[rows + np.arange(len(rows))] = True
    return Curve(frozen(points), frozen(np.zeros(len(faces)), np.int64), rough.is_closed), frozen(faces, np.int64)


def _faces_of_points(faces: Ints, is_closed: bool) -> Ints:
    """Of each point the face of the piece behind it; that before it at an open end."""
    return faces if is_closed else np.append(faces, faces[-1])


def _onto(flat: Floats, faces: Ints, nominal: Nominal, plane: SectionPlane) -> Floats:
    """Points (N, 2) moved within the plane onto the exact surface of their faces; as they are where that leads away."""
    at = flat.copy()
    for _ in range(3):
        feet = nominal.projector.project(plane.space(at))
        slopes = plane.turn(feet.normals)
        squared = (slopes**2).sum(1)
        good = (feet.faces == faces) & (squared > FLAT**2) & np.isfinite(feet.distances)
        step = np.where(good, -feet.distances / np.maximum(squared, 1e-12), 0.0)
        at = at + step[:, None] * slopes
    # A chord lies within a small share of the part of its surface; what goes farther has found another one.
    return np.where(np.linalg.norm(at - flat, axis=1)[:, None] < nominal.diagonal / 200, at, flat)
