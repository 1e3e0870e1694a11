"""`juxtum finish`: work on one surface, its holes, and a word on all that was done."""

from __future__ import annotations

import argparse
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from juxtum.assemble.finishing import (
    Discs,
    Filling,
    Worked,
    fill,
    find_discs,
    repair,
    smooth,
    thin,
    without_targets,
)
from juxtum.assemble.holes import Hole, holes_of
from juxtum.assemble.layers import NEAR, Layers, find_layers
from juxtum.cli.assembling import brought
from juxtum.cli.progress import end_progress, show_progress
from juxtum.errors import InputError
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.named_places import read_named_places
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.topology import closure
from juxtum.guide.finishing import discs_words
from juxtum.progress import Progress
from juxtum.report.handing_out import check_target

SCHEMA = "juxtum-finished-1"
KINDS = ("target", "hole", "edge")
BY_SHAPE = "by-shape"


@dataclass
class _Bench:
    """The surface in work, and all that was told of it."""

    mesh: TriangleMesh
    notes: list[str]
    largest: float = 0.0
    discs: Discs | None = None

    def take(self, made: Worked) -> None:
        """Go on with what came of a piece of work."""
        self.mesh, self.largest = made.mesh, max(self.largest, made.largest)
        self.notes += made.notes


def finish_command(options: argparse.Namespace) -> int:
    """`juxtum finish SCAN`."""
    if options.out is not None:
        check_target(options.out)
    kinds = _kinds(options.kinds)
    if options.triangles is not None and options.thin is None:
        raise InputError("a number of triangles is given without a bound", "--triangles", "Give --thin MM as well")
    (given,) = brought([options.scan], options.scan_unit)
    if not isinstance(given.scan, TriangleMesh):
        what = "a list of points has no surface to work on"
        raise InputError(what, str(options.scan), "Make one of several scans: juxtum assemble")
    bench, progress = _Bench(given.scan, []), show_progress()
    _work(bench, options, kinds, progress)
    holes = holes_of(bench.mesh)
    layers = find_layers(bench.mesh, progress) if len(bench.mesh.points) >= NEAR else None
    end_progress()
    if options.out is not None:
        write_mesh(options.out, bench.mesh)
    if options.json:
        print(json.dumps(_document(bench, holes, layers), indent=1, allow_nan=False))
    else:
        print("\n".join(_lines(bench, holes, layers, options)))
    return 0


def _kinds(text: str) -> tuple[str, ...]:
    kinds = tuple(word.strip() for word in text.split(",") if word.strip())
    unknown = [kind for kind in kinds if kind not in KINDS]
    if unknown or not kinds:
        raise InputError(f"'{(unknown or [text])[0]}' is no kind of hole", "--kinds", f"Choose of {', '.join(KINDS)}")
    return kinds


def _work(bench: _Bench, options: argparse.Namespace, kinds: tuple[str, ...], progress: Progress) -> None:
    """In the order in which it makes sense: what does not belong goes first, fewer triangles come last."""
    if options.find_targets or options.targets_off == BY_SHAPE:
        bench.discs = find_discs(bench.mesh, options.diameter, progress)
        bench.notes.append(discs_words(bench.discs))
    places = _places(options, bench.discs)
    if len(places):
        bench.take(without_targets(bench.mesh, places, options.diameter, progress))
    if options.repair:
        bench.take(repair(bench.mesh, progress))
    if options.fill is not None:
        most = options.fill_up_to or np.inf
        chosen = [hole for hole in holes_of(bench.mesh) if hole.kind in kinds and hole.perimeter <= most]
        bench.take(fill(bench.mesh, chosen, Filling(options.fill), progress))
    if options.smooth is not None:
        bench.take(smooth(bench.mesh, options.smooth, progress=progress))
    if options.thin is not None:
        bench.take(thin(bench.mesh, options.thin, options.triangles, progress))


def _places(options: argparse.Namespace, discs: Discs | None) -> Floats:
    """Middles (K, 3) of the targets that go."""
    if options.targets_off is None:
        return np.zeros((0, 3))
    if options.targets_off == BY_SHAPE:
        return np.zeros((0, 3)) if discs is None else discs.places
    return np.array([one.place for one in read_named_places(Path(options.targets_off), "targets")])


def _document(bench: _Bench, holes: tuple[Hole, ...], layers: Layers | None) -> dict[str, Any]:
    mesh, watertight = bench.mesh, closure(bench.mesh).is_watertight
    return {
        "schema": SCHEMA, "units": "mm",
        "surface": {
            "points": len(mesh.points), "triangles": len(mesh.triangles), "area": round(mesh.area, 3),
            "volume": round(mesh.volume, 3) if watertight else None, "watertight": watertight,
            "invented_area": round(mesh.invented_area, 3), "largest_displacement": round(bench.largest, 6),
        },
        "holes": [
            {"kind": h.kind, "perimeter": round(h.perimeter, 3), "area": round(h.area, 3), "place": [round(float(x), 4) for x in h.place]}
            for h in holes
        ],
        "targets": [
            {"place": [round(float(x), 4) for x in d.place], "diameter": round(d.diameter, 3), "height": round(d.height, 4)}
            for d in (bench.discs.found if bench.discs is not None else ())
        ],
        "layers": [
            {"place": [round(float(x), 4) for x in p.place], "area": round(p.area, 2), "gap": round(p.gap, 4)}
            for p in (layers.patches if layers is not None else ())
        ],
        "notes": bench.notes,
    }  # fmt: skip


def _lines(bench: _Bench, holes: tuple[Hole, ...], layers: Layers | None, options: argparse.Namespace) -> list[str]:
    lines = list(bench.notes)
    lines.append(f"{len(bench.mesh.triangles)} triangles, {bench.mesh.area:.0f} mm2, {len(holes)} open borders")
    lines += [
        f"     {h.kind} of {h.perimeter:.1f} mm round, {h.area:.1f} mm2, at {' '.join(f'{x:.1f}' for x in h.place)}"
        for h in holes[:20]
    ]
    if len(holes) > 20:
        lines.append(f"     and {len(holes) - 20} shorter ones")
    lines += [
        f"     disc {d.diameter:.1f} mm across, {d.height:.3f} mm high, at {' '.join(f'{x:.1f}' for x in d.place)}"
        for d in (bench.discs.found if bench.discs is not None else ())
    ]
    if layers is not None and layers.patches:
        lines += [layers.sentence, *(f"     {patch.words}" for patch in layers.patches[1:5])]
    if options.out is not None:
        lines.append(f"written to {options.out}")
    return lines
