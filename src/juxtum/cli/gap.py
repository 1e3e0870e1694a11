"""`juxtum gap`: two bodies in one frame, the gap between them and where one reaches into the other."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

import numpy as np

from juxtum.cli.progress import end_progress, show_progress
from juxtum.errors import InputError
from juxtum.evaluate.bodies import Clearance, clearance, cut_fine
from juxtum.exchange.cad import CAD_SUFFIXES
from juxtum.exchange.limits import check_file
from juxtum.exchange.meshes import write_ply
from juxtum.exchange.writing import write_atomically
from juxtum.geometry import TriangleMesh
from juxtum.guide.bodies import gap_facts
from juxtum.job.inputs import load_nominal, load_scan
from juxtum.progress import Progress
from juxtum.units import Unit

SCHEMA = "juxtum-gap-1"
PIECES = 80
"""A CAD model is looked at in triangles of its size by this."""


def gap_command(options: argparse.Namespace) -> int:
    """`juxtum gap BODY BODY`."""
    if options.out is not None and options.out.suffix.lower() != ".ply":
        raise InputError("only PLY holds a value at each place", str(options.out), "Name a file that ends in .ply")
    progress = show_progress()
    one, other = (_body(path, options.unit, progress) for path in (options.body, options.other))
    found = clearance(one, other, options.limit, progress)
    end_progress()
    if options.out is not None:
        write_atomically(options.out, lambda path: write_ply(path, found.map.mesh, {"gap": found.map.values}))
    if options.json:
        print(json.dumps(_document(found), indent=1, allow_nan=False))
    else:
        print("\n".join(f"{name}: {text}" for name, text in gap_facts(found)))
    places = found.places
    return 1 if options.strict and places is not None and places[0].value < 0 else 0


def _body(path: Path, unit: Unit | None, progress: Progress) -> TriangleMesh:
    """The surface of a mesh as it is, of a CAD model in pieces small enough to have values.

    Raises
    ------
    InputError
        When the file has no surface.
    """
    check_file(path)
    if path.suffix.lower() in CAD_SUFFIXES:
        part = load_nominal(path, unit, progress)
        return cut_fine(part.mesh, part.diagonal / PIECES)
    scan = load_scan(path, unit, None, 1.0, progress).scan
    if not isinstance(scan, TriangleMesh):
        raise InputError("a list of points has no surface", str(path), "Make one: juxtum assemble")
    return scan


def _document(found: Clearance) -> dict[str, object]:
    places = found.places

    def told(index: int) -> dict[str, object] | None:
        if places is None:
            return None
        return {"gap": round(places[index].value, 6), "place": np.round(places[index].where, 4).tolist()}

    return {
        "schema": SCHEMA, "units": "mm", "nearest": told(0), "farthest": told(1), "facing_area": round(found.facing, 3),
        "inside_area": round(found.inside, 3), "shared_volume": round(found.volume, 4),
    }  # fmt: skip
