"""Pieces of a surface that look the other way than what lies beside them."""

from __future__ import annotations

import numpy as np

from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats, Ints
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.topology import border_points, piece_labels

REACH = 3.0
"""Spacings across which the border of one piece goes on in another."""
AROUND = 8
FLAT = 0.5
"""What lies beside a border and not over it is off its plane by less than this share of how far it is."""
AHEAD = 0.6
"""And it lies ahead of the border, not along it as the border of a wall's other side does."""
CLEAR = 0.5
"""Cosine between directions of two borders from which on they look one way, or opposite ways."""
LEAST = 6
"""Places that must tell it."""
AGREED = 0.7
"""And the share of them that must agree."""


def turned_pieces(points: Floats, triangles: Ints, told: list[str]) -> Ints:
    """Triangles (M, 3) with those pieces wound anew whose neighbours look the opposite way; the larger area has it right.

    Only what goes on beside a border tells it: the two sides of a thin wall lie over each other and look opposite ways as
    they should.
    """
    mesh = TriangleMesh(points, triangles)
    labels = piece_labels(mesh)
    count = int(labels.max()) + 1
    if count == 1:
        return triangles
    votes = _votes(mesh, labels, count)
    areas: Floats = np.bincount(labels, mesh.triangle_areas, count).astype(np.float64)
    turn = np.zeros(count, dtype=bool)
    for group, senses in _groups(votes, areas):
        against = senses < 0
        if areas[group[against]].sum() > areas[group[~against]].sum():
            against = ~against
        turn[group[against]] = True
    if turn.any():
        area, many = areas[turn].sum(), int(turn.sum())
        what = "piece looked" if many == 1 else "pieces looked"
        told.append(
            f"{many} {what} the other way than what lies beside, {area:.0f} mm2, and {'was' if many == 1 else 'were'} turned"
        )
        triangles = np.where(turn[labels][:, None], triangles[:, ::-1], triangles)
    return triangles


def _votes(mesh: TriangleMesh, labels: Ints, count: int) -> dict[tuple[int, int], int]:
    """For each pair of pieces by how much more often their borders look one way (above zero) than opposite ways, where it is clear."""
    owner = np.full(len(mesh.points), -1)
    owner[mesh.triangles.ravel()] = np.repeat(labels, 3)
    rows = np.flatnonzero(border_points(mesh) & (owner >= 0))
    if len(rows) < 2:
        return {}
    reach = REACH * mesh.spacing
    near, at = kd_tree(mesh.points[rows]).query(mesh.points[rows], k=min(AROUND, len(rows)), distance_upper_bound=reach)
    mine, its = np.nonzero(np.isfinite(near))
    one, two = rows[mine], rows[at[mine, its]]
    apart = owner[one] != owner[two]
    one, two = one[apart], two[apart]
    away = mesh.points[two] - mesh.points[one]
    size, outwards = np.linalg.norm(away, axis=1), _outwards(mesh)[one]
    over = np.abs(np.einsum("ij,ij->i", away, mesh.normals[one]))
    ahead = np.einsum("ij,ij->i", away, outwards) / np.maximum(np.linalg.norm(outwards, axis=1), 1e-12)
    alike = np.einsum("ij,ij->i", mesh.normals[one], mesh.normals[two])
    good = (over < FLAT * size) & (ahead > AHEAD * size) & (np.abs(alike) > CLEAR)
    keys = np.minimum(owner[one], owner[two]) * count + np.maximum(owner[one], owner[two])
    found: dict[tuple[int, int], int] = {}
    for key in np.unique(keys[good]):
        signs = np.sign(alike[good & (keys == key)])
        net = int(signs.sum())
        if len(signs) >= LEAST and abs(net) >= (2 * AGREED - 1) * len(signs):
            found[(int(key) // count, int(key) % count)] = net
    return found


def _outwards(mesh: TriangleMesh) -> Floats:
    """From the middle of the triangles about each point to the point itself (N, 3): on a border, away from the surface."""
    corners, centres = mesh.triangles.ravel(), np.repeat(mesh.corners.mean(1), 3, axis=0)
    count = np.maximum(np.bincount(corners, minlength=len(mesh.points)), 1)
    middles = [np.bincount(corners, column, len(mesh.points)) / count for column in centres.T]
    return np.asarray(mesh.points - np.stack(middles, 1))


def _groups(votes: dict[tuple[int, int], int], areas: Floats) -> list[tuple[Ints, Ints]]:
    """Pieces that hang together by votes, and the sense of each as its largest one has it, the clearest votes first."""
    group: dict[int, dict[int, int]] = {}
    for (one, two), net in sorted(votes.items(), key=lambda vote: -abs(vote[1])):
        mine, its = group.setdefault(one, {one: 1}), group.setdefault(two, {two: 1})
        if mine is its:
            continue
        sense = mine[one] * its[two] * (1 if net > 0 else -1)
        for piece, own in its.items():
            mine[piece] = own * sense
            group[piece] = mine
    every = {id(members): members for members in group.values()}.values()
    made = [(np.array(list(members)), np.array(list(members.values()))) for members in every]
    return [(pieces, senses * senses[np.argmax(areas[pieces])]) for pieces, senses in made]
