"""The nominal part: its faces, its tessellation and the way onto its surface."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.exchange import solid
from juxtum.exchange.model_line import ModelLine, lines_on_faces
from juxtum.exchange.solid import CadArrays, TessellationRule
from juxtum.geometry import Cylinder, Feature, Plane, TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, unit
from juxtum.geometry.topology import beside, components, edge_keys, sound_triangles
from juxtum.nominal.features import feature_of_face
from juxtum.nominal.projection import ExactProjector, MeshProjector, Projector, sharp_edges
from juxtum.nominal.tessellation import checked


class FaceKind(StrEnum):
    """The form of a nominal face."""

    PLANE = "plane"
    CYLINDER = "cylinder"
    CONE = "cone"
    SPHERE = "sphere"
    TORUS = "torus"
    FREE_FORM = "free-form"


_KINDS = {
    solid.PLANE: FaceKind.PLANE,
    solid.CYLINDER: FaceKind.CYLINDER,
    solid.CONE: FaceKind.CONE,
    solid.SPHERE: FaceKind.SPHERE,
    solid.TORUS: FaceKind.TORUS,
    solid.SPLINE: FaceKind.FREE_FORM,
}


@dataclass(frozen=True, eq=False)
class NominalFace:
    """One face of the nominal.

    Parameters
    ----------
    number : int
        From 1, as the user sees it.
    kind : FaceKind
    area : float
        mm2.
    centre : array (3,)
        A point on the face near its middle.
    feature : Feature, optional
        Whose surface it is, None for a free form; the normal of a plane points out of the material.
    name : str
        In the CAD model; empty where it has none.
    """

    number: int
    kind: FaceKind
    area: float
    centre: Floats
    feature: Feature | None
    name: str = ""

    @property
    def title(self) -> str:
        """Number, name in the model and form, for lists."""
        size = f" \u00d8{2 * self.feature.radius:.3f}" if isinstance(self.feature, Cylinder) else ""
        name = f" \u201c{self.name}\u201d" if self.name else ""
        return f"face {self.number}{name}, {self.kind}{size}"


@dataclass(frozen=True, eq=False)
class Nominal:
    """The part as drawn, in part coordinates.

    Parameters
    ----------
    mesh : TriangleMesh
        Tessellation with separate points for each face.
    triangle_faces : array (M,)
        Index (from 0) of each triangle's face.
    faces : tuple of NominalFace
    projector : Projector
    samples : SurfaceSamples
        Even pieces of the surface, for coverage.
    is_exact : bool
        Whether deviations are taken on exact CAD faces.
    file_unit : str
        Unit of the file it was read from.
    volume : float
        mm3; NaN when the part is not closed.
    problems : tuple of str
    unit_is_assumed : bool
        Neither the file nor a person named the unit.
    lines : tuple of ModelLine
        Datums, sizes and tolerances that the CAD model states; faces by their number here.
    unread : tuple of str
        A sentence for each that cannot be taken as it is meant.
    """

    mesh: TriangleMesh
    triangle_faces: Ints
    faces: tuple[NominalFace, ...]
    projector: Projector
    samples: SurfaceSamples
    is_exact: bool
    file_unit: str
    volume: float
    problems: tuple[str, ...] = ()
    unit_is_assumed: bool = False
    lines: tuple[ModelLine, ...] = ()
    unread: tuple[str, ...] = ()

    @classmethod
    def from_shape(cls, shape: Any, file_unit: str = "mm", rule: TessellationRule | None = None) -> Nominal:
        """From an Open CASCADE shape in millimetres, within this process; exact faces are kept."""
        from juxtum.exchange.shapes import cad_arrays

        return cls.from_arrays(cad_arrays(shape, file_unit, rule))

    @classmethod
    def from_arrays(cls, arrays: CadArrays) -> Nominal:
        """From the arrays of a CAD model; faces whose surface does not fit their own nodes are named and left out.

        Raises
        ------
        InputError
            When no face can be used.
        """
        sound = checked(arrays)
        t = sound.arrays
        mesh = TriangleMesh(t.nodes, t.triangles)
        coarse = TriangleMesh(t.coarse_nodes, t.coarse_triangles)
        # Samples from a coarse tessellation of their own: the fine one is cut into slivers.
        samples = sample_surface(coarse, t.coarse_faces, max(t.diagonal / 130, 0.2))
        faces = tuple(_exact_face(t, mesh, index) for index in range(len(t.kinds)))
        owners = frozen(t.triangle_faces, np.int32)
        problems = t.problems + sound.problems
        lines, unread = lines_on_faces(t.marks, t.lines, t.unread)
        return cls(
            mesh, owners, faces, ExactProjector(t), samples, True, t.file_unit, t.volume, problems, False, lines, unread
        )

    @classmethod
    def from_mesh(cls, mesh: TriangleMesh, file_unit: str = "mm") -> Nominal:
        """From a mesh; faces are the regions between sharp edges."""
        from juxtum.geometry.topology import closure

        sound = sound_triangles(mesh.points, mesh.triangles)
        if not sound.all():
            mesh = mesh.kept_triangles(sound)
        labels = smooth_regions(mesh)
        faces = tuple(_mesh_face(mesh, labels, index) for index in range(int(labels.max()) + 1))
        closed = closure(mesh).is_watertight
        volume = mesh.volume if closed else float("nan")
        problems = [] if closed else ["the nominal mesh is not closed"]
        if closed and volume < 0:
            raise InputError("the nominal is inside out", next="Flip its normals, or export it again")
        samples = sample_surface(mesh, labels, max(float(np.linalg.norm(np.diff(mesh.bounds, axis=0))) / 130, 0.2))
        projector = MeshProjector(mesh, labels)
        return cls(mesh, labels, faces, projector, samples, False, file_unit, volume, tuple(problems))

    @property
    def area(self) -> float:
        """Total area of the faces in mm2."""
        return float(sum(face.area for face in self.faces))

    @cached_property
    def diagonal(self) -> float:
        """Length of the diagonal of the bounds, mm."""
        return float(np.linalg.norm(np.diff(self.mesh.bounds, axis=0)))

    @cached_property
    def centre(self) -> Floats:
        """Middle of the bounds (3,)."""
        return frozen(self.mesh.bounds.mean(0))

    def face(self, number: int) -> NominalFace:
        """A face by its number.

        Raises
        ------
        InputError
            When there is no such face.
        """
        if not 1 <= number <= len(self.faces):
            raise InputError(f"the nominal has no face {number}", next=f"Choose a face from 1 to {len(self.faces)}")
        return self.faces[number - 1]

    def face_mesh(self, numbers: Iterable[int]) -> TriangleMesh:
        """The tessellation of some faces."""
        wanted = np.array([self.face(n).number - 1 for n in numbers])
        return self.mesh.kept_triangles(np.isin(self.triangle_faces, wanted))

    @cached_property
    def border_segments(self) -> Floats:
        """Ends (K, 2, 3) of the pieces of the borders between faces: what a line drawing of the part shows."""
        if isinstance(self.projector, ExactProjector):
            return frozen(self.projector.border_pieces[:, :6].reshape(-1, 2, 3))
        return self.sharp_segments

    @cached_property
    def sharp_segments(self) -> Floats:
        """Ends (K, 2, 3) of the pieces of those borders at which the surface bends."""
        if isinstance(self.projector, ExactProjector):
            return frozen(self.border_segments[self.projector.sharp_pieces])
        sharp = sharp_edges(self.mesh)
        ends = np.stack([self.mesh.triangles, np.roll(self.mesh.triangles, -1, axis=1)], axis=-1)[sharp]
        return frozen(self.mesh.points[ends])

    @cached_property
    def _edge_tree(self) -> Any:
        from scipy.spatial import cKDTree

        return cKDTree(_spots(self.sharp_segments))

    def middle_of(self, numbers: Iterable[int]) -> Floats:
        """Centre of area (3,) of some faces together, by number; of a ring it lies in its hole."""
        mesh = self.face_mesh(tuple(numbers))
        return np.asarray(np.average(mesh.corners.mean(1), axis=0, weights=np.maximum(mesh.triangle_areas, 1e-12)))

    @cached_property
    def bend_radii(self) -> Floats:
        """About the radius (K,) with which each face bends, mm; very large where it is flat.

        Of the tessellation: its area over the sum of edge lengths times the angle between the triangles beside them, which of
        a cylinder is the radius (Steiner's formula for the mean curvature).
        """
        other, agrees = beside(self.mesh.triangles, len(self.mesh.points))
        triangle, edge = np.nonzero((other >= 0) & agrees)
        across = other[triangle, edge]
        same = self.triangle_faces[triangle] == self.triangle_faces[across]
        triangle, edge, across = triangle[same], edge[same], across[same]
        normals, points, corners = self.mesh.triangle_normals, self.mesh.points, self.mesh.triangles
        turned = np.linalg.norm(np.cross(normals[triangle], normals[across]), axis=1)
        angles = np.arctan2(turned, np.einsum("ij,ij->i", normals[triangle], normals[across]))
        ends = points[corners[triangle, edge]], points[corners[triangle, (edge + 1) % 3]]
        # Each edge is met from both its sides.
        bend = np.bincount(
            self.triangle_faces[triangle], angles * np.linalg.norm(ends[1] - ends[0], axis=1) / 2, len(self.faces)
        )
        areas = np.bincount(self.triangle_faces, self.mesh.triangle_areas, len(self.faces))
        return frozen(areas / np.maximum(bend, 1e-9))

    def edge_distances(self, points: Floats, limit: float) -> Floats:
        """Distances (N,) to the nearest sharp edge, good to 0.02 mm, at most `limit`."""
        if len(self.sharp_segments) == 0:
            return np.full(len(points), limit)
        distances, _ = self._edge_tree.query(points, distance_upper_bound=limit, workers=2)
        return np.asarray(np.minimum(distances, limit))


def _spots(ends: Floats, step: float = 0.25) -> Floats:
    """Points every `step` mm along segments (K, 2, 3)."""
    count = np.maximum(np.ceil(np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1) / step), 1).astype(int)
    owner = np.repeat(np.arange(len(ends)), count)
    along = (np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count) + 0.5) / count[owner]
    return np.asarray(ends[owner, 0] + along[:, None] * (ends[owner, 1] - ends[owner, 0]))


@dataclass(frozen=True, eq=False)
class SurfaceSamples:
    """Small triangles that cover the nominal: where was data, where was none."""

    mesh: TriangleMesh
    faces: Ints
    size: float

    @cached_property
    def centres(self) -> Floats:
        """Middles of the small triangles (N, 3)."""
        return frozen(self.mesh.corners.mean(1))

    def even_rows(self, count: int) -> npt.NDArray[np.int64]:
        """About `count` of the triangles, even over the area, without chance."""
        areas = np.cumsum(self.mesh.triangle_areas)
        steps = (np.arange(count) + 0.5) * areas[-1] / count
        return np.unique(np.searchsorted(areas, steps).clip(0, len(areas) - 1))


def sample_surface(mesh: TriangleMesh, faces: Ints, size: float) -> SurfaceSamples:
    """Split triangles at their longest edges until none is longer than `size` mm."""
    corners, owners = mesh.corners.copy(), faces.copy()
    done_corners, done_owners = [], []
    while len(corners):
        edges = np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2)
        longest = edges.argmax(1)
        rows = np.arange(len(corners))
        small = edges[rows, longest] <= size
        done_corners.append(corners[small])
        done_owners.append(owners[small])
        corners, owners, longest = corners[~small], owners[~small], longest[~small]
        rows = np.arange(len(corners))
        a = corners[rows, longest]
        b = corners[rows, (longest + 1) % 3]
        c = corners[rows, (longest + 2) % 3]
        middle = (a + b) / 2
        corners = np.concatenate([np.stack([a, middle, c], 1), np.stack([middle, b, c], 1)])
        owners = np.concatenate([owners, owners])
    together = np.concatenate(done_corners)
    triangles = np.arange(3 * len(together), dtype=np.int32).reshape(-1, 3)
    return SurfaceSamples(
        TriangleMesh(together.reshape(-1, 3), triangles), frozen(np.concatenate(done_owners), np.int32), size
    )


def _exact_face(t: CadArrays, mesh: TriangleMesh, index: int) -> NominalFace:
    numbers = t.numbers[index]
    kind = _KINDS[int(t.kinds[index])]
    mine = np.flatnonzero(t.triangle_faces == index)
    centre = _middle(mesh, mine)
    feature = feature_of_face(int(t.kinds[index]), numbers, mesh, mine, centre)
    name = t.marks[index].name if t.marks else ""
    return NominalFace(index + 1, kind, float(t.areas[index]), frozen(centre), feature, name)


def _middle(mesh: TriangleMesh, mine: Any) -> Floats:
    """The point of the face's tessellation nearest to its centre of area."""
    centres, areas = mesh.corners[mine].mean(1), mesh.triangle_areas[mine]
    mean = np.average(centres, axis=0, weights=np.maximum(areas, 1e-12))
    part = TriangleMesh(mesh.corners[mine].reshape(-1, 3), np.arange(3 * len(mine), dtype=np.int32).reshape(-1, 3))
    near = part.tree.query(mean[None])
    return np.asarray(near.weights[0] @ part.corners[near.triangles[0]])


def smooth_regions(mesh: TriangleMesh, degrees: float = 25.0) -> Ints:
    """Region of each triangle (M,): triangles joined over edges that bend less than `degrees`."""
    keys = edge_keys(mesh.triangles, len(mesh.points)).ravel()
    order = np.argsort(keys, kind="stable")
    owners = order // 3
    pairs = keys[order[1:]] == keys[order[:-1]]
    a, b = owners[1:][pairs], owners[:-1][pairs]
    smooth = np.einsum("ij,ij->i", mesh.triangle_normals[a], mesh.triangle_normals[b]) > np.cos(np.radians(degrees))
    a, b = a[smooth], b[smooth]
    return frozen(components(len(mesh.triangles), a, b), np.int32)


def _mesh_face(mesh: TriangleMesh, labels: Ints, index: int) -> NominalFace:
    mine = np.flatnonzero(labels == index)
    areas, normals = mesh.triangle_areas[mine], mesh.triangle_normals[mine]
    centres = mesh.corners[mine].mean(1)
    centre = centres[int(np.argmax(areas))]
    normal = unit(normals.T @ areas)
    # All round a closed region the normals cancel.
    flat = bool(normal.any() and (np.abs((mesh.corners[mine] - centre) @ normal) < 1e-4).all())
    kind = FaceKind.PLANE if flat else FaceKind.FREE_FORM
    return NominalFace(index + 1, kind, float(areas.sum()), frozen(centre), Plane(centre, normal) if flat else None)


def faces_mask(faces: Ints, numbers: Iterable[int]) -> Bools:
    """Which entries of an array of face indices belong to the numbered faces."""
    return np.asarray(np.isin(faces, np.array(sorted(numbers), dtype=np.int64) - 1))
