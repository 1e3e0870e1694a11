"""`juxtum separate`: the parts in one scan, each into a file of its own."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

import numpy as np

from juxtum.assemble.separating import Separated, separate
from juxtum.assemble.trim import find_flat, trim
from juxtum.cli.assembling import brought
from juxtum.cli.progress import end_progress, show_progress
from juxtum.exchange.meshes import write_ply
from juxtum.geometry.mesh import Scan
from juxtum.report.writer import check_folder

SCHEMA = "juxtum-parts-1"


def separate_command(options: argparse.Namespace) -> int:
    """Cut the table off, tell the parts apart, write each."""
    check_folder(options.out)
    (given,) = brought([options.scan], options.scan_unit)
    scan, progress = given.scan, show_progress()
    flat = find_flat(scan) if options.trim == "auto" else None
    if flat is not None:
        scan = trim(scan, flat.plane, 2 * flat.thickness)
    made = separate(scan, options.parts, progress)
    width = len(str(len(made.parts)))
    paths = [options.out / f"part {number:0{width}d}.ply" for number in range(1, len(made.parts) + 1)]
    for path, part in zip(paths, made.parts, strict=True):
        progress.phase(f"writing {path.name}", 0.9)
        _write(path, part)
    end_progress()
    print(json.dumps(_document(made, paths), indent=1) if options.json else "\n".join(_lines(made, options.out)))
    return 0


def _write(path: Path, part: Scan) -> None:
    normals = part.normals if not len(part.triangles) else None
    columns = {} if normals is None else dict(zip(("nx", "ny", "nz"), np.asarray(normals).T, strict=True))
    write_ply(path, part, columns)


def _document(made: Separated, paths: list[Path]) -> dict[str, object]:
    return {
        "schema": SCHEMA,
        "units": {"length": "mm"},
        "parts": [
            {"file": path.name, "points": len(part.points), "area": area, "centre": part.bounds.mean(0).tolist()}
            for path, part, area in zip(paths, made.parts, made.areas, strict=True)
        ],
        "spare_area": made.spare,
        "notes": list(made.notes),
    }


def _lines(made: Separated, folder: Path) -> list[str]:
    lines = [f"{len(made.parts)} parts written to {folder}"]
    lines += [f"note: {note}" for note in made.notes]
    if made.spare > 0:
        lines.append(f"note: {made.spare:.1f} mm2 belong to no part")
    return lines
