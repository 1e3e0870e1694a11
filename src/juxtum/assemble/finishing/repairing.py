"""Repair of a surface: what keeps it from being one sheet with an inside and an outside is found, mended and told."""

from __future__ import annotations

import numpy as np

from juxtum.assemble.finishing.crossed import to_go
from juxtum.assemble.finishing.facing import turned_pieces
from juxtum.assemble.finishing.worked import Worked
from juxtum.errors import InputError
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats, Ints, areas_of
from juxtum.geometry.topology import (
    beside,
    closure,
    components,
    edge_keys,
    piece_labels,
    sound_triangles,
)
from juxtum.progress import Progress, silent

NEEDLE, WIDTH = 0.01, 1e-5
"""An edge shorter than this share of those beside it, and of the size of the whole, is drawn together.

A chamfer is as short beside its length, and a mesh may be a hundred times finer in one place than in another."""
SPECK = 4
"""A piece of fewer triangles than this is a speck."""
ROUNDS = 6
"""Mending one thing may bring another to light."""


def repair(mesh: TriangleMesh, progress: Progress | None = None) -> Worked:
    """Mend a surface: repeated points and triangles, needles, crowded edges, windings, pinched points, crossings, specks.

    Triangles that cross others go, and leave a hole; nothing else that was measured goes but what lies twice. Points
    move only where a needle is drawn together.

    Raises
    ------
    InputError
        When nothing of it is sound.
    """
    progress = progress or silent()
    told: list[str] = []
    points, triangles, rows = mesh.points, mesh.triangles, np.arange(len(mesh.triangles))
    progress.phase("looking for what lies twice", 0.05)
    points, triangles = _joined(points, triangles, told)
    triangles, rows, largest = _without_needles(points, triangles, rows, told)
    progress.phase("looking for what crosses", 0.2)
    triangles, rows = _without_crossings(points, triangles, rows, told)
    progress.phase("looking at edges", 0.6)
    triangles, rows = _uncrowded(points, triangles, rows, told)
    if len(triangles) == 0:
        raise InputError("nothing of the surface is sound", "repair", "Export it again from where it came")
    progress.phase("turning what is wound the other way", 0.7)
    triangles = turned_pieces(points, _wound(points, triangles, told), told)
    points, triangles = _unpinched(points, triangles, told)
    triangles, rows = _without_specks(points, triangles, rows, told)
    used = np.unique(triangles)
    numbers = np.full(len(points), -1)
    numbers[used] = np.arange(len(used))
    invented = None if mesh.invented is None else mesh.invented[rows]
    made = TriangleMesh(points[used], numbers[triangles], invented)
    if not told:
        return Worked(mesh, ("nothing had to be repaired",))
    return Worked(made, tuple(told), largest=largest)


def _count(number: int, one: str, many: str) -> str:
    return f"1 {one}" if number == 1 else f"{number} {many}"


def _joined(points: Floats, triangles: Ints, told: list[str]) -> tuple[Floats, Ints]:
    """Open edges that lie along each other become one: triangles that hang loose beside each other.

    Points alone are not drawn together: where two sheets touch in one, each has one of its own for good.
    """
    keys = edge_keys(triangles, len(points)).ravel()
    _, first, counts = np.unique(keys, return_index=True, return_counts=True)
    alone = first[counts == 1]
    if len(alone) == 0:
        return points, triangles
    ends = np.stack([triangles.ravel()[alone], np.roll(triangles, -1, axis=1).ravel()[alone]], axis=1)
    loose, inside = np.unique(ends, return_inverse=True)
    _, place = np.unique(points[loose], axis=0, return_inverse=True)
    pairs = np.sort(place.ravel()[inside.reshape(-1, 2)], axis=1)
    _, pair, beside_each_other = np.unique(pairs, axis=0, return_inverse=True, return_counts=True)
    joined = ends[beside_each_other[pair.ravel()] > 1].ravel()
    if len(joined) == 0:
        return points, triangles
    rows = np.unique(joined)
    at = place.ravel()[np.searchsorted(loose, rows)]
    lowest = np.full(int(at.max()) + 1, len(points))
    np.minimum.at(lowest, at, rows)
    numbers = np.arange(len(points))
    numbers[rows] = lowest[at]
    gone = int((numbers[rows] != rows).sum())
    if gone:
        told.append(f"{_count(gone, 'point', 'points')} lay in the place of others and became one with them")
    return points, numbers[triangles]


def _without_needles(points: Floats, triangles: Ints, rows: Ints, told: list[str]) -> tuple[Ints, Ints, float]:
    """Edges much shorter than those beside them are drawn together; what has no area, or is there twice, goes."""
    together = np.arange(len(points))
    for _ in range(ROUNDS):
        again = _drawn_together(points, together[triangles])[together]
        if (again == together).all():
            break
        together = again
    largest = float(np.linalg.norm(points - points[together], axis=1).max(initial=0.0))
    triangles = together[triangles]
    distinct = (triangles != np.roll(triangles, -1, axis=1)).all(1)
    sound = sound_triangles(points, triangles)
    needles, flat = int((~distinct).sum()), int((distinct & (areas_of(points, triangles) <= 0)).sum())
    twice = int((~sound).sum()) - needles - flat
    if needles + flat:
        told.append(
            f"{_count(needles + flat, 'sliver', 'slivers')} without any width went, by moving points {largest:.4f} mm at most"
        )
    if twice:
        told.append(f"{_count(twice, 'triangle was', 'triangles were')} there twice and went once")
    return triangles[sound], rows[sound], largest


def _drawn_together(points: Floats, triangles: Ints) -> Ints:
    """Of each point (N,) the one that it becomes one with: itself where no edge at it is a needle's.

    Points that hang together by short edges farther than a needle is wide stay as they are.
    """
    ends = np.roll(triangles, -1, axis=1)
    lengths = np.linalg.norm(points[triangles] - points[ends], axis=2)
    widest = WIDTH * float(np.linalg.norm(np.ptp(points[triangles.ravel()], axis=0)))
    beside = _usual_at(len(points), triangles, ends, lengths)
    short = lengths < np.minimum(NEEDLE * np.minimum(beside[triangles], beside[ends]), widest)
    together = np.arange(len(points))
    if short.any():
        groups = components(len(points), triangles[short].astype(np.int64), ends[short].astype(np.int64))
        _, first = np.unique(groups, return_index=True)
        moved = np.linalg.norm(points - points[first[groups]], axis=1)
        far = np.zeros(len(first), dtype=bool)
        np.logical_or.at(far, groups, moved > widest)
        together = np.where(far[groups], together, first[groups])
    return together


def _usual_at(count: int, triangles: Ints, ends: Ints, lengths: Floats) -> Floats:
    """Median of the edges that end in each of so many points, mm; 0 where none does."""
    at, long = np.concatenate([triangles.ravel(), ends.ravel()]), np.tile(lengths.ravel(), 2)
    order = np.lexsort((long, at))
    starts = np.searchsorted(at[order], np.arange(count + 1))
    middle = (starts[:-1] + starts[1:]) // 2
    there = starts[1:] > starts[:-1]
    return np.where(there, long[order][np.minimum(middle, len(order) - 1)], 0.0)


def _without_crossings(points: Floats, triangles: Ints, rows: Ints, told: list[str]) -> tuple[Ints, Ints]:
    bad = to_go(points, triangles)
    if not bad.any() or bad.all():
        return triangles, rows
    gone = int(bad.sum())
    told.append(f"{_count(gone, 'triangle', 'triangles')} crossed others and went: look at the holes they leave")
    return triangles[~bad], rows[~bad]


def _uncrowded(points: Floats, triangles: Ints, rows: Ints, told: list[str]) -> tuple[Ints, Ints]:
    """Where more than two triangles meet along an edge, those of the two largest sheets stay."""
    gone, edges = 0, 0
    for _ in range(ROUNDS):
        keys = edge_keys(triangles, len(points))
        _, inverse, counts = np.unique(keys.ravel(), return_inverse=True, return_counts=True)
        crowded = counts[inverse] > 2
        if not crowded.any():
            break
        edges += int((counts > 2).sum())
        sizes = _sheet_sizes(triangles, inverse.reshape(-1, 3), counts, areas_of(points, triangles))
        places = np.flatnonzero(crowded)
        # At each such edge: the largest sheets first, and the third and all after it go.
        order = np.lexsort((-sizes[places // 3], inverse[places]))
        places = places[order]
        rank = np.arange(len(places)) - np.searchsorted(inverse[places], inverse[places])
        keep = np.ones(len(triangles), dtype=bool)
        keep[places[rank > 1] // 3] = False
        gone += int((~keep).sum())
        triangles, rows = triangles[keep], rows[keep]
    if edges:
        where = _count(edges, "edge", "edges")
        told.append(
            f"more than two triangles met along {where}: {_count(gone, 'triangle', 'triangles')} of the lesser sheets went"
        )
    return triangles, rows


def _sheet_sizes(triangles: Ints, edges: Ints, counts: Ints, areas: Floats) -> Floats:
    """Area of the sheet that each triangle (M,) belongs to, sheets ending where edges are crowded."""
    paired = (counts[edges] == 2).ravel()
    owner = np.repeat(np.arange(len(triangles)), 3)[paired]
    order = np.argsort(edges.ravel()[paired], kind="stable")
    both = owner[order].reshape(-1, 2)
    label = components(len(triangles), both[:, 0], both[:, 1])
    return np.asarray(np.bincount(label, areas)[label])


def _wound(points: Floats, triangles: Ints, told: list[str]) -> Ints:
    """All wound one way: as most of each piece is, and a closed one with its inside inside."""
    from juxtum.assemble.finishing import _finishing_kernels as kernels

    turned, piece, torn = kernels.wind(*beside(triangles, len(points)))
    areas = areas_of(points, triangles)
    share = np.bincount(piece, areas * turned) / np.maximum(np.bincount(piece, areas), 1e-300)
    turn = turned ^ (share > 0.5)[piece]
    if torn:
        told.append(f"at {_count(torn, 'edge', 'edges')} no winding agrees: the surface has only one side there")
    if turn.any():
        told.append(f"{_count(int(turn.sum()), 'triangle was', 'triangles were')} wound the other way and turned")
        triangles = np.where(turn[:, None], triangles[:, ::-1], triangles)
    if piece.max() == 0 and not torn:
        whole = TriangleMesh(points, triangles)
        if whole.volume < 0 and closure(whole).is_watertight:
            told.append("all of it was inside out and was turned")
            triangles = triangles[:, ::-1]
    return triangles


def _unpinched(points: Floats, triangles: Ints, told: list[str]) -> tuple[Floats, Ints]:
    """Points in which sheets only touch become one for each sheet."""
    other, agrees = beside(triangles, len(points))
    face, edge = np.nonzero((other >= 0) & agrees)
    across = other[face, edge]
    joints = []
    for end in (0, 1):
        corner = (edge + end) % 3
        point = triangles[face, corner]
        there = np.argmax(triangles[across] == point[:, None], axis=1)
        joints.append((3 * face + corner, 3 * across + there))
    first = np.concatenate([a for a, _ in joints])
    second = np.concatenate([b for _, b in joints])
    label = components(3 * len(triangles), first, second)
    _, where = np.unique(label, return_index=True)
    owner = triangles.ravel()[where]
    more = len(owner) - len(np.unique(owner))
    if more == 0:
        return points, triangles
    told.append(f"sheets only touched in {_count(more, 'point', 'points')}: each has a point of its own there now")
    return points[owner], label.reshape(-1, 3)


def _without_specks(points: Floats, triangles: Ints, rows: Ints, told: list[str]) -> tuple[Ints, Ints]:
    label = piece_labels(TriangleMesh(points, triangles))
    sizes = np.bincount(label)
    keep = sizes[label] >= SPECK
    if keep.all() or not keep.any():
        return triangles, rows
    specks = int(((sizes > 0) & (sizes < SPECK)).sum())
    told.append(f"{_count(specks, 'speck', 'specks')} of less than {SPECK} triangles went")
    return triangles[keep], rows[keep]
