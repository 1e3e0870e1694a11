"""What a scan shows of one feature: its sizes and place with their uncertainty, its form, and what was left out."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from juxtum.associate.constrained import Held, fit_held
from juxtum.associate.fit import inliers
from juxtum.associate.from_points import associated, zoned
from juxtum.associate.solve import Fit, gauss
from juxtum.associate.zones import signed_distances
from juxtum.errors import InputError, JuxtumError
from juxtum.evaluate.characteristics import counting_rows
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.features.free_form import FreeForm, fit_free_form
from juxtum.evaluate.features.growing import grow, grow_smooth, neighbours_of
from juxtum.evaluate.features.partners import drawn_opening, partner_of
from juxtum.evaluate.features.values import FeatureValue, Laid, values_of
from juxtum.geometry.arrays import Bools, Floats, Ints, frozen, orthonormal_frame
from juxtum.geometry.features import OPENINGS, Cone, Cylinder, Feature, Opening, Rectangle, Torus
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.geometry.topology import components
from juxtum.nominal.common import common_feature

MARGIN = 3.0
"""Nothing nearer to the border of a region than so many spacings is used, where enough is left."""
LEAST_LEFT = 0.4
"""Of a region has to be left by that margin; a smaller one is used up to its border."""
SIGMAS = 3.0
MOST = 20_000
ZONED = 40_000
"""Most points of a minimum zone, which is there to be held against least squares."""
ROUNDED = 0.6
"""A corner of a rectangle may be round over this share of its width, both sides of it together."""
NO_GAP, GAP = 8.0, 4.0
"""A gap of so many degrees, or so many distances between points, in what was seen of a round feature is none."""
SPECK = 12
"""So many triangles together within a region that do not belong to it are noise, not its border."""
WALL = 2 / 3
"""Of the way round has to be seen before a round feature is given without a doubt."""
FEW = 12
FREE_FORM = "freeform"
"""What is no other kind: held against the drawn surface itself."""


@dataclass(frozen=True)
class Question:
    """Which data make a feature.

    Parameters
    ----------
    kind : str
        "plane", "sphere", "cylinder", "cone", "torus", "slot", "rectangle", "freeform", or empty where the surface tells.
    seed : tuple of float, optional
        A place on the scan, part coordinates, mm: the region about it is grown.
    faces : tuple of int
        Numbers of faces of the nominal: the scan's points on them.
    places : tuple of tuple
        Single places, part coordinates, mm.
    tolerance : float, optional
        Of a region, mm.
    """

    kind: str = ""
    seed: tuple[float, float, float] | None = None
    faces: tuple[int, ...] = ()
    places: tuple[tuple[float, float, float], ...] = ()
    tolerance: float | None = None


@dataclass(frozen=True, eq=False)
class MeasuredFeature:
    """A feature of the scan, in part coordinates.

    Parameters
    ----------
    kind : str
    feature : Feature
        Of least squares.
    values : tuple of FeatureValue
    count, left_out : int
        Points used, and those in the region that lie too far off.
    rms, form, zone : float
        mm: of least squares; the largest less the smallest distance; the width of the minimum zone (NaN where there is none).
    seen : float
        Share of the way round that was seen, 0 to 1; NaN for what is not round.
    face : int
        Number of its partner in the drawing; 0 for none.
    rows, strays : array
        Points of the scan that are used, and those left out; empty for single places.
    off : array
        How far each that is used lies out of the feature, mm.
    notes : tuple of str
    tolerance : float
        Within which a region was grown, mm; NaN for others.
    """

    kind: str
    feature: Feature
    values: tuple[FeatureValue, ...]
    count: int
    left_out: int
    rms: float
    form: float
    zone: float
    seen: float
    face: int
    rows: Ints
    strays: Ints
    off: Floats
    notes: tuple[str, ...]
    tolerance: float = float("nan")
    covariance: Floats = field(default_factory=lambda: np.zeros((0, 0)))
    """Of a step of the feature, by its data."""
    origin: str = ""
    """Of what it is made, in words; empty for what was measured itself."""
    bases: tuple[Base, ...] = ()
    """What was measured of which it is made."""
    make: Callable[[Mapping[str, Feature]], Feature] | None = None
    """Makes it anew of those, by their labels."""
    ends: Floats | None = None
    """Of a distance (2, 3), where it begins and ends."""


@dataclass(frozen=True, eq=False)
class Base:
    """A measured feature of which others are made: its name, the feature, and the covariance (P, P) of a step of it."""

    label: str
    feature: Feature
    covariance: Floats


@dataclass(frozen=True, eq=False)
class TakenFeature:
    """A feature under the name that a person gave it, or why there is none."""

    label: str
    measured: MeasuredFeature | None
    problem: str = ""


@dataclass(frozen=True, eq=False)
class _Data:
    points: Floats
    rows: Ints
    strays: Ints
    start: Feature | None
    notes: tuple[str, ...] = ()
    tolerance: float = float("nan")
    held: Held | None = None


def take_feature(
    deviation: Deviation, scan: Scan, laid: Laid, question: Question, held: Held | None = None
) -> MeasuredFeature:
    """Measure a feature.

    Parameters
    ----------
    deviation : Deviation
        Of the scan in the alignment in force: its points in part coordinates.
    scan : Scan
        What it is of, for how its points hang together.
    laid : tuple of Alignment and Chain
        Where it lies, and what measured it.
    held : Held, optional
        What it must keep, part coordinates.

    Raises
    ------
    JuxtumError
        When the question cannot be answered: no such face, nothing there, too few points, another kind.
    """
    if question.seed is not None:
        data = _grown(deviation, scan, question)
    elif question.faces:
        data = _of_faces(deviation, question)
    else:
        data = _Data(np.array(question.places, dtype=float).reshape(-1, 3), _none(), _none(), None)
    return _measured(deviation, laid, question, replace(data, held=held))


def ready_for_clicks(deviation: Deviation, scan: Scan) -> None:
    """Work out what every click on a scan needs, so that the first one is as quick as those that follow."""
    if isinstance(scan, TriangleMesh):
        mesh = _laid(deviation, scan)
        neighbours_of(mesh)
        mesh.tree.query(mesh.points[:1])


def _none() -> Ints:
    return np.empty(0, dtype=np.int64)


def _laid(deviation: Deviation, scan: Scan) -> TriangleMesh:
    """The scan in part coordinates, kept with the map: what a click needs of it is worked out once."""
    if not isinstance(scan, TriangleMesh):
        what = "a list of points has no surface over which a region could grow"
        raise InputError(what, "feature", "Choose faces of the nominal, or make a surface first")
    kept: TriangleMesh | None = deviation.__dict__.get("_laid_mesh")
    if kept is None:
        kept = TriangleMesh(deviation.points, scan.triangles)
        deviation.__dict__["_laid_mesh"] = kept
    return kept


def _grown(deviation: Deviation, scan: Scan, question: Question) -> _Data:
    mesh = _laid(deviation, scan)
    near = mesh.tree.query(np.array(question.seed, dtype=float)[None], limit=20.0)
    if not near.found[0]:
        raise InputError("nothing was scanned within 20 mm of that place", "feature", "Click on the scan")
    seed = int(near.triangles[0])
    if question.kind == FREE_FORM:
        rows, notes = _clear_of_border(mesh, grow_smooth(mesh, seed))
        return _Data(mesh.points[rows], rows, _none(), None, notes)
    region = grow(mesh, seed, question.kind, question.tolerance)
    rows, notes = _clear_of_border(mesh, region.triangles)
    strays = np.setdiff1d(np.unique(mesh.triangles[region.strays]), rows)
    return _Data(mesh.points[rows], rows, strays, region.feature, notes, region.tolerance)


def _clear_of_border(mesh: TriangleMesh, triangles: Ints) -> tuple[Ints, tuple[str, ...]]:
    """Points of a region that lie clear of its border, and a note where too few would be left."""
    from scipy.spatial import cKDTree

    mine = np.zeros(len(mesh.triangles), dtype=bool)
    mine[triangles] = True
    mine |= _specks(mesh, mine)
    inside = np.unique(mesh.triangles[triangles])
    beyond = np.zeros(len(mesh.points), dtype=bool)
    beyond[mesh.triangles[~mine]] = True
    rim = inside[beyond[inside]]
    if len(rim) == 0:
        return inside, ()
    apart = cKDTree(mesh.points[rim]).query(mesh.points[inside], workers=-1)[0]
    clear = inside[apart > MARGIN * mesh.spacing]
    if len(clear) >= max(LEAST_LEFT * len(inside), FEW):
        return clear, ()
    return inside, ("it is so small that points up to its border are used, where scanners round edges",)


def _specks(mesh: TriangleMesh, mine: Bools) -> Bools:
    """Triangles (M,) that do not belong to a region but lie in it, a few together: they are no border of it."""
    others = neighbours_of(mesh)
    face, edge = np.nonzero((others >= 0) & ~mine[:, None])
    across = others[face, edge]
    both = ~mine[across]
    label = components(len(mine), face[both].astype(np.int64), across[both].astype(np.int64))
    return np.asarray(~mine & (np.bincount(label)[label] <= SPECK))


def _of_faces(deviation: Deviation, question: Question) -> _Data:
    """The scan's points on faces of the nominal, clear of edges."""
    nominal, kind = deviation.nominal, question.kind
    for number in question.faces:
        nominal.face(number)
    start: Feature | None = None
    if kind in OPENINGS:
        start = drawn_opening(nominal, question.faces, kind)
    elif kind != FREE_FORM:
        start = common_feature(nominal, question.faces, "feature")
    rows = counting_rows(deviation, question.faces)
    if len(rows) < FEW:
        raise InputError(f"the scan shows too little of face {question.faces[0]}", "feature", "Scan more of it")
    return _Data(deviation.points[rows], rows, _none(), start)


def _measured(deviation: Deviation, laid: Laid, question: Question, data: _Data) -> MeasuredFeature:
    if question.kind == FREE_FORM:
        data, fit = _laid_onto(deviation, question, data)
        good = np.ones(len(data.points), bool)
    else:
        first = _associated(question, data, data.points).feature
        good = (
            inliers(first.distances(data.points), SIGMAS) if len(data.points) > FEW else np.ones(len(data.points), bool)
        )
        fit = _associated(question, replace(data, start=first), data.points[good])
    used = data.points[good]
    feature = fit.feature.anchored(used.mean(0))
    off = signed_distances(feature, used)
    partner = partner_of(deviation, data.rows[good] if len(data.rows) else _none(), feature, question.faces)
    faces = question.faces or ((partner.face,) if partner.face else ())
    is_free = isinstance(feature, FreeForm)
    seen = min(deviation.area_seen_of(faces), 1.0) if is_free and faces else _seen_round(feature, used)
    notes = [*data.notes, *((data.held.told,) if data.held is not None and data.held.told else ())]
    if seen < WALL:
        notes.append(f"only {_share_words(feature, seen)} seen: its size and place hang on little")
    if question.places:
        notes.append("through single places: what lies between them is not known")
    return MeasuredFeature(
        feature.name, feature, values_of(deviation, laid, (fit, feature, used), partner), int(good.sum()),
        int((~good).sum()) + len(data.strays), float(np.sqrt(np.mean(off**2))), float(np.ptp(off)), _zone(feature, used), seen, partner.face,
        frozen(data.rows[good], np.int64) if len(data.rows) else _none(),
        frozen(np.concatenate([data.rows[~good], data.strays]), np.int64) if len(data.rows) else _none(),
        frozen(off), tuple(notes), data.tolerance, fit.covariance,
    )  # fmt: skip


def _holds_corner(angles: Floats, feature: Rectangle) -> Bools:
    """Which gaps behind sorted angles (N,), as parts of the way round, hold a corner."""
    corners = 2 * np.pi * np.cumsum([feature.length, feature.width] * 2) / feature.circumference
    held = np.zeros(len(angles), dtype=bool)
    held[np.searchsorted(angles, corners) - 1] = True
    return held


def _share_words(feature: Feature, seen: float) -> str:
    if isinstance(feature, FreeForm):
        return f"{100 * seen:.0f} % of its area was"
    if isinstance(feature, Opening):
        return f"{100 * seen:.0f} % of its wall was"
    return f"{360 * seen:.0f} of 360 degrees were"


def _laid_onto(deviation: Deviation, question: Question, data: _Data) -> tuple[_Data, Fit[Feature]]:
    """The drawn surface laid onto all of the points: what lies off it is what is looked for, and none of it is a stray."""
    if data.held is not None:
        raise InputError("a free form has no direction and no radius to be held", "feature", "Leave it free")
    if len(data.points) < FEW:
        raise InputError(f"{len(data.points)} points are too few for a free form", "feature", "Take more of it")
    fit, note = fit_free_form(deviation.nominal.projector, data.points)
    return replace(data, notes=(*data.notes, *((note,) if note else ()))), fit


def _associated(question: Question, data: _Data, points: Floats) -> Fit[Feature]:
    """Of least squares over some of the points, free or held."""
    kind = question.kind or ("" if data.start is None else data.start.name)
    if not kind:
        raise InputError("which kind of feature the places make is not said", "feature", "Choose a kind")
    if kind in OPENINGS and data.start is None:
        raise InputError(f"a {kind} is not made of single places", "feature", "Click its wall, or name its faces")
    some = points[np.linspace(0, len(points) - 1, min(len(points), MOST)).astype(np.int64)]
    if data.held is not None:
        return fit_held(kind, some, data.held, data.start)
    start = data.start if data.start is not None and data.start.name == kind else associated(kind, points).feature
    return gauss(start, some)


def _seen_round(feature: Feature, points: Floats) -> float:
    """Share of the way round its axis in which there are points; NaN for what does not go round one."""
    if not isinstance(feature, Cylinder | Cone | Torus | Opening):
        return float("nan")
    from scipy.spatial import cKDTree

    if isinstance(feature, Opening):
        angles, radius = np.sort(2 * np.pi * feature.round_about(points)), feature.circumference / (2 * np.pi)
    else:
        x, y, _ = orthonormal_frame(feature.axis) @ (points - feature.point).T
        angles, radius = np.sort(np.arctan2(y, x)), max(float(np.median(np.hypot(x, y))), 1e-9)
    gaps = np.diff(np.r_[angles, angles[0] + 2 * np.pi])
    if isinstance(feature, Rectangle):
        # Round corners, which a milled pocket has, are no part of it.
        gaps = gaps - ROUNDED * feature.width / radius * _holds_corner(angles, feature)
    some = points[:: max(1, len(points) // 500)]
    spacing = float(np.median(cKDTree(points).query(some, k=2)[0][:, 1]))
    # A gap that is no wider than some distances between points is none.
    wide = max(np.radians(NO_GAP), GAP * spacing / radius)
    return float(1 - gaps[gaps > wide].sum() / (2 * np.pi))


def _zone(feature: Feature, points: Floats) -> float:
    """Width of the narrowest zone of its kind that holds the points; NaN where there is none."""
    some = points[np.linspace(0, len(points) - 1, min(len(points), ZONED)).astype(np.int64)]
    try:
        return float(zoned(feature.name, some).form)
    except JuxtumError:
        return float("nan")
