"""Reading meshes and point lists of any supported kind, and writing PLY."""

from __future__ import annotations

import zlib
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.exchange import obj, off, ply, points, stl, threemf
from juxtum.exchange.limits import check_file
from juxtum.exchange.raw import RawMesh
from juxtum.geometry import PointCloud, TriangleMesh
from juxtum.geometry.mesh import Scan
from juxtum.geometry.topology import sound_triangles, weld
from juxtum.units import Unit
from juxtum.wording import percent

MESH_SUFFIXES = (".stl", ".ply", ".obj", ".off", ".3mf")
POINT_SUFFIXES = (".xyz", ".csv", ".txt", ".asc")
_READERS = {".stl": stl.read, ".ply": ply.read, ".obj": obj.read, ".off": off.read, ".3mf": threemf.read}
_READERS |= dict.fromkeys(POINT_SUFFIXES, points.read)
LEAST = 10
"""Points of a scan."""
LARGEST = 1e7
"""Coordinates beyond this many units are taken for damage."""
LOOSE, JOINED = 2.5, 0.7
"""With so many points for each triangle its corners may be its own; they are, when joining leaves so few of them."""


@dataclass(frozen=True, eq=False)
class MeshFile:
    """What a file held, in its own numbers.

    Parameters
    ----------
    scan : TriangleMesh or PointCloud
    unit : Unit, optional
        Named by the file; None where the format has no units.
    problems : tuple of str
        What was found and mended on the way in.
    """

    scan: Scan
    unit: Unit | None
    problems: tuple[str, ...] = field(default=())

    @property
    def size(self) -> float:
        """Diagonal of the bounds in the file's own numbers."""
        return float(np.linalg.norm(np.diff(self.scan.bounds, axis=0)))


def read_mesh(path: Path) -> MeshFile:
    """Read a mesh or a point list.

    Raises
    ------
    InputError
        When the file is of an unknown kind, damaged, or holds nothing usable.
    """
    check_file(path)
    reader = _READERS.get(path.suffix.lower())
    if reader is None:
        kinds = ", ".join(sorted(s[1:].upper() for s in _READERS))
        raise InputError(f"'{path.suffix or path.name}' files are not read", str(path), f"Give one of {kinds}")
    try:
        raw = reader(path)
    except MemoryError as problem:
        raise InputError("the file needs more memory than there is", str(path), "Thin it first") from problem
    except (ValueError, TypeError, LookupError, ArithmeticError, zlib.error) as problem:
        if isinstance(problem, InputError):
            raise
        raise InputError(
            f"the file is damaged ({type(problem).__name__})", str(path), "Copy or export it again"
        ) from problem
    return _checked(raw, path)


def _checked(raw: RawMesh, path: Path) -> MeshFile:
    where = str(path)
    if len(raw.points) == 0:
        raise InputError("the file holds no points", where, "Export it again")
    finite = np.asarray(np.isfinite(raw.points).all(axis=1))
    if not finite.all():
        count = int((~finite).sum())
        raise InputError(f"{count} of {len(finite)} points are not finite numbers", where, "Export the file again")
    if np.abs(raw.points).max() > LARGEST:
        raise InputError("some coordinates are larger than any part", where, "Export the file again")
    if np.ptp(raw.points, axis=0).max() <= 0:
        raise InputError("all points lie in one place", where, "Export the file again")
    if raw.triangles is None:
        if len(raw.points) < LEAST:
            raise InputError(f"{len(raw.points)} points are too few to be a scan", where, "Give a denser scan")
        return _checked_cloud(raw, path)
    return _checked_mesh(raw, raw.triangles, path)


def _checked_cloud(raw: RawMesh, path: Path) -> MeshFile:
    """Points that lie twice would tell each other that there is no noise: they count once."""
    normals, keep = _usable(raw.normals), _first_of_each(raw.points)
    if keep.all():
        return MeshFile(PointCloud(raw.points, normals), raw.unit)
    if keep.sum() < LEAST:
        raise InputError(
            f"{int(keep.sum())} different points are too few to be a scan", str(path), "Give a denser scan"
        )
    cloud = PointCloud(raw.points[keep], None if normals is None else normals[keep])
    twice = int((~keep).sum())
    words = f"{twice} {'point lay' if twice == 1 else 'points lay'} in the place of another and went"
    return MeshFile(cloud, raw.unit, (words,))


def _first_of_each(places: npt.NDArray[np.float64]) -> npt.NDArray[np.bool_]:
    """Which of some points (N, 3) are the first in their place; only those that share an x are held against each other."""
    order = np.argsort(places[:, 0], kind="stable")
    same = np.diff(places[order, 0]) == 0
    rows = np.sort(order[np.r_[same, False] | np.r_[False, same]])
    keep = np.ones(len(places), dtype=np.bool_)
    keep[rows] = False
    keep[rows[np.unique(places[rows], axis=0, return_index=True)[1]]] = True
    return keep


def _usable(normals: npt.NDArray[np.float64] | None) -> npt.NDArray[np.float64] | None:
    """Normals where all of them are unit vectors; anything else in their columns is passed over."""
    if normals is None or not np.isfinite(normals).all():
        return None
    return normals if bool((np.abs(np.linalg.norm(normals, axis=1) - 1) < 0.02).all()) else None


def _checked_mesh(raw: RawMesh, triangles: npt.NDArray[np.int32], path: Path) -> MeshFile:
    where, points, invented = str(path), raw.points, raw.invented
    if len(triangles) == 0:
        raise InputError("the file holds no triangles", where, "Export the mesh, not only its points")
    if triangles.min() < 0 or triangles.max() >= len(points):
        raise InputError("a triangle names a point that does not exist", where, "Export the file again")
    problems = []
    if len(points) >= LOOSE * len(triangles) and len(np.unique(triangles)) >= LOOSE * len(triangles):
        joined, together = weld(np.ascontiguousarray(points[triangles].reshape(-1, 3)))
        if len(joined) < JOINED * len(points):
            problems.append(f"each triangle had corners of its own: {len(points)} points became {len(joined)}")
            points, triangles = joined, together
    sound = sound_triangles(points, triangles)
    if not sound.any():
        raise InputError("all triangles are degenerate", where, "Export the file again")
    if not sound.all():
        problems.append(f"{int((~sound).sum())} degenerate or repeated triangles left out")
        triangles = triangles[sound]
        invented = None if invented is None else invented[sound]
    mesh = TriangleMesh(points, triangles, invented)
    if mesh.invented is not None:
        share = percent(mesh.invented_area / mesh.area)
        problems.append(f"{share} of the surface is marked as invented: it is shown and not measured")
    return MeshFile(mesh, raw.unit, tuple(problems))


def write_ply(path: Path, scan: Scan, properties: dict[str, npt.NDArray[np.float64]] | None = None) -> None:
    """Write a mesh or cloud as binary PLY, with extra numbers per point such as `deviation`."""
    ply.write(path, scan.points, scan.triangles, properties or {}, getattr(scan, "invented", None))
