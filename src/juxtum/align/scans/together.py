"""All overlaps at once: every scan gives way a little, so that no loop is left with an offset."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.align.scans.overlap import Over, over, usual
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
"""Weight of where a scan began, for each point that is looked at: noise in the directions of points seems to hold as much."""


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
    thread : float
        Weight, in points, with which each scan was held to where it began.
    """

    poses: tuple[RigidTransform, ...]
    covariance: Floats
    noise: float
    thread: float


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
    equations are those of a pose graph whose ties are linearised where the scans lie).

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
    matrix, noise = np.eye(6 * len(now)), 0.0
    for index in range(rounds + 6):
        progress.phase("tying all scans together", index / (rounds + 6))
        is_last = index >= rounds
        far, stray = max(least, reach * CALMER**index), 0.0 if is_last else reach / 2 * CALMER**index
        matrix, right, noise = _equations(sheets, now, pairs, FINE if is_last else COARSE, far, stray)
        thread = THREAD * (FINE if is_last else COARSE)
        _draw_back(matrix, right, list(zip(poses, now, sheets, strict=True)), (size, thread))
        step = _step(matrix, right, anchor, size)
        for k in range(len(now)):
            now[k] = RigidTransform.about(now[k].apply(sheets[k].centre), step[6 * k : 6 * k + 6]) @ now[k]
        if is_last and np.abs(step.reshape(-1, 6) * [1, 1, 1, size, size, size]).max() < 1e-6 * size:
            break
    return Settled(tuple(now), _covariance(matrix, anchor, noise, size), noise, THREAD * FINE)


def _equations(
    sheets: Sequence[Sheet],
    poses: list[RigidTransform],
    pairs: Sequence[tuple[int, int]],
    count: int,
    reach: float,
    least: float,
) -> tuple[Floats, Floats, float]:
    """Normal matrix (6 N, 6 N), right side (6 N,), and the robust noise of all heights, mm."""
    size = 6 * len(poses)
    matrix, right, heights = np.zeros((size, size)), np.zeros(size), []
    for first, second in pairs:
        for one, two in ((first, second), (second, first)):
            found, points = _partners(sheets[one], sheets[two], poses[two].inverse @ poses[one], count, reach)
            if len(found.rows) < LEAST:
                continue
            normals = poses[two].turn(sheets[two].normals[found.others])
            there = poses[one].apply(points[found.rows])
            h = found.heights
            heights.append(h)
            scale = max(3 * usual(h), least, 1e-9) ** 2
            weights = (scale / (scale + h**2)) ** 2
            rows = np.zeros((len(h), 12))
            for at, index, sign in ((0, one, 1.0), (6, two, -1.0)):
                arm = there - poses[index].apply(sheets[index].centre)
                rows[:, at : at + 3], rows[:, at + 3 : at + 6] = sign * normals, sign * cross(arm, normals)
            columns: Ints = np.concatenate([np.arange(6 * one, 6 * one + 6), np.arange(6 * two, 6 * two + 6)])
            weighted = rows * weights[:, None]
            matrix[np.ix_(columns, columns)] += weighted.T @ rows
            right[columns] -= weighted.T @ h
    noise = usual(np.concatenate(heights)) if heights else 0.0
    return matrix, right, noise


def _draw_back(
    matrix: Floats,
    right: Floats,
    laid: Sequence[tuple[RigidTransform, RigidTransform, Sheet]],
    how: tuple[float, float],
) -> None:
    """A thread to where each scan began: what no overlap holds stays where it was."""
    size, thread = how
    for k, (began, now, sheet) in enumerate(laid):
        rows = slice(6 * k, 6 * k + 6)
        back = now @ began.inverse
        shift = now.apply(sheet.centre) - began.apply(sheet.centre)
        weights = thread * np.array([1.0, 1.0, 1.0, size**2, size**2, size**2])
        matrix[rows, rows] += np.diag(weights)
        right[rows] -= weights * np.concatenate([shift, np.radians(back.angle) * back.axis])


def _partners(one: Sheet, two: Sheet, move: RigidTransform, count: int, reach: float) -> tuple[Over, Floats]:
    some = one.some(count)
    points = one.points[some]
    return over(move.apply(points), move.turn(one.normals[some]), two, reach), points


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
    return frozen(made)
