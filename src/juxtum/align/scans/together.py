"""All overlaps at once: every scan gives way a little, so that no loop is left with an offset."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.linalg import eigh

from juxtum.align.scans.edges import sharp_pulls
from juxtum.align.scans.overlap import Follower, Over, usual
from juxtum.align.scans.sheet import Sheet
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, Ints, cross, frozen
from juxtum.progress import Progress, silent

COARSE, FINE = 1500, 6000
"""Points of each scan in the first rounds and in the last."""
LEAST = 30
TIGHT = 60.0
CALMER = 0.8
"""From round to round partners are sought so much nearer, and strays are taken for such so much sooner: at last `TIGHT` times."""
THREAD = 1e-3
"""Weight of how two scans began against each other, for each point of their overlap: noise in directions seems to hold as much."""
LOOSE = 1.5
"""A motion is held when the overlaps weigh so many times what the threads weigh along it (truly free ones: under 0.8, held ones from 2)."""


SHORT = 0.5 / np.sqrt(3)
"""Standard deviation, in spacings, of how far a scan ends before an edge, if that is anything up to half of one to either side."""
SHARED, KNOWN, EDGE_REACH = 2.0, 0.15, 4.0
"""Edges count as if they were known so many times worse than they lie on each other, since what they are off by they are off by
together; they are known to so many spacings at least, and are sought within so many."""


@dataclass(frozen=True, eq=False)
class Settled:
    """Scans laid together.

    Parameters
    ----------
    poses : tuple of RigidTransform
        From each scan's frame into the assembly.
    covariance : array (6 N, 6 N)
        Of shifts (mm) and turns about each scan's middle (radians), the anchor's being zero.
    noise : float
        Standard deviation of the heights between scans, mm.
    free : tuple of array (6,) or None
        Of each scan the motion, a shift in mm and a turn in radians about its middle, that nothing holds it in against the
        others; None where it is held.
    """

    poses: tuple[RigidTransform, ...]
    covariance: Floats
    noise: float
    free: tuple[Floats | None, ...]


@dataclass(frozen=True, eq=False)
class Equations:
    """Normal equations of all scans' small motions: what the overlaps say, what their edges say, and the threads to how they began.

    Parameters
    ----------
    matrix, edges, thread : array (6 N, 6 N)
    right, edges_right, thread_right : array (6 N,)
    noise : float
        Robust standard deviation of all heights, mm.
    """

    matrix: Floats
    right: Floats
    edges: Floats
    edges_right: Floats
    thread: Floats
    thread_right: Floats
    noise: float

    @classmethod
    def of(cls, count: int) -> Equations:
        """Of so many scans of which nothing is said yet."""
        size = 6 * count
        matrix, edges, thread = np.zeros((3, size, size))
        right, edges_right, thread_right = np.zeros((3, size))
        return cls(matrix, right, edges, edges_right, thread, thread_right, 0.0)

    @property
    def whole(self) -> tuple[Floats, Floats]:
        """All that is said together."""
        return self.matrix + self.edges + self.thread, self.right + self.edges_right + self.thread_right


def settle_together(
    sheets: Sequence[Sheet],
    poses: Sequence[RigidTransform],
    pairs: Sequence[tuple[int, int]],
    anchor: int,
    reach: float,
    progress: Progress | None = None,
) -> Settled:
    """Move all scans but the anchor until each lies best on all that it overlaps with.

    Gauss-Newton on the heights of all overlaps together, their partners sought anew each round (Pulli 1999; the normal
    equations are those of a pose graph whose ties are linearised where the scans lie). Sheets whose edges are known are laid
    by these, too: along what faces leave open they are all there is.

    Parameters
    ----------
    pairs : sequence of (int, int)
        Which scans overlap.
    anchor : int
        The scan that stays.
    reach : float
        How far overlapping scans may be apart at the beginning, mm.
    """
    progress = progress or silent()
    now = list(poses)
    least = max(2.0 * max(s.spacing for s in sheets), 1e-9)
    size = max(s.size for s in sheets)
    # What counts as a stray is tightened slowly: the few points that hold a loose motion must not be lost on the way.
    rounds = int(np.ceil(np.log(TIGHT * max(reach / least, 1.0)) / np.log(1 / CALMER)))
    followers: dict[tuple[int, int], Follower] = {}
    for index in range(rounds + 6):
        progress.phase("tying all scans together", index / (rounds + 6))
        is_last = index >= rounds
        if index == rounds:
            followers.clear()
        far, stray = max(least, reach * CALMER**index), 0.0 if is_last else reach / 2 * CALMER**index
        laid = [Laid(sheet, *pair) for sheet, pair in zip(sheets, zip(poses, now, strict=True), strict=True)]
        said = _equations(laid, pairs, (FINE if is_last else COARSE, far, stray), followers)
        step = _step(*said.whole, anchor, size)
        for k in range(len(now)):
            now[k] = RigidTransform.about(now[k].apply(sheets[k].centre), step[6 * k : 6 * k + 6]) @ now[k]
        if is_last and np.abs(step.reshape(-1, 6) * [1, 1, 1, size, size, size]).max() < 1e-6 * size:
            break
    covariance, free = _covariance(said.whole[0], anchor, said.noise, size), _free(said, anchor, size)
    _widen(covariance, sheets, now, free)
    return Settled(tuple(now), frozen(covariance), said.noise, free)


@dataclass(frozen=True, eq=False)
class Laid:
    """A scan, where it began, and where it lies now."""

    sheet: Sheet
    began: RigidTransform
    now: RigidTransform

    @property
    def middle(self) -> Floats:
        """Its middle as it lies now (3,), mm."""
        return self.now.apply(self.sheet.centre)


def _equations(
    laid: Sequence[Laid],
    pairs: Sequence[tuple[int, int]],
    how: tuple[int, float, float],
    followers: dict[tuple[int, int], Follower],
) -> Equations:
    """What all overlaps say, looked at with so many points, so far, with strays no nearer than the last."""
    count, reach, least = how
    said = Equations.of(len(laid))
    heights = []
    for first, second in pairs:
        places = []
        for one, two in ((first, second), (second, first)):
            follower = followers.setdefault((one, two), Follower(laid[two].sheet))
            found, points = _partners(laid[one], laid[two], (count, reach), follower)
            if len(found.rows) < LEAST:
                continue
            h, there = found.heights, laid[one].now.apply(points[found.rows])
            normals = laid[two].now.turn(laid[two].sheet.normals[found.others])
            rows = np.concatenate([_moved(normals, there, laid[one]), -_moved(normals, there, laid[two])], axis=1)
            scale = max(3 * usual(h), least, 1e-9) ** 2
            weights = (scale / (scale + h**2)) ** 2
            _say((said.matrix, said.right), (one, two), rows, (h, weights))
            _say_edges(said, laid, (one, two), max(usual(h), 1e-9))
            heights.append(h)
            places.append(there)
        if places:
            _tie_down(said, laid, (first, second), np.concatenate(places))
    return replace(said, noise=usual(np.concatenate(heights)) if heights else 0.0)


def _say(into: tuple[Floats, Floats], pair: tuple[int, int], rows: Floats, off: tuple[Floats, Floats]) -> None:
    """Add what points of two scans say, rows (N, 12): how far each is off, and its weight."""
    columns: Ints = np.concatenate([np.arange(6 * k, 6 * k + 6) for k in pair])
    weighted = rows * off[1][:, None]
    into[0][np.ix_(columns, columns)] += weighted.T @ rows
    into[1][columns] -= weighted.T @ off[0]


def _say_edges(said: Equations, laid: Sequence[Laid], pair: tuple[int, int], noise: float) -> None:
    """Add what sharp edges of one scan say of edges of another, where those of both are known."""
    one, two = (laid[k] for k in pair)
    mine, other = one.sheet.known_edges, two.sheet.known_edges
    if mine is None or other is None:
        return
    reach = EDGE_REACH * max(one.sheet.spacing, two.sheet.spacing)
    pulls = sharp_pulls(mine, other, two.now.inverse @ one.now, reach)
    if pulls is None or pulls.weights is None or len(pulls.points) < LEAST:
        return
    there, sides = two.now.apply(pulls.points), two.now.turn(pulls.normals)
    rows = np.concatenate([_moved(sides, there, one), -_moved(sides, there, two)], axis=1)
    # How far they are off together is no spread, but what is to be mended.
    spread = max(min(usual(pulls.distances), KNOWN * max(one.sheet.spacing, two.sheet.spacing)), noise)
    weights = pulls.weights * (noise / (SHARED * spread)) ** 2
    _say((said.edges, said.edges_right), pair, rows, (pulls.distances, weights))


def _moved(normals: Floats, there: Floats, scan: Laid) -> Floats:
    """How points (N, 3) go along directions (N, 3) when a scan shifts and turns about its middle: rows (N, 6)."""
    return np.concatenate([normals, cross(there - scan.middle, normals)], axis=1)


def _tie_down(said: Equations, laid: Sequence[Laid], pair: tuple[int, int], places: Floats) -> None:
    """A thread to how two scans began against each other: along what their overlap does not hold they stay so.

    To each other, not to the room: where many scans hang in a row, all of them may have far to go though each is held well.
    """
    middle = places.mean(0)
    width = float(np.sqrt(((places - middle) ** 2).sum(1).mean()))
    rows, off = np.zeros((6, 12)), np.zeros(6)
    for at, sign, scan in ((0, 1.0, laid[pair[0]]), (6, -1.0, laid[pair[1]])):
        back = scan.now @ scan.began.inverse
        rows[:3, at : at + 6] = sign * _moved(np.eye(3), np.tile(middle, (3, 1)), scan)
        rows[3:, at + 3 : at + 6] = sign * width * np.eye(3)
        off += sign * np.concatenate([middle - back.inverse.apply(middle), width * np.radians(back.angle) * back.axis])
    columns: Ints = np.concatenate([np.arange(6 * k, 6 * k + 6) for k in pair])
    weight = THREAD * len(places)
    said.thread[np.ix_(columns, columns)] += weight * rows.T @ rows
    said.thread_right[columns] -= weight * rows.T @ off


def _partners(one: Laid, two: Laid, how: tuple[int, float], follower: Follower) -> tuple[Over, Floats]:
    count, reach = how
    some, move = one.sheet.some(count), two.now.inverse @ one.now
    points = one.sheet.points[some]
    return follower.over(move.apply(points), move.turn(one.sheet.normals[some]), reach), points


def _step(matrix: Floats, right: Floats, anchor: int, size: float) -> Floats:
    """The step (6 N,) of all but the anchor; what nothing holds stays as it is."""
    scale = np.tile([1.0, 1.0, 1.0, 1 / size, 1 / size, 1 / size], len(right) // 6)
    free = np.ones(len(right), dtype=bool)
    free[6 * anchor : 6 * anchor + 6] = False
    scaled = (matrix * scale[:, None] * scale)[np.ix_(free, free)]
    values, vectors = np.linalg.eigh(scaled)
    held = values > max(1e-7 * values[-1], 1e-12)
    step = np.zeros(len(right))
    part = vectors[:, held] @ ((vectors[:, held].T @ (right * scale)[free]) / values[held])
    step[free] = np.clip(part, -size / 10, size / 10) * scale[free]
    return step


def _covariance(matrix: Floats, anchor: int, noise: float, size: float) -> Floats:
    """Inverse of the normal matrix times the noise; what nothing holds counts as unsure by the size."""
    free = np.ones(len(matrix), dtype=bool)
    free[6 * anchor : 6 * anchor + 6] = False
    scale = np.tile([1.0, 1.0, 1.0, 1 / size, 1 / size, 1 / size], len(matrix) // 6)[free]
    values, vectors = np.linalg.eigh(matrix[np.ix_(free, free)] * scale[:, None] * scale)
    variances = np.where(values > 1e-7 * max(values[-1], 1e-12), noise**2 / np.maximum(values, 1e-30), size**2)
    made = np.zeros_like(matrix)
    made[np.ix_(free, free)] = ((vectors * variances) @ vectors.T) * scale[:, None] * scale
    return made


def _widen(
    covariance: Floats, sheets: Sequence[Sheet], poses: Sequence[RigidTransform], free: Sequence[Floats | None]
) -> None:
    """Add what scans may lie off along motions that only their edges hold."""
    for k, (sheet, pose, motion) in enumerate(zip(sheets, poses, free, strict=True)):
        if motion is not None and sheet.known_edges is not None:
            own = slice(6 * k, 6 * k + 6)
            covariance[own, own] += _by_edges(sheet, pose, motion)


def _by_edges(sheet: Sheet, pose: RigidTransform, motion: Floats) -> Floats:
    """Covariance (6, 6) of a motion that only edges hold: where a scan ends may lie short of the part's edge, and all of it alike."""
    arms = pose.apply(sheet.points[sheet.some(LEAST * 10)]) - pose.apply(sheet.centre)
    reach = np.sqrt(((motion[:3] + cross(np.tile(motion[3:], (len(arms), 1)), arms)) ** 2).sum(1).mean())
    step = motion * (SHORT * sheet.spacing / max(float(reach), 1e-12))
    return np.outer(step, step)


def spread_of(sheets: Sequence[Sheet], poses: Sequence[RigidTransform], covariance: Floats) -> float:
    """Standard uncertainty, mm along an axis, of where a place of the joined scans lies by where they were laid.

    Root mean square over places of all scans, by the covariance (6 N, 6 N) of their poses against the anchor. Held
    against rings of eight drifting views of BC-220: true errors were 0.84 to 0.99 times what it says.
    """
    squares = []
    for k, (sheet, pose) in enumerate(zip(sheets, poses, strict=True)):
        own = covariance[6 * k : 6 * k + 6, 6 * k : 6 * k + 6]
        arms = pose.apply(sheet.points[sheet.some(LEAST * 10)]) - pose.apply(sheet.centre)
        moved = np.zeros((len(arms), 3, 6))
        moved[:, :, :3] = np.eye(3)
        for axis in range(3):
            moved[:, :, 3 + axis] = cross(np.tile(np.eye(3)[axis], (len(arms), 1)), arms)
        squares.append(float(np.einsum("nij,jk,nik->n", moved, own, moved).mean()) / 3)
    return float(np.sqrt(max(float(np.mean(squares)), 0.0)))


def _free(said: Equations, anchor: int, size: float) -> tuple[Floats | None, ...]:
    """Of each scan the motion in which the overlaps hold it no better than the threads do."""
    count = len(said.right) // 6
    free: list[Floats | None] = [None] * count
    kept = np.ones(len(said.right), dtype=bool)
    kept[6 * anchor : 6 * anchor + 6] = False
    scale = np.tile([1.0, 1.0, 1.0, 1 / size, 1 / size, 1 / size], count)[kept]
    matrix, thread = (m[np.ix_(kept, kept)] * scale[:, None] * scale for m in (said.matrix, said.thread))
    # Scans that overlap with nothing have no thread either; something has to be there to divide by.
    values, vectors = eigh(matrix, thread + 1e-9 * max(float(np.trace(thread)), 1e-12) * np.eye(len(thread)))
    others = [k for k in range(count) if k != anchor]
    strongest = np.zeros(len(others))
    for vector in vectors[:, values < LOOSE].T:
        motions = vector.reshape(-1, 6)
        moved = np.linalg.norm(motions, axis=1)
        for row in np.flatnonzero((moved > 0.3 * moved.max()) & (moved > strongest)):
            strongest[row] = moved[row]
            free[others[row]] = frozen(motions[row] * [1, 1, 1, 1 / size, 1 / size, 1 / size])
    return tuple(free)
