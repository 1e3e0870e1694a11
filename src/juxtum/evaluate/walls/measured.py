"""The walls of a part as a map, with limits and what is known of the thinnest and thickest place."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate.characteristics import Judgement, extreme_of
from juxtum.evaluate.decision import Decision, Verdict, decide
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.places import tile_size
from juxtum.evaluate.tiles import FILLED, LEAST_POINTS, Tiles
from juxtum.evaluate.uncertainty import Sampling
from juxtum.evaluate.walls.thickness import by_ball, by_ray, even_places
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.mesh import Scan
from juxtum.geometry.topology import border_points
from juxtum.wording import percent

DENSER = 4.0
"""So many places for each point of a scan that is not fine: what is only some points wide has a thickness too."""
IN_TILE = 3.0
"""A tile is at least so many times as wide as places lie apart: then nine of them are in it, on average."""
FEWEST, MOST = 4000, 300_000
"""Places that are measured, evenly over the surface; what lies between gets the value of the nearest."""
AROUND = 12
"""A place counts with the median of so many about it."""
LEAST = 50
UNLIKE = 0.1
"""A thickness that is off by more than this share of what lies about it met an edge, or another wall."""
ALIKE = 1.15
"""Walls that differ by less than this factor are told apart by noise."""
CLEARLY = 0.05
"""A place is thinner yet when it is so by more than this share."""
EDGE = 0.5
"""Nearer to an edge than this share of the thickness a wall has none: there its end is met."""


@dataclass(frozen=True)
class WallLimits:
    """How thick walls may be, mm; None where nothing is asked."""

    least: float | None = None
    most: float | None = None


@dataclass(frozen=True, eq=False)
class WallPlace:
    """One place of the map: where, how thick, and the expanded uncertainty of that, mm (NaN where no instrument is stated)."""

    value: float
    expanded: float
    place: Floats


@dataclass(frozen=True, eq=False)
class WallMap:
    """Thickness all over a scan.

    Parameters
    ----------
    way : str
        "ray" or "ball".
    values : array (N,)
        Of each point of the scan, medians over their surroundings, mm; NaN where there is none.
    seen : float
        Share of the scan's area that has a thickness, 0 to 1.
    thinnest, thickest : WallPlace
    mean : float
        By area, mm.
    beyond : float
        Share of that area beyond the limits, 0 to 1.
    decision : Decision, optional
        None where nothing is asked. What is beyond a limit only where the wall is uneven forbids "conforms".
    limits : WallLimits
    """

    way: str
    values: Floats
    seen: float
    thinnest: WallPlace
    thickest: WallPlace
    mean: float
    beyond: float
    decision: Decision | None
    limits: WallLimits
    uneven: WallPlace | None = None
    """A place yet thinner than the thinnest, where the thickness changes too much within a tile for a value with U; its U is NaN."""


def measure_walls(deviation: Deviation, scan: Scan, way: str, limits: WallLimits, judgement: Judgement) -> WallMap:
    """Measure how thick a part is, all over what was scanned of it.

    Raises
    ------
    InputError
        When the scan is no surface, or shows no two sides of a wall.
    """
    if not isinstance(scan, TriangleMesh):
        raise InputError(
            "a list of points has no walls", "walls", "Make a surface of it first: join it, or bring a mesh"
        )
    mesh = TriangleMesh(deviation.points, scan.triangles)
    count = int(np.clip(DENSER * mesh.area / max(mesh.spacing, 1e-6) ** 2, FEWEST, MOST))
    places, normals = even_places(mesh, count)
    found, bound = _through(mesh, (places, normals), way, _coats(deviation, places, judgement))
    between = float(np.sqrt(mesh.area / count))
    medians, side = _medians(places, found), max(tile_size(between, deviation.nominal.diagonal), IN_TILE * between)
    known = np.isfinite(medians)
    if known.sum() < LEAST:
        raise _nothing(bound)
    tiles = _tiles(places, normals, (found, medians), side)
    low, high = limits.least, limits.most
    thinnest, thickest = (_extreme(tiles, sign, limit, places, judgement) for sign, limit in ((-1.0, low), (1.0, high)))
    # Fewer places than make a tile are no wall: some are always met at edges.
    few = int(np.ceil(side**2 * count / max(mesh.area, 1e-12)))
    most_there = medians if way == "ray" else np.where(known, medians, _medians(places, bound))
    outside = (most_there < (-np.inf if low is None else low)) | (medians > (np.inf if high is None else high))
    beyond = float(outside.sum() / np.isfinite(most_there).sum()) if outside.sum() >= few else 0.0
    return WallMap(
        way, frozen(medians[kd_tree(places).query(mesh.points, workers=-1)[1]]), float(known.mean()), thinnest, thickest,
        float(medians[known].mean()), beyond, _decided(thinnest, thickest, limits, judgement, beyond), limits,
        _uneven(places, most_there, thinnest, few),
    )  # fmt: skip


def _through(mesh: TriangleMesh, at: tuple[Floats, Floats], way: str, coats: Floats) -> tuple[Floats, Floats]:
    """Thickness at some places (K,), and straight through (K,), which none is larger than; coats taken off, mm."""
    straight = by_ray(mesh, *at)
    bound = _clear_of_edges(mesh, at[0], straight - coats)
    if way == "ray":
        return bound, bound
    return np.where(np.isfinite(bound), by_ball(*at, straight) - coats, np.nan), bound


def _nothing(bound: Floats) -> InputError:
    """Why there is no thickness."""
    if np.isfinite(bound).sum() >= LEAST:
        return InputError("no ball settles in it: it is solid and round", "walls", "Measure straight through")
    return InputError("the scan shows no two sides of a wall", "walls", "Scan the other side as well")


def _coats(deviation: Deviation, places: Floats, judgement: Judgement) -> Floats:
    """What coats add on both sides (K,), mm: that of the side that is measured from, twice."""
    if not judgement.chain.coats:
        return np.zeros(len(places))
    faces = deviation.faces[kd_tree(deviation.points).query(places, workers=-1)[1]]
    return np.where(faces >= 0, 2 * judgement.chain.thickness_on(np.maximum(faces, 0)), 0.0)


def _clear_of_edges(mesh: TriangleMesh, places: Floats, found: Floats) -> Floats:
    """Without places near the scan's own border, where half a wall is met."""
    rim = border_points(mesh)
    if len(rim) == 0:
        return found
    apart = kd_tree(mesh.points[rim]).query(places, workers=-1)[0]
    return np.where(apart < np.maximum(EDGE * np.nan_to_num(found), 2 * mesh.spacing), np.nan, found)


def _medians(places: Floats, found: Floats) -> Floats:
    """Median of what lies about each place (K,); NaN where fewer than half have a thickness."""
    count = min(AROUND, len(places))
    near = kd_tree(places).query(places, k=count, workers=-1)[1].reshape(len(places), -1)
    around = found[near]
    enough = np.isfinite(around).sum(1) * 2 >= count
    medians = np.nanmedian(np.where(enough[:, None], around, 0.0), axis=1)
    return np.where(enough & np.isfinite(found), medians, np.nan)


def _tiles(places: Floats, normals: Floats, values: tuple[Floats, Floats], side: float) -> Tiles:
    """Medians over cubes, each side of a wall for itself; of what has about the thickness of all about it: at edges another wall is met.

    Parameters
    ----------
    values : tuple of array (K,)
        Thickness, and its median about each place, mm.
    side : float
        Of a cube, mm.
    """
    found, medians = values
    spread = float(np.nanmedian(np.abs(found - medians)))
    rows = np.flatnonzero(np.abs(found - medians) < np.maximum(UNLIKE * medians, 5 * spread))
    if len(rows) < LEAST:
        raise InputError("walls are met at edges only", "walls", "Scan more of both sides")
    cells = np.floor((places[rows] - places.min(0)) / side).astype(np.int64)
    axis = np.abs(normals[rows]).argmax(1)
    sides = 2 * axis + (normals[rows, axis] > 0)
    keys = np.column_stack([sides, cells])
    _, first, inverse, counts = np.unique(keys, axis=0, return_index=True, return_inverse=True, return_counts=True)
    inverse = inverse.reshape(-1)
    # Medians: where noise has folded a sliver of the scan its direction, and with it the way through, is any.
    means = _middles(found[rows], inverse, counts)
    spreads = 1.4826 * _middles(np.abs(found[rows] - means[inverse]), inverse, counts)
    keep = (counts >= max(LEAST_POINTS, FILLED * float(np.median(counts)))) & (spreads < UNLIKE * means)
    if not keep.any():
        raise InputError("no wall is about as thick over a tile of it", "walls", "Scan it finer")
    return Tiles(means[keep], counts[keep], rows[first][keep], cells[first][keep], sides[first][keep], spreads[keep])


def _middles(values: Floats, group: Ints, counts: Ints) -> Floats:
    """Median of the values (N,) of each group (K,), groups being numbered from 0."""
    ordered = values[np.lexsort((values, group))]
    starts = np.cumsum(counts) - counts
    return np.asarray((ordered[starts + (counts - 1) // 2] + ordered[starts + counts // 2]) / 2)


def _extreme(tiles: Tiles, sign: float, limit: float | None, places: Floats, judgement: Judgement) -> WallPlace:
    """The thickest (sign 1) or thinnest (-1) of the tiles, what noise adds by the choice taken off."""
    order = np.sort(sign * tiles.means)
    third = sign * float(order[-min(3, len(order))])
    # Of walls about as thick: another wall far thicker is no noise of this one.
    alike = tiles.means <= third * ALIKE if sign < 0 else tiles.means >= third / ALIKE
    tiles = tiles.some(alike)
    found = extreme_of(tiles, sign, limit)
    value = max(found.value, 0.0)
    sampling = Sampling(found.standard, int(tiles.counts[found.tile]), tiles.freedom)
    budget = judgement.chain.budget(max(value, 1e-6), sampling, 0.0)
    return WallPlace(value, budget.expanded, places[tiles.rows[found.tile]])


def _uneven(places: Floats, medians: Floats, thinnest: WallPlace, few: int) -> WallPlace | None:
    """A place with a small median, and a tile's area of others below it, where that is clearly less than the thinnest that has a value."""
    known = np.flatnonzero(np.isfinite(medians))
    k = int(known[np.argsort(medians[known])[min(few, len(known) - 1)]])
    if medians[k] > thinnest.value * (1 - CLEARLY):
        return None
    return WallPlace(float(medians[k]), float("nan"), places[k])


def _decided(
    thinnest: WallPlace, thickest: WallPlace, limits: WallLimits, judgement: Judgement, beyond: float
) -> Decision | None:
    """The worse of both sides; and no "conforms" where places too uneven for a value lie beyond."""
    asked: list[tuple[WallPlace, float | None, float | None]] = []
    if limits.least is not None:
        asked.append((thinnest, limits.least, None))
    if limits.most is not None:
        asked.append((thickest, None, limits.most))
    made = [
        Decision(Verdict.NOT_DECIDED, float("nan"), judgement.objection or "no instrument stated")
        if judgement.objection or not np.isfinite(place.expanded)
        else decide(place.value, place.expanded, low, high, judgement.rule, judgement.guard)
        for place, low, high in asked
    ]
    order = (Verdict.DOES_NOT_CONFORM, Verdict.NOT_DECIDED, Verdict.CONFORMS)
    worst = min(made, key=lambda decision: order.index(decision.verdict), default=None)
    if worst is not None and worst.verdict is Verdict.CONFORMS and beyond > 0:
        words = f"{percent(beyond, 2)} of the area is beyond the limits, at places too uneven for a value: look at the map there"
        return Decision(Verdict.NOT_DECIDED, float("nan"), words)
    return worst
