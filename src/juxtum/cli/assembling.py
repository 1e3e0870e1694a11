"""`juxtum assemble`: several scans become one surface."""

from __future__ import annotations

import argparse
import csv
import json
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from juxtum.align.scans.ties import Tie
from juxtum.assemble.assembling import Assembly, Brought, Trim, Wanted, assemble, ties_from_pairs, ties_from_targets
from juxtum.cli.progress import end_progress, show_progress
from juxtum.errors import InputError
from juxtum.exchange.documents import Form, read_document
from juxtum.exchange.limits import check_file
from juxtum.exchange.mesh_writing import write_mesh, writer_of
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.job.inputs import load_scan
from juxtum.units import Unit

TARGETS_APART = 0.3
"""How far a target may lie off where another scan saw it, mm."""
MOST_BYTES = 20_000_000
Number = float
Place = tuple[Number, Number, Number]


class PickedPairs(BaseModel):
    """Points picked on two scans: each pair a place of the first and of the second, mm, in the frames of their files."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    first: str
    second: str
    points: tuple[tuple[Place, Place], ...] = Field(min_length=3, max_length=1000)


class PairsFile(BaseModel):
    """The document behind `--pairs`."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    pairs: tuple[PickedPairs, ...] = Field(max_length=1000)


def assemble_command(options: argparse.Namespace) -> int:
    """`juxtum assemble SCAN...`."""
    writer_of(options.out)
    if not options.out.resolve().parent.is_dir():
        raise InputError("the folder for the surface is not there", str(options.out), "Make it, or choose another")
    scans, told = measured_of(brought(options.scans, options.scan_unit))
    given = _given(options, scans)
    wanted = Wanted(options.spacing, options.watertight, Trim(options.trim), by_shape=options.by_shape)
    made = assemble(scans, wanted, given, show_progress())
    made = replace(made, notes=(*told, *made.notes))
    end_progress()
    _write(options.out, made)
    print(
        json.dumps(document(made), indent=1, allow_nan=False) if options.json else "\n".join(_lines(made, options.out))
    )
    return 1 if options.strict and not made.joined.is_whole else 0


def brought(paths: Sequence[Path], unit: Unit | None) -> tuple[Brought, ...]:
    """Scans read from their files; the names tell two of one name apart."""
    for path in paths:
        check_file(path)
    if len({path.resolve() for path in paths}) < len(paths):
        raise InputError("one file is given twice", "scans", "Give each scan once")
    found = []
    for path in paths:
        loaded = load_scan(path, unit, None, 1.0, show_progress())
        name = path.name if sum(p.name == path.name for p in paths) == 1 else str(path)
        found.append(Brought(name, loaded.scan))
    sizes = [float(np.linalg.norm(np.ptp(b.scan.points, axis=0))) for b in found]
    if max(sizes) > 8 * min(sizes) and unit is None:
        largest, smallest = found[int(np.argmax(sizes))].name, found[int(np.argmin(sizes))].name
        what = f"{largest} is {max(sizes) / min(sizes):.0f} times as large as {smallest}"
        raise InputError(what, "units", "Where they are in different units bring them into one; else give --scan-unit")
    return tuple(found)


def measured_of(scans: Sequence[Brought]) -> tuple[tuple[Brought, ...], tuple[str, ...]]:
    """Scans without what their files mark as invented, with a word on those that had some: a new surface would not know."""
    kept, told = [], []
    for one in scans:
        scan = one.scan
        if isinstance(scan, TriangleMesh) and scan.invented is not None:
            told.append(f"{one.name}: {scan.invented_area:.1f} mm\u00b2 marked as invented are not joined")
            scan = scan.measured
        kept.append(Brought(one.name, scan))
    return tuple(kept), tuple(told)


def _given(options: argparse.Namespace, scans: Sequence[Brought]) -> list[Tie]:
    ties = []
    names = [brought.name for brought in scans]
    if options.pairs is not None:
        for picked in read_document(options.pairs, Form(PairsFile, "picked pairs", "See docs/assemble.md")).pairs:
            first, second = (_place(name, names, options.pairs) for name in (picked.first, picked.second))
            ties.append(ties_from_pairs(first, second, np.array(picked.points)))
    if options.targets is not None:
        ties += ties_from_targets(_targets(options.targets, names), TARGETS_APART)
    return ties


def _place(name: str, names: Sequence[str], where: Path) -> int:
    if name not in names:
        raise InputError(f"there is no scan '{name}'", str(where), f"The scans are: {', '.join(names)}")
    return names.index(name)


def _targets(path: Path, names: Sequence[str]) -> list[Floats]:
    """Targets of each scan from rows `scan,X,Y,Z`, in its own frame, mm.

    Raises
    ------
    InputError
        Naming the line that cannot be read.
    """
    if check_file(path) > MOST_BYTES:
        raise InputError("this is too large to be a list of targets", str(path), "Give scan, X, Y and Z of each")
    try:
        rows = list(csv.reader(path.read_text("utf-8-sig").splitlines()))
    except UnicodeDecodeError as problem:
        raise InputError("this is not a list of targets", str(path), "Give scan, X, Y and Z, as CSV") from problem
    found: list[list[list[float]]] = [[] for _ in names]
    for number, row in enumerate(rows, 1):
        if not row or (number == 1 and row[0].strip().lower() == "scan"):
            continue
        try:
            place = [float(cell) for cell in row[1:4]]
        except ValueError as problem:
            raise InputError(f"line {number} does not hold three numbers", str(path), "Give scan,X,Y,Z") from problem
        if len(place) != 3 or not np.isfinite(place).all():
            raise InputError(f"line {number} does not hold three numbers", str(path), "Give scan,X,Y,Z")
        found[_place(row[0].strip(), names, path)].append(place)
    return [np.array(places).reshape(-1, 3) for places in found]


def _write(path: Path, made: Assembly) -> None:
    write_mesh(path, made.surface if made.filled is None else made.filled)


def document(made: Assembly) -> dict[str, Any]:
    """The assembly for scripts."""
    joined, surface = made.joined, made.surface if made.filled is None else made.filled
    names = [brought.name for brought in made.scans]
    return {
        "schema": "juxtum-assembly-1", "units": "mm",
        "scans": [
            {"file": b.name, "points": len(b.scan.points), "tied": pose is not None,
             "pose": None if pose is None else pose.matrix.tolist(), "reason": reason}
            for b, pose, reason in zip(made.scans, joined.poses, joined.reasons, strict=True)
        ],
        "ties": [
            {"first": names[t.first], "second": names[t.second], "overlap": round(t.overlap.share, 4),
             "rms": round(t.overlap.rms, 5), "used": t.is_used, "reason": t.reason or "by their overlap"}
            for t in joined.ties
        ],
        "loops": [
            {"scans": [names[k] for k in loop.scans], "before_mm": round(loop.before_mm, 5),
             "before_deg": round(loop.before_deg, 6), "after_mm": round(loop.after_mm, 5), "after_deg": round(loop.after_deg, 6)}
            for loop in joined.loops
        ],
        "surface": {
            "points": len(surface.points), "triangles": len(surface.triangles), "area": round(surface.area, 3),
            "volume": None if made.filled is None else round(surface.volume, 3), "watertight": made.filled is not None,
            "invented_area": 0.0 if made.filled is None else round(made.filled.invented_area, 3), "largest_displacement": 0.0,
        },
        "holes": [
            {"kind": h.kind, "perimeter": round(h.perimeter, 3), "area": round(h.area, 3), "filled": made.filled is not None}
            for h in made.holes
        ],
        "noise": round(joined.noise, 5), "notes": list(made.notes),
    }  # fmt: skip


def _lines(made: Assembly, out: Path) -> list[str]:
    joined, surface = made.joined, made.surface
    tied = sum(pose is not None for pose in joined.poses)
    lines = [
        f"{tied} of {len(joined.poses)} scans tied by {sum(t.is_used for t in joined.ties)} overlaps, {1000 * joined.noise:.0f} \u00b5m between them"
    ]
    lines += [
        f"     loop of {len(loop.scans)}: {loop.before_mm:.3f} mm open before, {loop.after_mm:.3f} mm left in its ties"
        for loop in joined.loops[:3]
    ]
    lines.append(f"{len(surface.triangles)} triangles, {surface.area:.0f} mm2, {len(made.holes)} open borders")
    if made.filled is not None:
        lines.append(
            f"closed with {made.filled.invented_area:.0f} mm2 of invented faces, which are never to be measured"
        )
    return [*lines, *(f"note: {note}" for note in made.notes), f"written to {out}"]
