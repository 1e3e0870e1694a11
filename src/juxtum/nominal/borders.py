"""The exact borders of CAD faces: cubic pieces, who follows whom, and which faces meet where."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.exchange.solid import CadArrays
from juxtum.geometry.arrays import Bools, Floats, Ints, unit
from juxtum.geometry.mesh import TriangleMesh

LEAF = 6
"""Border pieces that one box of the tree holds at most."""


def _welded(nodes: Floats) -> npt.NDArray[np.int64]:
    """Number of the common place of each node (N,): faces that meet share the places along their edge."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    pairs = cKDTree(nodes).query_pairs(1e-6, output_type="ndarray")
    n = len(nodes)
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(n, n))
    _, labels = connected_components(graph, directed=False)
    return np.asarray(labels, dtype=np.int64)


@dataclass(frozen=True, eq=False)
class Borders:
    """Borders of all faces, and who meets at each welded place.

    Parameters
    ----------
    pieces : array (K, 12)
        Start, end and the two end tangents of each piece; those of one face lie together.
    trees : tuple of arrays
        First tree node of each face, boxes of the nodes, first and last piece and next node beside each node, pieces.
    neighbours : array (K, 2)
        Previous and next piece, -1 for none.
    ends : array (K, 2)
        Welded places of start and end.
    corner_starts, corner_entries : arrays
        Face and node of everything that meets at a welded place.
    welded : array (N,)
        Place of each node.
    sharp : array (K,)
        Pieces whose faces meet at an angle, not smoothly.
    """

    pieces: Floats
    trees: tuple[npt.NDArray[Any], ...]
    neighbours: npt.NDArray[np.int64]
    ends: npt.NDArray[np.int64]
    corner_starts: npt.NDArray[np.int64]
    corner_entries: npt.NDArray[np.int64]
    welded: npt.NDArray[np.int64]
    sharp: Bools


def borders(t: CadArrays) -> Borders:
    """The borders of all faces: edges of the triangles that no other triangle of the same face shares."""
    welded = _welded(t.nodes)
    count = int(welded.max()) + 1
    tri_welded = welded[t.triangles]
    first, second = tri_welded.ravel(), np.roll(tri_welded, -1, axis=1).ravel()
    faces = np.repeat(t.triangle_faces, 3).astype(np.int64)
    low, high = np.minimum(first, second), np.maximum(first, second)
    keys = (faces * count + low) * count + high
    _, inverse, counts = np.unique(keys, return_inverse=True, return_counts=True)
    open_edges = np.flatnonzero((counts[inverse] == 1) & (low != high))
    open_edges = open_edges[np.argsort(faces[open_edges], kind="stable")]
    start_nodes, end_nodes = t.triangles.ravel()[open_edges], np.roll(t.triangles, -1, axis=1).ravel()[open_edges]
    pieces, owners, steps = _bent(t, start_nodes, end_nodes)
    order, first_nodes, spans = _arranged(faces[open_edges[owners]], (pieces[:, :3] + pieces[:, 3:6]) / 2, len(t.kinds))
    pieces, owners, steps = np.ascontiguousarray(pieces[order]), owners[order], steps[order]
    ends = np.column_stack([welded[start_nodes], welded[end_nodes]])[owners]
    sharp = _sharp(low[open_edges] * count + high[open_edges], TriangleMesh(t.nodes, t.triangles), open_edges // 3)[
        owners
    ]
    # Places within a bent border have numbers of their own, beyond those of the nodes.
    chain = np.where(steps == np.array([0, 4]), ends, count + 3 * owners[:, None] + steps - 1)
    neighbours = _neighbours(faces[open_edges[owners]] * (count + 3 * len(open_edges)), chain)
    corners = np.argsort(welded, kind="stable")
    entries = np.column_stack([_node_faces(t)[corners], corners])
    trees = (first_nodes, _boxes(pieces, spans), spans, pieces)
    return Borders(
        pieces, trees, neighbours, ends, np.searchsorted(welded[corners], np.arange(count + 1)), entries, welded, sharp
    )


def _bent(t: CadArrays, starts: Ints, ends: Ints) -> tuple[Floats, Ints, Ints]:
    """Cubic pieces (K, 12) of borders: one for a straight one or an arc, four for any other curve.

    Also the border of each piece, and the quarters (K, 2) between which it runs: 0 to 4.
    """
    whole = _cubic_pieces(t.nodes[starts], t.nodes[ends], *_end_tangents(t, starts, ends))
    rows = {(int(a), int(b)): index for index, (a, b) in enumerate(t.bend_owners)}
    made, owners, steps = [], [], []
    for index, (a, b) in enumerate(zip(starts.tolist(), ends.tolist(), strict=True)):
        forward, backward = rows.get((a, b)), rows.get((b, a))
        if forward is None and backward is None:
            continue
        between = t.bends[forward] if forward is not None else t.bends[backward][::-1]
        places = np.concatenate([whole[None, index, :3], between[:, 0], whole[None, index, 3:6]])
        tangents = np.concatenate([unit(whole[None, index, 6:9]), between[:, 1], unit(whole[None, index, 9:])])
        chords = unit(np.diff(places, axis=0))
        first, last = (_turned(part, chords) for part in (tangents[:-1], tangents[1:]))
        made.append(_cubic_pieces(places[:-1], places[1:], first, last))
        owners += [index] * 4
        steps += [(0, 1), (1, 2), (2, 3), (3, 4)]
    straight = np.setdiff1d(np.arange(len(starts)), owners)
    pieces = np.concatenate([whole[straight], *made])
    together = np.concatenate([straight, np.array(owners, dtype=np.int64)])
    order = np.argsort(together, kind="stable")
    quarters = np.concatenate([np.tile([0, 4], (len(straight), 1)), np.array(steps, dtype=np.int64).reshape(-1, 2)])
    return pieces[order], together[order], quarters[order]


def _turned(tangents: Floats, chords: Floats) -> Floats:
    """Tangents (K, 3) that point the way of their chords; the chord where they run across it."""
    along = np.einsum("ij,ij->i", tangents, chords)[:, None]
    return np.where(np.abs(along) > 0.7, tangents * np.sign(along), chords)


def _node_faces(t: CadArrays) -> npt.NDArray[np.int64]:
    owners = np.zeros(len(t.nodes), dtype=np.int64)
    owners[t.triangles.ravel()] = np.repeat(t.triangle_faces, 3)
    return owners


def _neighbours(offsets: npt.NDArray[np.int64], places: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """The piece that ends where each piece begins, and the one that begins where it ends (K, 2)."""
    begins = {int(key): i for i, key in enumerate(offsets + places[:, 0])}
    ends = {int(key): i for i, key in enumerate(offsets + places[:, 1])}
    before = [ends.get(int(key), -1) for key in offsets + places[:, 0]]
    after = [begins.get(int(key), -1) for key in offsets + places[:, 1]]
    return np.array([before, after], dtype=np.int64).T.copy()


def _arranged(faces: npt.NDArray[np.int64], middles: Floats, count: int) -> tuple[Ints, Ints, Ints]:
    """An order of the pieces in which near ones of a face lie together, and the trees over them.

    Returns the order (K,), the first tree node of each face (count + 1,), and for each node its first and last piece
    (none where it has nodes below it) and the next node beside it.
    """
    order = np.arange(len(faces))
    bounds = np.searchsorted(faces, np.arange(count + 1))
    first_nodes = np.zeros(count + 1, dtype=np.int64)
    spans: list[list[int]] = []
    for face in range(count):
        first_nodes[face] = len(spans)
        if bounds[face + 1] > bounds[face]:
            _split(order, middles, (int(bounds[face]), int(bounds[face + 1])), spans)
    first_nodes[count] = len(spans)
    return order, first_nodes, np.array(spans, dtype=np.int64).reshape(-1, 5)


def _split(order: Ints, middles: Floats, span: tuple[int, int], spans: list[list[int]]) -> None:
    """Add the node of a span of pieces and all below it; a node that is no leaf has an empty span of its own."""
    first, last = span
    row = len(spans)
    spans.append([first, last, 0, first, last])
    if last - first > LEAF:
        inside = middles[order[first:last]]
        axis = int(np.argmax(np.ptp(inside, axis=0)))
        half = (last - first) // 2
        order[first:last] = order[first:last][np.argpartition(inside[:, axis], half)]
        spans[row][1] = first
        _split(order, middles, (first, first + half), spans)
        _split(order, middles, (first + half, last), spans)
    spans[row][2] = len(spans)


def _boxes(pieces: Floats, spans: Ints) -> Floats:
    """Lowest and highest corner (nodes, 6) of the chords below each node of the trees."""
    low, high = np.minimum(pieces[:, :3], pieces[:, 3:6]), np.maximum(pieces[:, :3], pieces[:, 3:6])
    boxes = np.empty((len(spans), 6))
    for row, (first, last) in enumerate(spans[:, 3:].tolist()):
        boxes[row, :3], boxes[row, 3:] = low[first:last].min(0), high[first:last].max(0)
    return boxes


def _sharp(keys: npt.NDArray[np.int64], mesh: TriangleMesh, triangles: Ints, degrees: float = 28.0) -> Bools:
    """Which border pieces have a mate whose triangle looks more than `degrees` away, or no mate at all."""
    _, inverse, counts = np.unique(keys, return_inverse=True, return_counts=True)
    normals = mesh.triangle_normals[triangles]
    sums = np.stack([np.bincount(inverse, normals[:, k]) for k in range(3)], axis=1)
    bent = np.linalg.norm(sums, axis=1) < 2 * np.cos(np.radians(degrees) / 2)
    return np.asarray((bent | (counts != 2))[inverse])


def _end_tangents(t: CadArrays, starts: Ints, ends: Ints) -> tuple[Floats, Floats]:
    """Unit tangents (K, 3) of the exact edge at both ends of each border, along its chord."""
    order = np.argsort(t.tangent_owners[:, 1], kind="stable")
    nodes, tangents = t.tangent_owners[order, 1], t.tangents[order]
    chords = unit(t.nodes[ends] - t.nodes[starts])
    return _best_tangents(nodes, tangents, starts, chords), _best_tangents(nodes, tangents, ends, chords)


def _best_tangents(nodes: Ints, tangents: Floats, at: Ints, chords: Floats) -> Floats:
    """Of the tangents at each node the one most nearly along the chord, turned to point the same way; else the chord.

    Parameters
    ----------
    nodes, tangents : array (N,), (N, 3)
        Which node each tangent belongs to, rising.
    at, chords : array (K,), (K, 3)
        Where they are wanted.
    """
    begin, end = np.searchsorted(nodes, at), np.searchsorted(nodes, at, side="right")
    best, size = chords.copy(), np.full(len(at), 0.7)
    for k in range(int((end - begin).max(initial=0))):
        rows = np.flatnonzero(begin + k < end)
        candidates = tangents[begin[rows] + k]
        along = np.einsum("ij,ij->i", candidates, chords[rows])
        better = np.abs(along) > size[rows]
        rows = rows[better]
        best[rows] = candidates[better] * np.sign(along[better])[:, None]
        size[rows] = np.abs(along[better])
    return best


def _cubic_pieces(a: Floats, b: Floats, first: Floats, last: Floats) -> Floats:
    """Start, end and the two end tangents (K, 12) of each piece, as a cubic that follows the exact edge."""
    bend = np.arccos(np.clip(np.einsum("ij,ij->i", first, last), -1, 1))
    # The length of the tangents makes a cubic follow a circular arc to the fourth order in its angle.
    length = np.linalg.norm(b - a, axis=1) * (1 + bend**2 / 16)
    return np.ascontiguousarray(np.concatenate([a, b, first * length[:, None], last * length[:, None]], axis=1))
