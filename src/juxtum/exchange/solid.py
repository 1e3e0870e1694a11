"""A CAD model as plain arrays: what crosses from the process of the CAD library into the application."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, fields
from pathlib import Path
from typing import Any

import numpy as np

from juxtum.exchange.model_line import FaceMark, ModelLine
from juxtum.geometry.arrays import Floats, Ints

PLANE, CYLINDER, CONE, SPHERE, TORUS, SPLINE = 0, 1, 2, 3, 4, 5
"""Kinds of surface, as the projection kernels number them."""
KIND_NAMES = ("plane", "cylinder", "cone", "sphere", "torus", "free-form")


@dataclass(frozen=True)
class TessellationRule:
    """How finely the exact faces are cut into triangles; results do not depend on it."""

    chord: float
    angle: float = 0.2

    @classmethod
    def for_size(cls, diagonal: float) -> TessellationRule:
        """A rule that suits a part of this diagonal in mm."""
        return cls(chord=float(np.clip(diagonal / 12000, 1e-3, 0.5)))


@dataclass(frozen=True, eq=False)
class CadArrays:
    """Faces of a CAD model with their triangles, exact surfaces and border tangents, in millimetres.

    Parameters
    ----------
    nodes : array (N, 3)
        Node positions, separate for each face.
    parameters : array (N, 2)
        Surface parameters of each node.
    triangles : array (M, 3)
        Node indices, counter-clockwise seen from outside.
    triangle_faces : array (M,)
        Face of each triangle, from 0.
    tangent_owners : array (K, 2)
        Face and node of each tangent.
    tangents : array (K, 3)
        Unit tangents of the border edges.
    bend_owners : array (B, 2)
        The nodes between which a border is neither straight nor a circle.
    bends : array (B, 3, 2, 3)
        Place and unit tangent at a quarter, half and three quarters of the way.
    kinds : array (F,)
        One of the kinds above for each face.
    numbers : array (F, 9)
        Origin, axis, two numbers (radius; half angle or minor radius) and the sense of each elementary surface.
    spline_rows : array (F,)
        Row of each free-form face in the tables that follow, -1 for others.
    spline_shapes : array (S, 9)
        Degrees, pole counts, first knot in u and v, first pole, whether closed in u and v.
    spline_boxes : array (S, 4)
        Lowest and highest u and v.
    knots, poles : arrays (A,), (B, 4)
        Poles are (x w, y w, z w, w).
    areas : array (F,)
        Exact areas, mm2.
    coarse_nodes, coarse_triangles, coarse_faces : arrays
        A coarser tessellation, whose triangles are no slivers.
    bounds : array (2, 3)
    diagonal : float
        Of a box round the shape with some room, mm: what tessellation and samples are sized by.
    volume : float
        mm3, of the exact faces; NaN where the solid is not closed.
    rule : TessellationRule
    solids : int
    file_unit : str
    problems : tuple of str
        What of the file could not be used, and what is odd about it.
    marks : tuple of FaceMark
        Number and name of each face in the file; none where the file has no numbers.
    lines : tuple of ModelLine
        Datums, sizes and tolerances that the file states, for faces by their number in the file.
    unread : tuple of str
        A sentence for each that cannot be taken as it is meant.
    """

    nodes: Floats
    parameters: Floats
    triangles: Ints
    triangle_faces: Ints
    tangent_owners: Ints
    tangents: Floats
    bend_owners: Ints
    bends: Floats
    kinds: Ints
    numbers: Floats
    spline_rows: Ints
    spline_shapes: Ints
    spline_boxes: Floats
    knots: Floats
    poles: Floats
    areas: Floats
    coarse_nodes: Floats
    coarse_triangles: Ints
    coarse_faces: Ints
    bounds: Floats
    diagonal: float
    volume: float
    rule: TessellationRule
    solids: int
    file_unit: str
    problems: tuple[str, ...]
    marks: tuple[FaceMark, ...] = ()
    lines: tuple[ModelLine, ...] = ()
    unread: tuple[str, ...] = ()

    @property
    def is_closed(self) -> bool:
        """Whether every shell of every solid is closed."""
        return bool(np.isfinite(self.volume))

    def save(self, path: Path) -> None:
        """Write the arrays as one uncompressed NPZ file, without pickles."""
        rest = {
            "diagonal": self.diagonal,
            "volume": self.volume if self.is_closed else None,
            "rule": [self.rule.chord, self.rule.angle],
            "solids": self.solids,
            "file_unit": self.file_unit,
            "problems": list(self.problems),
            "marks": [[mark.number, mark.name] for mark in self.marks],
            "lines": [asdict(line) for line in self.lines],
            "unread": list(self.unread),
        }
        words = np.frombuffer(json.dumps(rest).encode(), dtype=np.uint8)
        with path.open("wb") as file:
            np.savez(file, words=words, **{name: getattr(self, name) for name in _ARRAYS})

    @classmethod
    def load(cls, path: Path) -> CadArrays:
        """Read what `save` wrote."""
        with path.open("rb") as file, np.load(file, allow_pickle=False) as held:
            rest: dict[str, Any] = json.loads(held["words"].tobytes().decode())
            arrays: dict[str, Any] = {name: held[name] for name in _ARRAYS}
        volume = float("nan") if rest["volume"] is None else float(rest["volume"])
        return cls(
            **arrays,
            diagonal=float(rest["diagonal"]),
            volume=volume,
            rule=TessellationRule(*rest["rule"]),
            solids=int(rest["solids"]),
            file_unit=rest["file_unit"],
            problems=tuple(rest["problems"]),
            marks=tuple(FaceMark(*mark) for mark in rest["marks"]),
            lines=tuple(ModelLine.read(line) for line in rest["lines"]),
            unread=tuple(rest["unread"]),
        )


_ARRAYS = tuple(field.name for field in fields(CadArrays))[:20]
