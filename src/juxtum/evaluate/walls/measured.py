"""The walls of a part as a map, with limits and what is known of the thinnest and thickest place."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate.characteristics import Judgement, extreme_of
from juxtum.evaluate.decision import Decision, Verdict, decide
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.tiles import FILLED, LEAST_POINTS, Tiles, tile_size
from juxtum.evaluate.uncertainty import Sampling
from juxtum.evaluate.walls.thickness import by_ball, by_ray, even_places
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.mesh import Scan
from juxtum.geometry.topology import border_points
from juxtum.wording import percent

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
    count = int(np.clip(mesh.area / max(mesh.spacing, 1e-6) ** 2, FEWEST, MOST))
    places, normals = even_places(mesh, count)
    found = by_ray(mesh, places, normals) if way == "ray" else by_ball(mesh, places, normals)
    found -= _coats(deviation, places, judgement)
    found = _clear_of_edges(mesh, places, found)
    medians = _medians(places, found)
    known = np.isfinite(medians)
    if known.sum() < LEAST:
        if way == "ball" and np.isfinite(by_ray(mesh, places, normals)).sum() >= LEAST:
            raise InputError("no ball settles in it: it is solid and round", "walls", "Measure straight through")
        raise InputError("the scan shows no two sides of a wall", "walls", "Scan the other side as well")
    low, high = limits.least, limits.most
    outside = medians < (-np.inf if low is None else low)
    outside |= medians > (np.inf if high is None else high)
    tiles = _tiles(places, normals, found, medians)
    thinnest, thickest = (_extreme(tiles, sign, limit, places, judgement) for sign, limit in ((-1.0, low), (1.0, high)))
    # Fewer places than make a tile are no wall: some are always met at edges.
    few = int(np.ceil(tile_size(mesh.spacing) ** 2 * count / max(mesh.area, 1e-12)))
    beyond = float(outside[known].mean()) if outside.sum() >= few else 0.0
    values = medians[kd_tree(places).query(mesh.points, workers=-1)[1]]
    return WallMap(
        way, frozen(values), float(known.mean()), thinnest, thickest, float(medians[known].mean()),
        beyond, _decided(thinnest, thickest, limits, judgement, beyond), limits,
        _uneven(places, medians, thinnest, few),
    )  # fmt: skip


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


def _tiles(places: Floats, normals: Floats, found: Floats, medians: Floats) -> Tiles:
    """Means over cubes, each side of a wall for itself; of what has about the thickness of all about it: at edges another wall is met."""
    spread = float(np.nanmedian(np.abs(found - medians)))
    rows = np.flatnonzero(np.abs(found - medians) < np.maximum(UNLIKE * medians, 5 * spread))
    if len(rows) < LEAST:
        raise InputError("walls are met at edges only", "walls", "Scan more of both sides")
    apart = kd_tree(places[rows]).query(places[rows[:: max(1, len(rows) // 2000)]], k=2)[0][:, 1]
    size = tile_size(1.4 * float(np.median(apart)))
    cells = np.floor((places[rows] - places.min(0)) / size).astype(np.int64)
    axis = np.abs(normals[rows]).argmax(1)
    sides = 2 * axis + (normals[rows, axis] > 0)
    keys = np.column_stack([sides, cells])
    _, first, inverse, counts = np.unique(keys, axis=0, return_index=True, return_inverse=True, return_counts=True)
    inverse = inverse.reshape(-1)
    means = np.bincount(inverse, found[rows]) / counts
    spreads = np.sqrt(np.bincount(inverse, (found[rows] - means[inverse]) ** 2) / counts)
    keep = (counts >= max(LEAST_POINTS, FILLED * float(np.median(counts)))) & (spreads < UNLIKE * means)
    if not keep.any():
        raise InputError("no wall is about as thick over a tile of it", "walls", "Scan it finer")
    return Tiles(means[keep], counts[keep], rows[first][keep], cells[first][keep], sides[first][keep], spreads[keep])


def _extreme(tiles: Tiles, sign: float, limit: float | None, places: Floats, judgement: Judgement) -> WallPlace:
    """The thickest (sign 1) or thinnest (-1) of the means over tiles, what noise adds by the choice taken off."""
    order = np.sort(sign * tiles.means)
    third = sign * float(order[-min(3, len(order))])
    # Of walls about as thick: another wall far thicker is no noise of this one.
    alike = tiles.means <= third * ALIKE if sign < 0 else tiles.means >= third / ALIKE
    tiles = Tiles(*(getattr(tiles, field.name)[alike] for field in fields(Tiles)))
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
