"""A surface handed out in part coordinates, read back and compared before anybody is told that it is there."""

from __future__ import annotations

import os
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from juxtum.errors import InputError
from juxtum.exchange.mesh_writing import write_mesh, writer_of
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.progress import Progress, silent

ROUNDING = 4 * float(np.finfo(np.float32).eps)
"""Of the largest coordinate: what a format of single precision may shift a place by."""


@dataclass(frozen=True)
class HandedOut:
    """A file, and what reading it back has shown.

    Parameters
    ----------
    path : Path
    coordinates : str
        In which coordinates its places are.
    triangles : int
    largest : float
        How far a place in the file lies from that in the job at most, mm.
    lost : int
        Triangles so small that the format's rounding leaves nothing of them.
    invented_area : float
        mm2 that were not measured; marked in the file.
    """

    path: Path
    coordinates: str
    triangles: int
    largest: float
    lost: int
    invented_area: float

    @property
    def sentence(self) -> str:
        """What was written, for the user."""
        differs = f"no place differs by more than {max(self.largest, 1e-6):.1g} mm"
        text = f"{self.path.name}: {self.triangles} triangles in {self.coordinates}, mm; read back: {differs}"
        if self.lost:
            text += f"; {self.lost} triangles are too small for this format and are not in it"
        if self.invented_area > 0:
            text += f"; {self.invented_area:.1f} mm2 were not measured and are marked"
        return f"{text}."


def check_target(path: Path) -> None:
    """Refuse a name that no surface can be written under, before any work is done.

    Raises
    ------
    InputError
    """
    writer_of(path)
    if not path.resolve().parent.is_dir():
        raise InputError("the folder for the surface is not there", str(path), "Make it, or choose another")


def hand_out(
    path: Path, scan: Scan, pose: RigidTransform | None, frame: str = "", progress: Progress | None = None
) -> HandedOut:
    """Write a surface where the part lies, read the file back and compare.

    Parameters
    ----------
    scan : TriangleMesh
        With what is invented in it, mm.
    pose : RigidTransform, optional
        From scan to part coordinates; without one the surface stays where its device had it, and that is said.
    frame : str
        Name of the alignment that the pose is of.

    Raises
    ------
    InputError
        When there is no surface or no such format, or the file does not hold what was written.
    """
    progress = progress or silent()
    if not isinstance(scan, TriangleMesh):
        what = "a list of points has no surface to hand out"
        raise InputError(what, str(path), "Make one of several scans, or hand out the coloured scan of the report")
    check_target(path)
    coordinates = "scan coordinates" if pose is None else f"part coordinates of '{frame}'"
    mesh = scan if pose is None else scan.moved(pose)
    # Beside its place: what is there already is replaced by a file that has been read.
    try:
        with tempfile.TemporaryDirectory(dir=path.parent, prefix=".handing-out-") as folder:
            draft = Path(folder) / f"surface{path.suffix.lower()}"
            progress.phase(f"writing {path.name}", 0.0)
            write_mesh(draft, mesh)
            progress.phase(f"reading {path.name} back", 0.5)
            found = _compared(mesh, draft, path, coordinates)
            os.replace(draft, path)
    except OSError as problem:
        raise InputError("the surface cannot be written", str(path), "Choose a folder that may be written") from problem
    return found


def _compared(mesh: TriangleMesh, draft: Path, path: Path, coordinates: str) -> HandedOut:
    read = read_mesh(draft).scan
    used = mesh.points[np.unique(mesh.triangles)]
    bound = ROUNDING * max(float(np.abs(used).max()), 1.0)
    largest = max(_farthest(used, read.points), _farthest(read.points, used))
    lost = len(mesh.triangles) - len(read.triangles)
    invented = mesh.invented_area
    area, marked = (read.area, read.invented_area) if isinstance(read, TriangleMesh) else (0.0, 0.0)
    slack = bound * float(np.sqrt(mesh.triangle_areas).sum()) * 4 + 1e-6 * mesh.area
    if largest > bound or lost < 0 or abs(area - mesh.area) > slack or abs(marked - invented) > slack:
        raise InputError("the file does not hold the surface that was written", str(path), "Write it again as PLY")
    return HandedOut(path, coordinates, len(read.triangles), largest, lost, invented)


def _farthest(places: Floats, others: Floats) -> float:
    """How far any place is from the nearest of the others, mm."""
    from scipy.spatial import cKDTree

    return float(cKDTree(others).query(places)[0].max(initial=0.0))
