"""Views on a turntable: the fewest steps and tilts that cover the part with enough overlap."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools, Floats, frozen, unit
from juxtum.geometry.rays import RayCaster
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.models import InstrumentModel, Mode
from juxtum.nominal import Nominal
from juxtum.plan.resting import BY_HAND, Rest, rest_of
from juxtum.plan.targets.reach import beside
from juxtum.plan.targets.views import Patches, Spots, Views, make_patches, seen_from
from juxtum.plan.task import Task
from juxtum.progress import Progress, silent

FINE = 180
STEEPEST = 85.0
"""Incidence up to which the camera sees what the light falls on, degrees."""
OVERLAP = 0.30
ELEVATION = 28.0
TILTS = ((0.0, 0.0), (90.0, 0.0), (180.0, 0.0), (-90.0, 0.0), (0.0, 90.0), (0.0, -90.0), (50.0, 0.0), (-50.0, 0.0))
"""How the part is laid on the table: degrees about X, then about Y."""
MOST_TILTS = 3
LAY, HELD = 400, 300
"""What another lay costs, and one that has to be held, in shots: hands cost more than steps of the table."""
SAME_SHAPE = 0.2
"""A turn that changes the surface by less than this, mm, leaves the shape the same."""


@dataclass(frozen=True, eq=False)
class TurntablePlan:
    """Steps and tilts.

    Parameters
    ----------
    steps : int
        Shots of a full turn.
    tilts : tuple of (float, float)
        Degrees about X and about Y for each way the part is laid down.
    coverage : float
        Share of the measured area that is seen, 0 to 1.
    reachable : float
        Share that all steps and tilts together would see.
    overlap : float
        Least overlap of neighbouring shots, 0 to 1.
    minutes : float
    warnings : tuple of str
    seen : array (K,)
        Patches that are seen.
    patches : Patches
    """

    steps: int
    tilts: tuple[tuple[float, float], ...]
    coverage: float
    reachable: float
    overlap: float
    minutes: float
    warnings: tuple[str, ...]
    seen: Bools
    patches: Patches
    shots_of_first: Views
    """Where the head stands about the part in its first position, part coordinates."""
    distance: float

    @property
    def shots(self) -> int:
        """In all."""
        return self.steps * len(self.tilts)


def plan_turntable(
    nominal: Nominal, task: Task, model: InstrumentModel, goal: float = 0.97, progress: Progress | None = None
) -> TurntablePlan:
    """The fewest shots that reach the wanted share of what can be reached, with overlap between neighbours.

    Raises
    ------
    InputError
        When the instrument has no turntable, or the part is too large for it.
    """
    progress = progress or silent()
    task.check(nominal)
    table, mode = model.turntable, model.modes[0]
    if table is None:
        raise InputError(f"{model.name} has no turntable", "turntable", "Choose an instrument with one")
    wide = float(np.sort(np.ptp(nominal.mesh.bounds, axis=0))[-2:].max())
    if wide > 1.5 * table.diameter:
        what = f"the part is {wide:.0f} mm wide, {wide - 1.5 * table.diameter:.0f} mm more than the turntable of \u00d8{table.diameter:.0f} mm carries"
        raise InputError(what, "turntable", "Choose a handheld or tracked scanner")
    patches = make_patches(nominal, task.measured_faces(nominal), max(nominal.diagonal / 14, 2.0))
    caster = RayCaster(nominal.mesh)
    seen = []
    for k, tilt in enumerate(TILTS):
        part = progress.part(k / len(TILTS) * 0.8, (k + 1) / len(TILTS) * 0.8)
        views, spots = _turn(nominal, model, tilt), Spots.on_part(patches.places, patches.normals, 1)
        lit = seen_from(views, spots, caster, mode.incidence, part.part(0, 0.5))
        seen.append(lit & seen_from(_camera(views, mode), spots, caster, STEEPEST, part.part(0.5, 1)))
    progress.phase("counting steps", 0.8)
    weights = patches.areas / patches.areas.sum()
    reachable = float(weights @ np.any([s.any(0) for s in seen], axis=0))
    rests = [rest_of(nominal, _laid(tilt)) for tilt in TILTS]
    steps, tilts, overlap = _fewest(seen, weights, goal * reachable, table.steps, [r.stands for r in rests])
    chosen = np.any([seen[t][:: FINE // steps].any(0) for t in tilts], axis=0)
    minutes = steps * len(tilts) * table.seconds_per_step / 60 + 2.0 * (len(tilts) - 1)
    warnings = (*symmetry_warnings(nominal), *_lay_warnings(nominal, task, [(t, rests[t]) for t in tilts]))
    if overlap < OVERLAP:
        warnings = (*warnings, f"neighbouring shots overlap by only {100 * overlap:.0f} %: put targets on the table")
    return TurntablePlan(
        steps, tuple(TILTS[t] for t in tilts), float(weights @ chosen), reachable, overlap, minutes, warnings, frozen(chosen, bool), patches,
        _every(_turn(nominal, model, TILTS[tilts[0]]), FINE // steps), mode.stand_off[1],
    )  # fmt: skip


def laid_down(nominal: Nominal, tilts: tuple[tuple[float, float], ...]) -> tuple[RigidTransform, ...]:
    """How the part lies on the table in each way (part coordinates to table): its middle over the table's axis."""
    moves = []
    for tilt in tilts:
        turned = nominal.mesh.points @ _laid(tilt).T
        middle = nominal.centre @ _laid(tilt).T
        moves.append(RigidTransform.from_parts(_laid(tilt), [-middle[0], -middle[1], -float(turned[:, 2].min())]))
    return tuple(moves)


def _laid(tilt: tuple[float, float]) -> Floats:
    """The rotation of a part that is tilted about X, then about Y, degrees."""
    return rotation_from_vector(np.radians([0, tilt[1], 0])) @ rotation_from_vector(np.radians([tilt[0], 0, 0]))


def _every(views: Views, step: int) -> Views:
    rows = slice(None, None, step)
    return replace(
        views, eyes=frozen(views.eyes[rows]), axes=frozen(views.axes[rows]), ups=frozen(views.ups[rows]),
        patches=frozen(views.patches[rows], np.int32), setups=frozen(views.setups[rows], np.int8),
    )  # fmt: skip


def _turn(nominal: Nominal, model: InstrumentModel, tilt: tuple[float, float]) -> Views:
    """The head's poses about the part, in part coordinates, for a full turn in fine steps."""
    mode = model.modes[0]
    laid = _laid(tilt)
    angles = np.arange(FINE) * 2 * np.pi / FINE
    rise = np.radians(ELEVATION)
    towards = np.stack([np.cos(angles) * np.cos(rise), np.sin(angles) * np.cos(rise), np.full(FINE, np.sin(rise))], 1)
    directions = towards @ laid
    up = np.broadcast_to(laid.T @ [0.0, 0, 1], directions.shape)
    ups = unit(up - np.einsum("ij,ij->i", up, directions)[:, None] * directions)
    eyes = nominal.centre + mode.stand_off[1] * directions
    tangents = (mode.field[0] / 2 / mode.stand_off[1], mode.field[1] / 2 / mode.stand_off[1])
    zeros = np.zeros(FINE)
    return Views(
        frozen(eyes), frozen(-directions), frozen(ups), frozen(zeros, np.int32), frozen(zeros, np.int8),
        (RigidTransform.identity(),), tangents, mode.stand_off,
    )  # fmt: skip


def _camera(views: Views, mode: Mode) -> Views:
    """Where the camera stands beside the light, looking at the same place; its field is a little wider."""
    best = mode.stand_off[1]
    aims = views.eyes + best * views.axes
    eyes = views.eyes + beside(mode) * np.cross(views.axes, views.ups)
    axes = unit(aims - eyes)
    ups = unit(views.ups - np.einsum("ij,ij->i", views.ups, axes)[:, None] * axes)
    near, _, far = mode.stand_off
    wide, high = views.tangents
    return replace(
        views,
        eyes=frozen(eyes),
        axes=frozen(axes),
        ups=frozen(ups),
        tangents=(1.3 * wide, 1.3 * high),
        stand_off=(0.8 * near, best, 1.3 * far),
    )


def _lay_warnings(nominal: Nominal, task: Task, lays: list[tuple[int, Rest]]) -> tuple[str, ...]:
    """What to mind about the ways in which the part is laid down."""
    measured = set(task.own_faces) | set(task.datums)
    words = []
    for number, (tilt, rest) in enumerate(lays, 1):
        if not rest.stands:
            words.append(
                f"lay {number} ({TILTS[tilt][0]:g}\u00b0 about X, {TILTS[tilt][1]:g}\u00b0 about Y) does not stand by itself: hold it"
            )
        if on := sorted(measured & set(rest.faces)):
            faces = ", ".join(map(str, on))
            words.append(
                f"in lay {number} the part lies on face {faces}, which is measured: put something soft under it"
            )
    mass = task.mass(nominal)
    if np.isfinite(mass) and mass > BY_HAND and len(lays) > 1:
        words.append(f"the part has {mass:.0f} kg: lay it down with tackle or help")
    return tuple(words)


def _fewest(
    seen: list[Bools], weights: Floats, wanted: float, limits: tuple[int, int], stands: list[bool]
) -> tuple[int, tuple[int, ...], float]:
    """Steps and tilts with the fewest lays, of these the ones that stand, then with the fewest shots.

    Where the wish cannot be met the best coverage counts.
    """
    offered = [n for n in range(4, FINE + 1) if FINE % n == 0 and limits[0] <= n <= limits[1]]
    best: tuple[float, int, tuple[int, ...], float] | None = None
    covered = {(n, t): seen[t][:: FINE // n].any(0) for n in offered for t in range(len(seen))}
    overlaps = {(n, t): _overlap(seen[t][:: FINE // n], weights) for n in offered for t in range(len(seen))}
    for count in range(1, MOST_TILTS + 1):
        for tilts in combinations(range(len(seen)), count):
            for n in offered:
                share = float(weights @ np.any([covered[n, t] for t in tilts], axis=0))
                overlap = min(overlaps[n, t] for t in tilts)
                met = share >= wanted - 1e-9 and overlap >= OVERLAP
                # A lay that has to be held costs more than any number of shots.
                held = sum(not stands[t] for t in tilts)
                price = (
                    n * count + HELD * held + LAY * (count - 1)
                    if met
                    else 1e6 * (2 - share - 0.2 * min(overlap, OVERLAP))
                )
                if best is None or price < best[0]:
                    best = (price, n, tilts, overlap)
                if met:
                    break
    assert best is not None
    return best[1], best[2], best[3]


def _overlap(seen: Bools, weights: Floats) -> float:
    """Least share of area that a shot has in common with the next one."""
    own = seen @ weights
    common = (seen & np.roll(seen, -1, axis=0)) @ weights
    return float((common / np.maximum(np.minimum(own, np.roll(own, -1)), 1e-12)).min())


def symmetry_warnings(nominal: Nominal) -> tuple[str, ...]:
    """Turns that bring the part onto itself, which joining by shape cannot tell apart."""
    samples = nominal.samples
    rows = np.arange(0, len(samples.centres), max(1, len(samples.centres) // 3000))
    points, weights = samples.centres[rows], samples.mesh.triangle_areas
    middle = weights @ samples.centres / weights.sum()
    warnings = []
    for axis, name in zip(np.eye(3), "XYZ", strict=True):
        same = [k for k in (2, 3, 4, 5, 6, 8) if _is_same(nominal, points, middle, axis * 2 * np.pi / k)]
        if same and _is_same(nominal, points, middle, axis * 1.0) and _is_same(nominal, points, middle, axis * 0.37):
            warnings.append(f"the part is round about {name}: joining by shape is unsafe, use targets")
        elif same:
            turn = 360 / max(same)
            warnings.append(
                f"a turn of {turn:g}\u00b0 about {name} brings the part onto itself: joining by shape is unsafe, use targets"
            )
    return tuple(warnings)


def _is_same(nominal: Nominal, points: Floats, middle: Floats, vector: Floats) -> bool:
    turned = (points - middle) @ rotation_from_vector(vector).T + middle
    found = nominal.projector.project(turned, limit=1.0)
    near = found.found & (np.abs(found.distances) < SAME_SHAPE)
    return bool(near.mean() > 0.98)
