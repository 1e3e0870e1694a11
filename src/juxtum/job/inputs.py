"""From the files of a job to its nominal and its scan, in millimetres at 20 degrees Celsius."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from juxtum.errors import InputError
from juxtum.exchange.cad import CAD_SUFFIXES
from juxtum.exchange.kept_models import model_arrays
from juxtum.exchange.meshes import MESH_SUFFIXES, MeshFile, read_mesh
from juxtum.geometry import TriangleMesh
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal
from juxtum.progress import Progress
from juxtum.units import Unit, guess_unit

LARGEST_WITH_TABLE = 20.0
"""With a table in the scan it may be so many times larger."""
MOST_PARTS = 200
LARGEST_RATIO = 6.0
"""A scan so many times larger or smaller than the nominal was not scanned in this unit."""


@dataclass(frozen=True, eq=False)
class LoadedScan:
    """A scan in millimetres and what was found in its file."""

    scan: Scan
    unit: Unit
    problems: tuple[str, ...]
    unit_is_assumed: bool = False
    """Neither the file nor a person named the unit."""


def load_nominal(path: Path, unit: Unit | None, progress: Progress) -> Nominal:
    """Read the nominal; a unit given by the user counts only where the file names none.

    Raises
    ------
    InputError
        When the file cannot serve as a nominal.
    """
    progress.phase(f"reading {path.name}")
    if path.suffix.lower() in CAD_SUFFIXES:
        arrays = model_arrays(path, progress)
        progress.phase(f"preparing the faces of {path.name}", 0.5)
        try:
            return Nominal.from_arrays(arrays)
        except InputError as problem:
            raise InputError(problem.what, str(path), problem.next) from problem
    if path.suffix.lower() not in MESH_SUFFIXES:
        kinds = "STEP, IGES, STL, PLY, OBJ, OFF or 3MF"
        raise InputError(f"'{path.suffix or path.name}' files cannot be a nominal", str(path), f"Give {kinds}")
    file = read_mesh(path)
    if not isinstance(file.scan, TriangleMesh):
        raise InputError("a list of points cannot be a nominal", str(path), "Give a surface: CAD or a mesh")
    used = file.unit or unit or Unit.MILLIMETRE
    try:
        nominal = Nominal.from_mesh(file.scan.scaled(used.millimetres), used)
        return replace(nominal, unit_is_assumed=file.unit is None and unit is None)
    except InputError as problem:
        raise InputError(problem.what, str(path), problem.next) from problem


def load_scan(path: Path, unit: Unit | None, nominal: Nominal | None, factor: float, progress: Progress) -> LoadedScan:
    """Read the scan, check its size against the nominal and correct it for temperature.

    Raises
    ------
    InputError
        When the file cannot be used, or its size asks for another unit.
    """
    progress.phase(f"reading {path.name}")
    if path.suffix.lower() in CAD_SUFFIXES:
        raise InputError("a CAD model is not a scan", str(path), "Give a mesh or a list of points")
    file = read_mesh(path)
    used = file.unit or unit
    is_assumed, problems = used is None, file.problems
    if nominal is not None:
        if used is None:
            check_guess(file, nominal, path)
        problems += _check_with_table(file, (used or Unit.MILLIMETRE).millimetres, nominal, path)
    used = used or Unit.MILLIMETRE
    scale = used.millimetres * factor
    return LoadedScan(file.scan if scale == 1 else file.scan.scaled(scale), used, problems, is_assumed)


def _check_with_table(file: MeshFile, scale: float, nominal: Nominal, path: Path) -> tuple[str, ...]:
    """Check the size; a wide table under the part may make a scan large, which is a note and no refusal."""
    from juxtum.assemble import find_table

    try:
        check_size(file.size * scale, nominal, path)
    except InputError:
        ratio = file.size * scale / nominal.diagonal
        many = _parts_in(file.scan, nominal.diagonal / scale) if ratio > LARGEST_RATIO else 0
        if many > 1:
            return (f"the scan holds {many} pieces of the size of the part: separate them, or keep one",)
        if not LARGEST_RATIO < ratio < LARGEST_WITH_TABLE or find_table(file.scan) is None:
            raise
        return (
            f"the scan is {ratio:.3g} times as large as the nominal, which its table may explain; see that the unit is right",
        )
    return ()


def _parts_in(scan: Scan, size: float) -> int:
    """How many pieces of a scan are about as large as a part of some size."""
    from juxtum.assemble import find_fragments

    pieces = find_fragments(scan)
    owner = pieces.labels
    if isinstance(scan, TriangleMesh):
        owner = np.zeros(len(scan.points), dtype=np.int64)
        owner[scan.triangles] = pieces.labels[:, None]
    sizes = [
        float(np.linalg.norm(np.ptp(scan.points[owner == k], axis=0)))
        for k in range(min(len(pieces.areas), MOST_PARTS))
    ]
    return sum(0.5 * size < one < 1.5 * size for one in sizes)


def check_guess(file: MeshFile, nominal: Nominal, path: Path) -> None:
    """Ask for the unit when the numbers of a file without one do not look like millimetres."""
    guess = guess_unit(core_size(file.scan), nominal.diagonal)
    if guess is not Unit.MILLIMETRE:
        ratio = nominal.diagonal / core_size(file.scan)
        what = (
            f"the file names no unit and is {ratio:.3g} times smaller than the nominal; this looks like {guess.plural}"
        )
        raise InputError(what, str(path), f"Give its unit, for example {guess.value}")


def check_size(size: float, nominal: Nominal, path: Path) -> None:
    """Refuse a scan whose size has nothing to do with the nominal's."""
    ratio = size / nominal.diagonal
    if ratio > LARGEST_RATIO:
        raise InputError(
            f"the scan is {ratio:.3g} times as large as the nominal", str(path), "Check the units of both files"
        )
    if ratio < 1 / (4 * LARGEST_RATIO):
        raise InputError(
            f"the scan is {1 / ratio:.3g} times smaller than the nominal", str(path), "Check the units of both files"
        )


def core_size(scan: Scan) -> float:
    """Diagonal of the bounds without the outermost half per cent, which may be stray fragments."""
    some = scan.points[:: max(1, len(scan.points) // 20_000)]
    low, high = np.quantile(some, [0.005, 0.995], axis=0)
    return max(float(np.linalg.norm(high - low)), 1e-9)
