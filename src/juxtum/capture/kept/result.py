"""From a finished capture to files, a record and a surface."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from juxtum.assemble import find_table
from juxtum.assemble.surfacing import finest_spacing, make_surface
from juxtum.capture.kept.document import MOST_TARGETS, CapturedPatch, CaptureRecord, Event, FoundTarget
from juxtum.capture.live.coverage import Seen
from juxtum.capture.live.patch import Patch
from juxtum.capture.live.points import normals_of, places_of, read_points, write_points
from juxtum.capture.live.session import CaptureSession
from juxtum.devices.protocol import Points
from juxtum.errors import InputError
from juxtum.exchange.inputfile import InputFile
from juxtum.exchange.writing import write_atomically
from juxtum.geometry import PointCloud, TriangleMesh
from juxtum.geometry.arrays import Bools, Floats
from juxtum.progress import Progress, silent

ABOVE_TABLE = 0.6
"""Points nearer to the table than this are cut off with it, mm."""
LOOKED_AT = 60_000

Adopt = Callable[[Path], InputFile]


@dataclass(frozen=True, eq=False)
class PatchPoints:
    """Points of a patch, the position of the part in which they were taken, and their spacing, mm."""

    points: Points
    position: int
    spacing: float


def points_of(session: CaptureSession) -> tuple[PatchPoints, ...]:
    """The good patches of a session."""
    return tuple(PatchPoints(p.store.all(), p.position, p.spacing) for p in session.good)


def kept_points(record: CaptureRecord, locate: Callable[[InputFile], Path]) -> tuple[PatchPoints, ...]:
    """The patches of a record, read from their files.

    Raises
    ------
    InputError
        When a file is damaged.
    """
    return tuple(PatchPoints(read_points(locate(p.file)), p.position, p.spacing) for p in record.patches)


def surface_of(
    patches: Sequence[PatchPoints], spacing: float | None = None, progress: Progress | None = None
) -> TriangleMesh:
    """One open surface of all patches, in the coordinates of the map, without the table.

    Raises
    ------
    InputError
        When too little was captured.
    """
    progress = progress or silent()
    if not patches:
        raise InputError("nothing is captured yet", "surface", "Capture a patch first")
    places, normals = [], []
    for position in sorted({p.position for p in patches}):
        progress.phase("cutting off the table")
        points = np.concatenate([p.points for p in patches if p.position == position])
        where = places_of(points)
        kept = _off_table(where)
        places.append(where[kept])
        normals.append(normals_of(points)[kept])
    together = np.concatenate(places)
    chosen = spacing or max(min(p.spacing for p in patches), finest_spacing(np.ptp(together, axis=0)))
    return make_surface(together, np.concatenate(normals), chosen, progress)


def _off_table(places: Floats) -> Bools:
    """Points (N,) above the table of their position; all of them where there is none."""
    table = find_table(PointCloud(places[:: max(1, len(places) // LOOKED_AT)])) if len(places) > 1000 else None
    if table is None:
        return np.ones(len(places), dtype=bool)
    return np.asarray(table.distances(places) > ABOVE_TABLE)


def write_patch(patch: Patch, folder: Path) -> Path:
    """Write a patch's points, whole or not at all."""
    path = folder / f"patch-{patch.number}.ply"
    points: Points = patch.store.all()
    write_atomically(path, lambda target: write_points(target, points))
    return path


def record_of(
    session: CaptureSession,
    files: dict[int, InputFile],
    device: str,
    seed: int | None,
    times: tuple[str, str] = ("", ""),
) -> CaptureRecord:
    """The record of a capture whose patches were written.

    Parameters
    ----------
    files : dict
        By the patches' numbers.
    times : (str, str)
        When it began and ended, as clocks say it.
    """
    patches = tuple(
        CapturedPatch(
            number=p.number, file=files[p.number], position=p.position, mode=p.mode, spacing=p.spacing, points=len(p.store),
            seconds=round(p.seconds, 3), frames=p.frames, held=round(p.held / max(p.frames, 1), 4), times_lost=p.times_lost,
        )
        for p in session.good
    )  # fmt: skip
    planned, on_part = session.map.planned_rows, len(session.planner.plan.targets)
    targets = tuple(
        FoundTarget(
            handle=k,
            place=(round(float(x), 4), round(float(y), 4), round(float(z), 4)),
            planned=planned[k] + 1 if planned.get(k, on_part) < on_part else None,
        )
        for k, (x, y, z) in sorted(session.map.targets.items(), key=lambda item: (item[0] not in planned, item[0]))[
            :MOST_TARGETS
        ]
    )
    if len(session.map.targets) > MOST_TARGETS:
        session.note(
            "targets",
            f"the device names {len(session.map.targets)} targets; {MOST_TARGETS} are kept in the record, planned ones first",
        )
    matrix = (
        None if session.map.to_part is None else tuple(round(float(v), 10) for v in session.map.to_part.matrix.ravel())
    )
    return CaptureRecord(
        device=device, stand_in=session.is_simulated, seed=seed, began=times[0], ended=times[1], patches=patches, targets=targets, to_part=matrix,
        coverage=round(session.coverage.share(), 4), one_pass=round(session.coverage.share(Seen.ONE_PASS), 4), seconds=round(session.seconds, 2),
        events=tuple(Event(time=round(h.time, 3), word=h.word, why=h.why[:500]) for h in session.happenings),
    )  # fmt: skip
