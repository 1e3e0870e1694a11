"""`juxtum gap`: two bodies in one frame, the gap between them and where one reaches into the other."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

import numpy as np

from juxtum.cli.progress import end_progress, show_progress
from juxtum.errors import InputError
from juxtum.evaluate.bodies import Clearance, clearance
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
ASSUMED = "{name} names no unit, and millimetres are taken; give --unit where that is wrong"


def gap_command(options: argparse.Namespace) -> int:
    """`juxtum gap BODY BODY`."""
    if options.out is not None and options.out.suffix.lower() != ".ply":
        raise InputError("only PLY holds a value at each place", str(options.out), "Name a file that ends in .ply")
    progress = show_progress()
    (one, notes), (other, more) = (_body(path, options.unit, progress) for path in (options.body, options.other))
    found = clearance(one, other, options.limit, progress)
    end_progress()
    for note in (*notes, *more):
        print(f"note: {note}", file=sys.stderr)
    if options.out is not None:
        write_atomically(options.out, lambda path: write_ply(path, found.map.mesh, {"gap": found.map.values}))
    if options.json:
        print(json.dumps(_document(found, (*notes, *more)), indent=1, allow_nan=False))
    else:
        print("\n".join(f"{name}: {text}" for name, text in gap_facts(found)))
    places = found.places
    return 1 if options.strict and places is not None and places[0].value < 0 else 0


def _body(path: Path, unit: Unit | None, progress: Progress) -> tuple[TriangleMesh, tuple[str, ...]]:
    """The surface of a mesh or a CAD model, without what is invented of it, and what has to be told of the file.

    Raises
    ------
    InputError
        When the file has no surface.
    """
    check_file(path)
    if path.suffix.lower() in CAD_SUFFIXES:
        return load_nominal(path, unit, progress).mesh, ()
    loaded = load_scan(path, unit, None, 1.0, progress)
    if not isinstance(loaded.scan, TriangleMesh):
        raise InputError("a list of points has no surface", str(path), "Make one: juxtum assemble")
    told = (ASSUMED.format(name=path.name),) if loaded.unit_is_assumed else ()
    return loaded.scan.measured, (*told, *loaded.problems)


def _document(found: Clearance, notes: tuple[str, ...]) -> dict[str, object]:
    places = found.places

    def told(index: int) -> dict[str, object] | None:
        if places is None:
            return None
        place = places[index]
        return {
            "gap": round(place.value, 6), "expanded_uncertainty": round(place.expanded, 6),
            "place": np.round(place.where, 4).tolist(),
        }  # fmt: skip

    return {
        "schema": SCHEMA, "units": "mm", "nearest": told(0), "farthest": told(1), "facing_area": round(found.facing, 3),
        "inside_area": round(found.inside, 3), "shared_volume": round(found.volume, 4),
        "notes": list(notes),
    }  # fmt: skip
