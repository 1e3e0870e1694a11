"""Scans that hang together, seen as one: what is looked for by shape, and what speaks for a pose of one on another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import permutations
from typing import TYPE_CHECKING

import numpy as np

from juxtum.align.best_fit import free_motions
from juxtum.align.scans.edges import ENOUGH, EdgeEvidence, Edges, both_pulls, edge_evidence, edge_pulls
from juxtum.align.scans.overlap import LEAST_COUNT, Follower, Overlap, overlap_of
from juxtum.align.scans.shape import Search, make_search, poses_by_shape
from juxtum.align.scans.sheet import Sheet
from juxtum.align.scans.sight import Sight, least_hidden, least_missed, outlined, sights_of
from juxtum.align.scans.ties import FREE, TURNED, weighted
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.registration import Pulls, Rounds, register

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

MOST_HIDDEN = 0.01
"""So much of a scan may stand in the light of another: edges do, a little, whatever the pose."""
MOST_ASTRAY = 0.45
"""So many of the sharp edges may lie where the other is smooth: what one has not seen of a hole, the other takes for smooth."""
COARSE = 800
"""Points of the faces that are laid."""
FEW, ALL = 150, 3000
"""Edges that are looked at to tell the likely poses from all others, and to tell the likely ones apart."""
CHANCE, TELLING, A_HOLE = 0.002, 10.0, 10
"""Of the edges so many may lie astray by chance; so many more divide what a pose is worth by e, and again.

They come in rows: of a hole that one scan has not seen all are astray. So chance spreads as wide as holes of so many edges do."""
PLENTY = 0.35
"""Scans that have so much in common have enough."""
MANY, MOST_USUAL = 0.3, 0.04
"""How many edges usually lie astray is told by poses at which so many match, as a share of the most; it is never taken for more."""
LAID, KEPT, TURNED_ON, REPEATED = 7, 8, 3, 0.05
"""Poses that are laid by faces and edges, and that are handed on; of so many that few edges contradict others are made."""
REPEATS, FOLLOWED = 8, 2
"""Ways in which a scan fits itself that are kept, and likely poses that are turned on by each of them; as many of what comes of it are looked at."""
COVERED = 1.6


@dataclass(frozen=True, eq=False)
class Looks:
    """A scan, from where it may have been seen, and the motions that lay it onto itself again, or nearly so."""

    sheet: Sheet
    sights: tuple[Sight, ...]
    repeats: tuple[RigidTransform, ...] = ()


def looks_of(sheet: Sheet) -> Looks:
    """What is found out once of a scan.

    A flange of six holes alike but for one small one fits itself six times; wherever it fits another scan, it nearly fits
    five times more, and unless those are looked at, the wrong one of them can stand alone.
    """
    sights = sights_of(sheet)
    sheet = replace(sheet, known_edges=outlined(sheet, sights))
    looks = Looks(sheet, sights)
    alone = Body({0: RigidTransform.identity()}, {0: looks}, sheet)
    again = [fit for fit in fits_by_shape(alone, alone) if fit.edges.fault < REPEATED and not fit.overlap.objection]
    moves = [fit.move for fit in again if not alike(fit.move, RigidTransform.identity(), sheet)]
    return replace(looks, repeats=tuple(moves[:REPEATS]))


@dataclass(frozen=True, eq=False)
class Body:
    """Scans that hang together.

    Parameters
    ----------
    poses : dict of int to RigidTransform
        By their places in the list, into the body's frame.
    looks : dict of int to Looks
        Of each of them, in its own frame.
    sheet : Sheet
        Of all of them, in the body's frame.
    """

    poses: dict[int, RigidTransform]
    looks: dict[int, Looks]
    sheet: Sheet

    @cached_property
    def search(self) -> Search:
        """Onto which others are laid by shape."""
        return make_search(self.sheet)

    @cached_property
    def repeats(self) -> list[RigidTransform]:
        """Motions in its frame that lay one of its scans onto itself again, each once."""
        found: list[RigidTransform] = []
        for k, pose in self.poses.items():
            for again in self.looks[k].repeats:
                move = pose @ again @ pose.inverse
                if not any(alike(move, other, self.sheet) for other in found):
                    found.append(move)
        return found

    def hidden_by(self, points: Floats) -> float:
        """The largest share of points (N, 3), in its frame, that would have hidden one of its scans."""
        return max(least_hidden(pose.inverse.apply(points), self.looks[k].sights) for k, pose in self.poses.items())

    def missed_of(self, points: Floats, normals: Floats) -> float:
        """Share of points (N, 3), in its frame, that its scans should have seen and have not, of all they should have seen."""
        found = [
            least_missed(pose.inverse.apply(points), pose.inverse.turn(normals), self.looks[k].sights)
            for k, pose in self.poses.items()
        ]
        return sum(missed for missed, _ in found) / max(sum(able for _, able in found), 1)


def body_of(looks: Sequence[Looks], poses: dict[int, RigidTransform]) -> Body:
    """Scans as they lie, as one: a border that another scan covers is none, and neither is an edge there."""
    mine = {k: looks[k] for k in poses}
    if len(poses) == 1:
        ((row, pose),) = poses.items()
        if pose.angle == 0 and not pose.offset.any():
            return Body(poses, mine, looks[row].sheet)
    spacing = max(looks[k].sheet.spacing for k in poses)
    bare: dict[int, tuple[Bools, Bools]] = {}
    for k, pose in poses.items():
        inside = [other.apply(looks[m].sheet.points[~looks[m].sheet.border]) for m, other in poses.items() if m != k]
        sheet, own = looks[k].sheet, looks[k].sheet.edges
        tree = kd_tree(np.concatenate([*inside, np.full((1, 3), 1e12)]))
        bare[k] = (
            _away(pose.apply(sheet.points), tree, COVERED * spacing, sheet.border),
            ~own.is_end | _away(pose.apply(own.points), tree, COVERED * spacing, own.is_end),
        )
    # The edges of a whole are those of its scans, not what would be found on their points together.
    edges = _one_of_edges(looks, poses, bare)
    return Body(poses, mine, replace(_one_sheet(looks, poses, bare, spacing), known_edges=edges))


def _away(points: Floats, tree: cKDTree, reach: float, asked: Bools) -> Bools:
    """Which of the points (N, 3) that are asked for lie away from all in the tree."""
    made = np.array(asked)
    made[asked] = tree.query(points[asked], distance_upper_bound=reach, workers=-1)[0] == np.inf
    return made


def _one_sheet(
    looks: Sequence[Looks], poses: dict[int, RigidTransform], bare: dict[int, tuple[Bools, Bools]], spacing: float
) -> Sheet:
    """All points, no more than one in a cell."""
    points = np.concatenate([pose.apply(looks[k].sheet.points) for k, pose in poses.items()])
    normals = np.concatenate([pose.turn(looks[k].sheet.normals) for k, pose in poses.items()])
    border = np.concatenate([bare[k][0] for k in poses])
    keys = np.concatenate([np.floor(points / spacing), np.round(normals)], axis=1).astype(np.int64)
    rows = np.unique(keys, axis=0, return_index=True)[1]
    name = looks[min(poses)].sheet.name
    return Sheet(
        name, frozen(points[rows]), frozen(normals[rows]), frozen(border[rows], bool), spacing,
        frozen(points[border]),
    )  # fmt: skip


def _one_of_edges(
    looks: Sequence[Looks], poses: dict[int, RigidTransform], bare: dict[int, tuple[Bools, Bools]]
) -> Edges:
    moved = {k: looks[k].sheet.edges.moved(pose) for k, pose in poses.items()}
    kinds = []
    for kind in range(3):
        for k, e in moved.items():
            ends = (0, e.sharp, e.clear, len(e.points))
            rows = np.arange(len(e.points))
            kinds.append(e.kept((rows >= ends[kind]) & (rows < ends[kind + 1]) & bare[k][1]))
    points, along, out = (
        frozen(np.concatenate([getattr(e, name) for e in kinds])) for name in ("points", "along", "out")
    )
    sharp = sum(e.sharp for e in kinds)
    return Edges(points, along, out, sharp, sum(e.clear for e in kinds))


@dataclass(frozen=True, eq=False)
class Fit:
    """One body laid onto another, and what speaks for it.

    Parameters
    ----------
    move : RigidTransform
        From the first body's frame into the second's.
    overlap : Overlap
    edges : EdgeEvidence
    hidden : float
        The largest share of either that would stand in the light of a scan of the other.
    missed : float
        Share of what scans of either should have seen of the other and have not.
    free : tuple of str
        Motions that neither faces nor edges hold, in words.
    usual : float
        Share of edges that lie astray wherever these two are laid: round ones seen with few points are found in one only.
    """

    move: RigidTransform
    overlap: Overlap
    edges: EdgeEvidence
    hidden: float
    missed: float
    free: tuple[str, ...] = ()
    usual: float = 0.0

    @property
    def worth(self) -> float:
        """What is common, 0 to 1, less what contradicts."""
        return self._worth(0.0)

    @property
    def worth_by_chance(self) -> float:
        """The same where chance has put as many edges astray as it may: a true place can look so much worse than it is."""
        return self._worth(float(np.sqrt(A_HOLE * (CHANCE + self.usual) * self.edges.matched)))

    def _worth(self, more: float) -> float:
        """With so many more edges astray by chance than are expected."""
        # Two views of one side have more in common than neighbours have: enough is enough, and more is no proof.
        o, e = self.overlap, self.edges
        expected = (CHANCE + self.usual) * e.matched
        contradicted = max(e.astray - expected - more, 0.0) / TELLING
        agreed = max(1 - 4 * o.against, 0.0) * float(np.exp(-contradicted)) * e.bearing
        seen = max(1 - 20 * self.hidden, 0.0) * (1 - self.missed) ** 2
        return float(np.sqrt(min(o.share / PLENTY, 1.0))) * agreed * seen

    @property
    def objection(self) -> str:
        """Why it cannot be; empty when it can."""
        if self.overlap.objection:
            return self.overlap.objection
        if self.edges.fault > MOST_ASTRAY:
            return f"{100 * self.edges.fault:.0f} % of the edges where they overlap lie where the other is smooth"
        if self.hidden > MOST_HIDDEN:
            return f"{100 * self.hidden:.1f} % of one would stand in the light of the other, which was seen there"
        return ""


def fit_of(one: Body, two: Body, move: RigidTransform) -> Fit:
    """What speaks for a pose, from the first body's frame into the second's."""
    reach = 2.5 * max(one.sheet.spacing, two.sheet.spacing)
    edges = edge_evidence(one.sheet, two.sheet, move, reach, ALL)
    overlap = overlap_of(one.sheet, two.sheet, move)
    pulls = _pulls(one, two, Follower(two.sheet), move, 3.0 * max(one.sheet.spacing, two.sheet.spacing), 0.0)
    free = () if pulls is None else free_motions(pulls, one.sheet.size, FREE)
    return Fit(move, overlap, edges, _hidden(one, two, move, 2000), _missed(one, two, move), free)


def _missed(one: Body, two: Body, move: RigidTransform) -> float:
    there, back = one.sheet.some(2000), two.sheet.some(2000)
    return max(
        two.missed_of(move.apply(one.sheet.points[there]), move.turn(one.sheet.normals[there])),
        one.missed_of(move.inverse.apply(two.sheet.points[back]), move.inverse.turn(two.sheet.normals[back])),
    )


def _hidden(one: Body, two: Body, move: RigidTransform, count: int) -> float:
    own, other = one.sheet.points[one.sheet.some(count)], two.sheet.points[two.sheet.some(count)]
    return max(two.hidden_by(move.apply(own)), one.hidden_by(move.inverse.apply(other)))


def fits_by_shape(one: Body, two: Body, starts: Sequence[RigidTransform] = ()) -> list[Fit]:
    """Poses of a body on another from wherever they lie, the likeliest first, each only once.

    Parameters
    ----------
    starts : sequence of RigidTransform
        Poses that are looked at in any case: where parts of them were likely.
    """
    voxel = two.search.voxel
    ranked = []
    for score, pose in poses_by_shape(one.search, two.search):
        edges = edge_evidence(one.sheet, two.sheet, pose, voxel, FEW)
        seen = max(1 - 8 * _hidden(one, two, pose, 200), 0.05)
        common = np.sqrt(min(max(score, 0.01) / PLENTY, 1.0))
        ranked.append((common * (1 - edges.fault) * edges.bearing * seen, pose))
    ranked.sort(key=lambda pair: -pair[0])
    found: list[Fit] = []
    _take(one, two, found, [*starts, *(pose for _, pose in ranked[:LAID])])
    # What fits twice fits as often as the shape repeats: turned on by the same again.
    good = sorted((fit for fit in found if fit.edges.fault < REPEATED), key=lambda fit: -fit.worth)[:TURNED_ON]
    _take(one, two, found, [a.move @ b.move.inverse @ a.move for a, b in permutations(good, 2)])
    _take(
        one, two, found, _repeated(one, two, [fit.move for fit in sorted(found, key=lambda fit: -fit.worth)[:FOLLOWED]])
    )
    usual = _usual(found)
    found = [replace(fit, usual=usual) for fit in found]
    found.sort(key=lambda fit: -fit.worth)
    return found[:KEPT]


def _repeated(one: Body, two: Body, likely: Sequence[RigidTransform]) -> list[RigidTransform]:
    """Likely poses turned on by what lays either onto itself, those that few edges contradict."""
    made = [again @ move for move in likely for again in two.repeats]
    made += [move @ again for move in likely for again in one.repeats]
    ranked: list[tuple[float, RigidTransform]] = []
    for move in made:
        if any(alike(move, other, one.sheet) for _, other in ranked):
            continue
        edges = edge_evidence(one.sheet, two.sheet, move, two.search.voxel, FEW)
        if edges.fault < 2 * REPEATED and _hidden(one, two, move, 200) < 2 * MOST_HIDDEN:
            ranked.append((-edges.agreement, move))
    ranked.sort(key=lambda pair: pair[0])
    return [move for _, move in ranked[:REPEATS]]


def _usual(fits: Sequence[Fit]) -> float:
    """The least share of edges astray of those poses at which many match."""
    most = max((fit.edges.matched for fit in fits), default=0)
    shares = [fit.edges.astray / fit.edges.matched for fit in fits if fit.edges.matched > max(MANY * most, ENOUGH)]
    return min((share for share in shares if share < MOST_USUAL), default=0.0)


def _take(one: Body, two: Body, found: list[Fit], starts: Sequence[RigidTransform]) -> None:
    """Lay a body from some poses, and keep each that is new."""
    for start in starts:
        if not any(alike(start, fit.move, one.sheet) for fit in found):
            move = laid(one, two, start, 1.5 * two.search.voxel)
            if move is not None and not any(alike(move, fit.move, one.sheet) for fit in found):
                found.append(fit_of(one, two, move))


def alike(one: RigidTransform, two: RigidTransform, sheet: Sheet) -> bool:
    """Whether two poses lay a scan within a hundredth of its size."""
    ends = sheet.points[sheet.some(20)]
    return bool(np.linalg.norm(one.apply(ends) - two.apply(ends), axis=1).max() < sheet.size / 50)


def laid(one: Body, two: Body, start: RigidTransform, far: float) -> RigidTransform | None:
    """A body laid onto another by faces and edges, from a pose that is about right."""
    near = 3.0 * max(one.sheet.spacing, two.sheet.spacing)
    follower = Follower(two.sheet)

    def pulls_at(move: RigidTransform, index: int) -> Pulls | None:
        # While it is still off, the few points that tell so must not count as strays.
        return _pulls(one, two, follower, move, max(near, far * 0.7**index), far / 2 * 0.7**index)

    size = one.sheet.size
    return register(pulls_at, start, Rounds(18, 1e-4 * size, size, least=9, free=FREE, largest_turn=TURNED))


def _pulls(one: Body, two: Body, follower: Follower, move: RigidTransform, reach: float, stray: float) -> Pulls | None:
    """What faces and edges of the second body say of the first; no point that is off by less than `stray`, mm, counts for little."""
    some = one.sheet.some(COARSE)
    moved = move.apply(one.sheet.points[some])
    found = follower.over(moved, move.turn(one.sheet.normals[some]), reach)
    if len(found.rows) < LEAST_COUNT // 2:
        return None
    faces = weighted(moved[found.rows], two.sheet.normals[found.others], found.heights, stray)
    return both_pulls(faces, edge_pulls(one.sheet.edges, two.sheet.edges, move, reach))
