"""Reference targets that are still in a surface, found by their shape: thin round discs that stand out of what is smooth about them."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from juxtum.assemble.finishing._disc_kernels import steps
from juxtum.assemble.finishing.craters import NARROWEST, WIDEST
from juxtum.assemble.holes import holes_of
from juxtum.errors import Cancelled, InputError
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, orthonormal_frame, unit
from juxtum.progress import Progress, silent

CELLS = 10
"""Cells of averaged surface across a disc: finer than that its rim is not told any better."""
REACH = 1.7
"""What is smooth about a disc is told by the surface up to so many radii away."""
RIM = 0.12
"""Share of the radius by which a scanner rounds the step at the rim, either way."""
BENT = 40.0
"""Surface turned by more degrees from that of the disc is another one."""
LEAST_POINTS = 40
HEIGHTS = (0.02, 0.4)
"""How far a sticker stands out, mm: a film, not a boss."""
CLEAR = 8.0
"""Its height is at least so many times its own standard uncertainty, while looking."""
LOWEST = 9.0
"""Of steps so many standard uncertainties high most are found (benchmark `discs`)."""
COARSE = 6.0
"""Fewer points than these across a disc do not tell its rim surely."""
ABOVE_NOISE = 1.5
"""And, averaged over a cell, so many times what is left beside the shape."""
SECTORS = 12
SEEN, STEPPED = 8, 0.9
"""Directions in which its rim must be seen, and the share of those in which there must be a step."""
TOP, BESIDE = 0.7, 0.3
"""Within the rim the surface rises by at least one share of the height, beyond it by less than the other."""
ZONES = (0.45, 1 - RIM, 1 + RIM, 1.45)
OTHERWISE = 0.06
"""What noise does not explain of what is left beside a disc, over zones of each sector, as a share of its height:
a square or a long pad leaves a tenth and more."""
FITTED = 10
"""Unknowns of a surface with a step in it."""
BESIDES = 6
LIKE = 0.2
"""A diameter that differs from the asked one by more than this share is that of something else."""
BLANK = (0.2, 0.85)
"""How wide a blank middle may be, as a share of the disc."""
ALIKE = 2.0
"""Targets are of one film: those more than so many times as high or low as the middle one are something else."""
CHUNK = 20_000
"""Places that are looked at between two words of progress."""
LOOKING = "looking for targets by their shape"


@dataclass(frozen=True, eq=False)
class Disc:
    """A disc that stands out of a surface.

    Parameters
    ----------
    place : array (3,)
        Its middle, on top, mm.
    facing : array (3,)
        Out of the surface.
    diameter, height : float
        mm; the height is that of its top over the surface about it.
    """

    place: Floats
    facing: Floats
    diameter: float
    height: float


@dataclass(frozen=True, eq=False)
class Discs:
    """The discs that were found, the surest first.

    Parameters
    ----------
    diameter : float
        What was looked for, mm.
    lowest : float
        About the height below which noise and spacing hide them, mm; infinite where the surface is too coarse to tell.
    """

    found: tuple[Disc, ...]
    diameter: float
    lowest: float

    @property
    def places(self) -> Floats:
        """Their middles (K, 3)."""
        return np.array([disc.place for disc in self.found]).reshape(-1, 3)


def find_discs(mesh: TriangleMesh, diameter: float, progress: Progress | None = None) -> Discs:
    """Discs of about a diameter that stand out of a surface as reference targets do.

    About every place a smooth surface (of second degree) with a round step is fitted by least squares; where the step is
    sure, the disc is settled, and counts when its rim steps down on (nearly) every side that is seen, the surface beyond it does not rise,
    and it is as high as the others. Its middle may be blank: what shines is often not captured.

    Parameters
    ----------
    diameter : float
        Of the whole disc with its dark surround, mm; a fifth more or less is found as well.

    Raises
    ------
    InputError
        When the diameter makes no sense.
    """
    progress = progress or silent()
    if not NARROWEST <= diameter <= WIDEST:
        raise InputError(f"a target of {diameter:g} mm is none", "targets", "Give the diameter of the whole disc in mm")
    progress.phase(LOOKING)
    cells = _Cells.of(mesh.points, mesh.normals, diameter / 2)
    promising, lowest = _promising(cells, progress)
    starts, sure = [*promising, *_blank(mesh, diameter)], []
    for done, start in enumerate(starts):
        progress.phase(LOOKING, 0.8 + 0.2 * done / len(starts))
        if (disc := _settled(cells, *start)) is not None:
            sure.append(disc)
    is_coarse = mesh.spacing > diameter / COARSE
    return Discs(_of_one_film(_apart(sure, diameter)), diameter, np.inf if is_coarse else lowest)


def discs_near(surface: tuple[Floats, Floats], starts: tuple[Floats, Floats], diameter: float) -> tuple[Disc, ...]:
    """Discs of about a diameter at some places of a surface, which is given by its points.

    Parameters
    ----------
    surface, starts : tuple of array (N, 3)
        Places and the directions out of the material there.
    """
    cells = _Cells.of(*surface, diameter / 2)
    if len(cells.points) == 0:
        return ()
    found = (_settled(cells, *start) for start in map(cells.surest, *starts) if start is not None)
    return _of_one_film(_apart([disc for disc in found if disc is not None], diameter))


def _of_one_film(discs: list[Disc]) -> tuple[Disc, ...]:
    if len(discs) < 3:
        return tuple(discs)
    middle = float(np.median([disc.height for disc in discs]))
    return tuple(disc for disc in discs if middle / ALIKE <= disc.height <= middle * ALIKE)


@dataclass(frozen=True, eq=False)
class _Cells:
    """The surface averaged over cubes, each side of a wall for itself: places (M, 3), directions (M, 3), and the radius looked for, mm."""

    points: Floats
    normals: Floats
    radius: float

    @classmethod
    def of(cls, places: Floats, normals: Floats, radius: float) -> _Cells:
        side = 2 * radius / CELLS
        main = np.abs(normals).argmax(1)
        looks = 2 * main + (normals[np.arange(len(normals)), main] > 0)
        keys = np.column_stack([np.floor(places / side).astype(np.int64), looks])
        _, owner, counts = np.unique(keys, axis=0, return_inverse=True, return_counts=True)
        owner = owner.ravel()
        points, turned = (
            np.column_stack([np.bincount(owner, values[:, k]) for k in range(3)]) for values in (places, normals)
        )
        long = np.linalg.norm(turned, axis=1)
        held = long > 0.5 * counts
        return cls(frozen((points / counts[:, None])[held]), frozen(turned[held] / long[held, None]), radius)

    @cached_property
    def tree(self) -> Any:
        """Finds the places near another one."""
        from scipy.spatial import cKDTree

        return cKDTree(self.points)

    def steps(self, progress: Progress) -> tuple[Floats, Floats]:
        """Height (M,) of a round step about each place, and its standard uncertainty, mm; that is nought where nothing tells."""
        boxes = np.floor(self.points / (REACH * self.radius)).astype(np.int64)
        boxes -= boxes.min(0) - 1
        stride = np.array([(boxes[:, 1].max() + 3) * (boxes[:, 2].max() + 3), boxes[:, 2].max() + 3])
        keys = boxes[:, 0] * stride[0] + boxes[:, 1] * stride[1] + boxes[:, 2]
        order = np.argsort(keys, kind="stable")
        sorted_by_key = (np.ascontiguousarray(values[order]) for values in (self.points, self.normals, boxes))
        asked = self.radius, REACH * self.radius, RIM, float(np.cos(np.radians(BENT))), LEAST_POINTS
        places, found = (*sorted_by_key, stride, keys[order]), np.empty((len(order), 2))
        spans = [np.array([begin, min(begin + CHUNK, len(order))]) for begin in range(0, len(order), CHUNK)]
        with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
            made = pool.map(lambda span: steps(*places, span, *asked), spans)
            try:
                for span, some in zip(spans, made, strict=True):
                    progress.phase(LOOKING, 0.8 * span[0] / len(order))
                    found[order[span[0] : span[1]]] = some
            except Cancelled:
                pool.shutdown(cancel_futures=True)
                raise
        height, standard = found.T
        return height, standard

    def surest(self, place: Floats, facing: Floats) -> tuple[Floats, Floats] | None:
        """Where, at a place or half a radius beside it, a round step is surest; None where it is not sure anywhere."""
        across, along, _ = orthonormal_frame(facing) * self.radius / 2
        best, least = None, CLEAR / 2
        for shift in (0 * across, across, -across, along, -along):
            around = np.array(self.tree.query_ball_point(place + shift, REACH * self.radius), dtype=np.int64)
            local = self.local(around, place + shift, facing)
            if len(local) < LEAST_POINTS:
                continue
            step = _stepped(local, np.zeros(2), 1.0)
            if step.standard > 0 and step.height / step.standard > least:
                best, least = (place + shift, facing), step.height / step.standard
        return best

    def local(self, rows: Ints, place: Floats, facing: Floats) -> Floats:
        """Of some rows those that lie on one surface with a place: (K, 3), in radii aside and mm up."""
        off = self.points[rows] - place
        frame = orthonormal_frame(facing)
        made = off @ frame.T
        one = (self.normals[rows] @ facing > np.cos(np.radians(BENT))) & (np.abs(made[:, 2]) < self.radius)
        return np.asarray(made[one] / [self.radius, self.radius, 1.0])


def _promising(cells: _Cells, progress: Progress) -> tuple[list[tuple[Floats, Floats]], float]:
    """Place and direction where a round step is sure, no two within a radius, the surest first; and how low a step may be to be told, mm."""
    heights, standards = cells.steps(progress)
    told = standards > 0
    sure = np.where(told, heights / np.where(told, standards, 1.0), 0.0)
    rows = np.flatnonzero((sure > CLEAR) & (heights >= HEIGHTS[0]) & (heights <= HEIGHTS[1]))
    free = np.zeros(len(heights), dtype=bool)
    free[rows] = True
    kept = []
    for row in rows[np.argsort(-sure[rows])].tolist():
        if free[row]:
            kept.append(row)
            free[cells.tree.query_ball_point(cells.points[row], cells.radius)] = False
    lowest = LOWEST * float(np.median(standards[told])) if told.any() else np.inf
    return [(cells.points[row], cells.normals[row]) for row in kept], lowest


def _blank(mesh: TriangleMesh, diameter: float) -> list[tuple[Floats, Floats]]:
    """Middle and direction of open borders that may be the blank middle of a disc."""
    low, high = BLANK[0] * diameter, BLANK[1] * diameter
    round_ones = (hole for hole in holes_of(mesh) if low < hole.across < high)
    facing = ((hole.place, mesh.normals[hole.ring].sum(0)) for hole in round_ones)
    return [(place, unit(away)) for place, away in facing if np.linalg.norm(away) > 0.5]


@dataclass(frozen=True, eq=False)
class _Step:
    """A smooth surface with a round step in it: how high, how sure, what is left (K,), that with the step (K,), mm, and the surface without it (6,)."""

    height: float
    standard: float
    left: Floats
    above: Floats
    smooth: Floats

    def smooth_at(self, x: float, y: float) -> float:
        """The surface without the step at a place in radii, mm."""
        return float(self.smooth @ [1.0, x, y, x * x, x * y, y * y])

    @property
    def rms(self) -> float:
        return float(np.sqrt(np.mean(self.left**2)))


def _stepped(local: Floats, middle: Floats, radius: float) -> _Step:
    x, y, z = local.T
    away = np.hypot(x - middle[0], y - middle[1]) / radius
    inside = np.clip((1 + RIM - away) / (2 * RIM), 0.0, 1.0)
    rows = np.column_stack([np.ones_like(x), x, y, x * x, x * y, y * y, inside])
    inverse = np.linalg.pinv(rows.T @ rows, hermitian=True)
    solved = inverse @ (rows.T @ z)
    left = z - rows @ solved
    variance = float(left @ left) / max(len(z) - rows.shape[1], 1)
    return _Step(
        float(solved[-1]), float(np.sqrt(variance * inverse[-1, -1])), left, left + inside * solved[-1], solved[:6]
    )


def _settled(cells: _Cells, place: Floats, facing: Floats) -> Disc | None:
    """The disc near a place, its middle and width settled; None where its rim does not step down all around."""
    for is_last in (False, True):
        around = np.array(cells.tree.query_ball_point(place, REACH * cells.radius), dtype=np.int64)
        alike = cells.normals[around] @ facing > np.cos(np.radians(BENT))
        if not alike.any():
            return None
        facing = np.asarray(unit(cells.normals[around[alike]].mean(0)))
        local = cells.local(around, place, facing)
        middle, radius = _middle_and_radius(local)
        if abs(radius - 1) > LIKE or np.linalg.norm(middle) > 1:
            return None
        fit = _stepped(local, middle, radius)
        if is_last and not _is_disc(local, fit, middle, radius):
            return None
        x, y = middle
        top = fit.smooth_at(x, y) + fit.height
        place = place + np.array([x * cells.radius, y * cells.radius, top]) @ orthonormal_frame(facing)
    return Disc(frozen(place), frozen(facing), 2 * radius * cells.radius, fit.height)


def _middle_and_radius(local: Floats) -> tuple[Floats, float]:
    """Where the round step that fits best has its middle, and its radius, in radii."""
    from scipy.optimize import minimize

    if len(local) < LEAST_POINTS:
        return np.zeros(2), np.inf

    def misfit(unknown: Floats) -> float:
        return float((_stepped(local, unknown[:2], max(unknown[2], 0.1)).left ** 2).sum())

    simplex = np.array([[0, 0, 1.0], [0.3, 0, 1.0], [0, 0.3, 1.0], [0, 0, 0.85]])
    options = {"initial_simplex": simplex, "xatol": 0.01, "maxfev": 150}
    found = minimize(misfit, simplex[0], method="Nelder-Mead", options=options).x
    return np.asarray(found[:2]), float(found[2])


def _is_disc(local: Floats, fit: _Step, middle: Floats, radius: float) -> bool:
    """Whether a step is that of a sticker: high enough, down on every side, and the surface beyond it smooth."""
    if not HEIGHTS[0] <= fit.height <= HEIGHTS[1] or fit.height < ABOVE_NOISE * fit.rms:
        return False
    x, y = (local[:, :2] - middle).T
    away = np.hypot(x, y) / radius
    sector = np.floor((np.arctan2(y, x) / (2 * np.pi) + 0.5) * SECTORS).astype(np.int64) % SECTORS
    if _otherwise(local, fit.left, np.digitize(away, ZONES) * SECTORS + sector) > OTHERWISE * fit.height:
        return False
    inner = _means(fit.above, sector, (away > 0.45) & (away < 1 - RIM))
    outer = _means(fit.above, sector, (away > 1 + RIM) & (away < 1.45))
    seen = np.isfinite(inner) & np.isfinite(outer)
    steps = seen & (inner > TOP * fit.height) & (np.abs(outer) < BESIDE * fit.height)
    return bool(seen.sum() >= SEEN and steps.sum() >= STEPPED * seen.sum())


def _otherwise(local: Floats, left: Floats, zone: Ints) -> float:
    """Root mean square of what is left (K,) that goes together over zones and is no noise, mm."""
    counts, sums = np.bincount(zone), np.bincount(zone, left)
    held = counts > 0
    free = max(int(held.sum()) - FITTED, 1)
    by_chance = _noise(local, left) ** 2 * (free + 2 * np.sqrt(2 * free))
    together = float((sums[held] ** 2 / counts[held]).sum()) - by_chance
    return float(np.sqrt(max(together, 0.0) / len(left)))


def _noise(local: Floats, left: Floats) -> float:
    """Standard deviation of what is left (K,) by how it differs from that of the neighbours, mm."""
    from scipy.spatial import cKDTree

    near = cKDTree(local[:, :2]).query(local[:, :2], k=BESIDES + 1)[1][:, 1:]
    off = left - left[near].mean(1)
    return float(1.4826 * np.median(np.abs(off)) / np.sqrt(1 + 1 / BESIDES))


def _means(values: Floats, group: Ints, some: Bools) -> Floats:
    """Means of some values in each sector; NaN where there are none."""
    sums = np.bincount(group[some], values[some], minlength=SECTORS)
    counts = np.bincount(group[some], minlength=SECTORS)
    return np.asarray(np.where(counts > 0, sums / np.maximum(counts, 1), np.nan))


def _apart(discs: list[Disc], diameter: float) -> list[Disc]:
    """No two of them over each other."""
    kept: list[Disc] = []
    for disc in discs:
        if all(np.linalg.norm(disc.place - other.place) > 0.75 * diameter for other in kept):
            kept.append(disc)
    return kept
