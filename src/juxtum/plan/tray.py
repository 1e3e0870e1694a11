"""Trays of equal parts for the cabinet: how many fit, how they lie, minutes for each."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.materials import STEEL_DENSITY
from juxtum.instruments.models import InstrumentModel, MeasuringCylinder
from juxtum.nominal import Nominal
from juxtum.plan.path_length import paths_along
from juxtum.plan.task import Task
from juxtum.plan.voxels import Fineness, fineness

TILTS = (15.0, 18.0, 20.0, 22.0, 25.0)
GAP = 4.0
DIRECTIONS = 8
"""Of the beam over half a turn."""
TRAY_MINUTES = 0.4
"""Of putting one part into a tray."""


@dataclass(frozen=True, eq=False)
class TrayPlan:
    """How parts lie in the measuring cylinder.

    Parameters
    ----------
    count : int
    tilt : float
        Degrees out of the flat, so that no large face lies along the rays.
    rotation : array (3, 3)
        From part coordinates to the tray.
    places : array (N, 3)
        Middle of each part, from the axis at the foot of the cylinder, mm.
    size : array (3,)
        Of one tilted part, mm.
    minutes_each, minutes_single : float
        For a part in the tray, and for a part measured alone.
    """

    count: int
    tilt: float
    rotation: Floats
    places: Floats
    size: Floats
    gap: float
    minutes_each: float
    minutes_single: float
    outline: Floats
    """Corners (M, 2) of the tilted part's shadow about its middle."""
    cylinder: MeasuringCylinder
    path: float = float("nan")
    """Of material in the worst beam, mm; nan for an open part."""
    steel: float = float("nan")
    """As much steel, mm."""
    fineness: Fineness | None = None
    """What so wide a tray gives."""
    left_out: str = ""
    """Why fewer parts lie in it than fit; empty where all that fit do."""

    @property
    def is_seen_through(self) -> bool:
        """Whether the cabinet sees through what lies in its beam; an open part counts as seen through."""
        return not self.steel > self.cylinder.through

    @property
    def words(self) -> str:
        """What the beam passes, in words; empty for an open part."""
        if not np.isfinite(self.path):
            return ""
        said = f"the beam passes up to {self.path:.0f} mm of material"
        if not np.isfinite(self.steel):
            return f"{said}; whether the cabinet sees through it depends on the material, which is not chosen"
        said += f", as much as {self.steel:.0f} mm of steel"
        if self.is_seen_through:
            return said
        return f"{said}: the cabinet sees through {self.cylinder.through:g} mm, not even one part comes out well"


def plan_tray(
    nominal: Nominal, task: Task, model: InstrumentModel, wanted: int | None = None, gap: float = GAP
) -> TrayPlan:
    """Rows of equally tilted parts close to the axis, layer by layer.

    Parameters
    ----------
    wanted : int, optional
        As many as fit when not given.

    Raises
    ------
    InputError
        When the instrument has no measuring cylinder, or not even one part fits, saying by how much.
    """
    cylinder = model.cylinder
    if cylinder is None:
        raise InputError(f"{model.name} has no measuring cylinder", "tray", "Choose a tomography cabinet")
    if not 0 <= gap <= 200:
        raise InputError(f"a gap of {gap:g} mm is impossible", "tray", "Give 0 to 200 mm")
    tried = [_packed(nominal, task, cylinder, way, wanted, gap) for way in _ways(nominal)]
    fitting = [tray for tray, _ in tried if tray is not None]
    if not fitting:
        smallest = max(min(excess for _, excess in tried), 0.0)
        what = f"not even one part fits into \u00d8{cylinder.diameter:g} x {cylinder.height:g} mm: it is {smallest:.0f} mm too large"
        raise InputError(what, "tray", "Choose a larger cabinet")
    # As many as fit, and of those ways the one that keeps them nearest to the axis.
    fullest = max(fitting, key=lambda tray: (tray.count, -float(np.linalg.norm(tray.places[:, :2], axis=1).mean())))
    passed = _seen_through(nominal, task, fullest)
    if passed.count < fullest.count:
        passed = replace(passed, left_out=f"{fullest.count} fit, and the beam passes {passed.count}")
    return _fine_enough(nominal, task, model, passed)


def _packed(
    nominal: Nominal, task: Task, cylinder: MeasuringCylinder, way: tuple[Floats, float], wanted: int | None, gap: float
) -> tuple[TrayPlan | None, float]:
    """As many parts as fit when they lie in one way, if any do; and how much one is too large, mm."""
    rotation, tilt = way
    points = (nominal.mesh.points - nominal.centre) @ rotation.T
    low, high = points.min(0), points.max(0)
    size, outline = high - low, _hull(points[:, :2])
    reach = float(np.linalg.norm(outline - outline.mean(0), axis=1).max())
    excess = max(2 * reach - cylinder.diameter, size[2] - cylinder.height)
    places = _places(outline, size, cylinder.diameter, cylinder.height, gap)
    most = min(len(places), wanted or len(places), _by_load(nominal, task, cylinder.load, len(places)))
    if most == 0:
        return None, excess
    single = cylinder.scan_minutes + cylinder.loading_minutes
    made = TrayPlan(
        most, tilt, frozen(rotation), frozen(places[:most]), frozen(size), gap, single / most + TRAY_MINUTES, single, frozen(outline), cylinder,
    )  # fmt: skip
    return made, excess


def _seen_through(nominal: Nominal, task: Task, tray: TrayPlan) -> TrayPlan:
    """The tray with as many parts as the beam passes, those nearest to the axis; one at least."""
    if not np.isfinite(nominal.volume):
        return tray
    # What an unknown material does to a beam is not known: the path is told, and nothing is taken away for it.
    share = task.density / STEEL_DENSITY if task.material is not None else float("nan")
    angles = np.pi * np.arange(DIRECTIONS) / DIRECTIONS
    beams = [np.array([np.cos(a), np.sin(a), 0.0]) for a in angles]
    single = [float(np.percentile(paths_along(nominal, tray.rotation.T @ beam), 90)) for beam in beams]
    made = tray
    while True:
        path = max(p * _behind(made, beam) for p, beam in zip(single, beams, strict=True))
        made = replace(made, path=path, steel=share * path)
        if made.is_seen_through or made.count == 1:
            return replace(made, minutes_each=made.minutes_single / made.count + TRAY_MINUTES)
        made = replace(made, count=made.count - 1, places=frozen(made.places[: made.count - 1]))


def _fine_enough(nominal: Nominal, task: Task, model: InstrumentModel, tray: TrayPlan) -> TrayPlan:
    """The tray with as many parts as can be told, those nearest to the axis; where not even one can, as many as before."""

    def of(count: int) -> Fineness:
        return fineness(model, task, tray.places[:count], tray.outline, nominal.diagonal)

    found = next((n for n in range(tray.count, 0, -1) if of(n).is_enough), None)
    if found is None:
        worst = of(1)
        said = f"not even one part alone is seen finely enough: {worst.words}"
        return replace(tray, fineness=of(tray.count), left_out="; ".join(filter(None, (tray.left_out, said))))
    made = replace(tray, count=found, places=frozen(tray.places[:found]), fineness=of(found))
    if found < tray.count:
        coarse = of(tray.count)
        said = f"{tray.count} would lie over \u00d8{coarse.diameter:.0f} mm, with a voxel of {coarse.voxel:.2f} mm, too coarse for the tightest tolerance"
        made = replace(made, left_out="; ".join(filter(None, (tray.left_out, said))))
    return replace(made, minutes_each=made.minutes_single / made.count + TRAY_MINUTES)


def _behind(tray: TrayPlan, beam: Floats) -> int:
    """How many parts lie one behind the other in a beam, at most."""
    across = np.array([-beam[1], beam[0]])
    width = float(np.ptp(tray.outline @ across))
    beside, level = tray.places[:, :2] @ across, tray.places[:, 2]
    near = (np.abs(beside[:, None] - beside[None]) < 0.5 * width) & (np.abs(level[:, None] - level[None]) < 1e-6)
    return int(near.sum(1).max())


def _by_load(nominal: Nominal, task: Task, load: float, count: int) -> int:
    mass = task.mass(nominal)
    return count if not np.isfinite(mass) or mass <= 0 else min(count, int(load / mass))


def _ways(nominal: Nominal) -> list[tuple[Floats, float]]:
    """Rotations that lay each side of the part down and tilt it about both of its level axes."""
    ways = []
    for quarter in ([0, 0, 0], [90, 0, 0], [0, 90, 0]):
        lying = rotation_from_vector(np.radians(np.array(quarter, dtype=float)))
        for tilt in TILTS:
            for axis in ([1.0, 0, 0], [0, 1.0, 0]):
                ways.append((rotation_from_vector(np.radians(tilt) * np.array(axis)) @ lying, tilt))
    return ways


def _hull(points: Floats) -> Floats:
    from scipy.spatial import ConvexHull

    return np.asarray(points[ConvexHull(points).vertices])


def _places(outline: Floats, size: Floats, diameter: float, height: float, gap: float) -> Floats:
    """Middles (N, 3) of parts in staggered rows and layers whose outlines stay inside, nearest to the axis first."""
    pitch = size + gap
    layers = int((height - gap + 1e-9) // pitch[2])
    if layers < 1:
        return np.empty((0, 3))
    best = np.empty((0, 2))
    count = int(np.ceil(diameter / pitch[:2].min())) + 2
    i, j = np.meshgrid(np.arange(-count, count + 1), np.arange(-count, count + 1), indexing="ij")
    for stagger in (0.0, 0.5):
        for shift in ((0.0, 0.0), (0.5, 0.0), (0.0, 0.5), (0.5, 0.5), (0.25, 0.25)):
            grid = np.stack([(i + shift[0] + stagger * (j % 2)) * pitch[0], (j + shift[1]) * pitch[1]], -1).reshape(
                -1, 2
            )
            far = np.linalg.norm(grid[:, None] + outline[None], axis=2).max(1)
            inside = grid[far + gap / 2 <= diameter / 2]
            if len(inside) > len(best):
                best = inside
    best = best[np.argsort(np.linalg.norm(best, axis=1), kind="stable")]
    used = layers * pitch[2] - gap
    heights = (height - used) / 2 + size[2] / 2 + pitch[2] * np.arange(layers)
    order = np.argsort(np.abs(heights - height / 2), kind="stable")
    return np.array([[x, y, z] for z in heights[order] for x, y in best]).reshape(-1, 3)
