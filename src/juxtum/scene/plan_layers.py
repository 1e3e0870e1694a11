"""What a plan shows on the part: how well each place is seen, shadows, rays, bars and trackers."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, orthonormal_frame
from juxtum.instruments.equipment import Equipment, EquipmentKind
from juxtum.nominal import Nominal
from juxtum.plan.targets.covering import Covered
from juxtum.plan.targets.gear import Gear
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.tracking import Tracking
from juxtum.plan.targets.views import Patches
from juxtum.plan.tray import TrayPlan
from juxtum.scene.drawables import Lines, Surface, plain_surface, segments

Names = npt.NDArray[np.str_]
BANDS = (("good", "well"), ("three", "once"), ("two", "not tied"), ("none", "not seen"))
"""Name and caption of each band, best first."""
ALL_BANDS = (*(name for name, _ in BANDS), "enough", "blank")


def bands_of(ground: Ground, tracking: Tracking, covered: Covered) -> Names:
    """The band of each patch (K,): what lacks nothing is seen well, however often; what no pose sees is blank."""
    reached = covered.directions + covered.lacks > 0
    held = ground.covers[tracking.holds].any(0)
    return np.select(
        [~reached, covered.lacks == 0, covered.directions > 0, held], ["blank", "good", "three", "two"], "none"
    )


def positions_of(ground: Ground) -> Names:
    """The band of each patch (K,) by the position in which it is scanned: first, second or later, several, or none."""
    setups = ground.views.setups
    first, later = (ground.covers[rows].any(0) for rows in (setups == 0, setups > 0))
    return np.select([first & later, first, later], ["enough", "good", "three"], "blank")


def band_surfaces(nominal: Nominal, patches: Patches, bands: Names) -> dict[str, Surface | None]:
    """The part cut into bands, one for each patch (K,); what is not measured is blank."""
    per_sample = np.full(len(nominal.samples.faces), "blank", dtype="U8")
    per_sample[patches.samples] = bands[patches.owners]
    return {
        f"band {name}": _part(nominal, per_sample == name)
        for name in np.unique([*(b[0] for b in BANDS), *bands, "blank"])
    }


def patch_surface(nominal: Nominal, patches: Patches, wanted: Bools) -> Surface | None:
    """The surface of some patches (K,)."""
    rows = np.zeros(len(nominal.samples.faces), dtype=bool)
    rows[patches.samples[wanted[patches.owners]]] = True
    return _part(nominal, rows)


def faces_surface(nominal: Nominal, faces: tuple[int, ...]) -> Surface | None:
    """The tessellation of some faces, for marking."""
    return plain_surface(nominal.face_mesh(faces)) if faces else None


def _part(nominal: Nominal, rows: Bools) -> Surface | None:
    if not rows.any():
        return None
    mesh = nominal.samples.mesh
    corners = mesh.corners[rows].reshape(-1, 3)
    return plain_surface(TriangleMesh(corners, np.arange(len(corners)).reshape(-1, 3)))


def camera_lines(eyes: Floats, axes: Floats, ups: Floats, size: float) -> Lines:
    """A small pyramid for each photo, open towards what it sees."""
    right = np.cross(axes, ups)
    tip = eyes
    corners = [
        eyes + size * (axes + sx * 0.55 * right + sy * 0.37 * ups) for sx, sy in ((-1, -1), (1, -1), (1, 1), (-1, 1))
    ]
    pieces = [np.stack([tip, c], 1) for c in corners]
    pieces += [np.stack([a, b], 1) for a, b in zip(corners, corners[1:] + corners[:1], strict=True)]
    return segments(np.concatenate(pieces))


def tripod_lines(places: Floats, axes: Floats, floor: float, size: float) -> Lines:
    """A post and a look for each tracker."""
    return segments(tripod_ends(places, axes, floor, size))


def stand_ends(places: Floats, floor: float) -> Floats:
    """Ends (K, 2, 3) of a post for each target on a stand (N, 3), z up, and of a cross where the target is."""
    foot = places.copy()
    foot[:, 2] = floor
    arms = [np.stack([places - arm, places + arm], 1) for arm in 25.0 * np.eye(3)]
    return np.concatenate([np.stack([places, foot], 1), *arms])


def tripod_ends(places: Floats, axes: Floats, floor: float, size: float) -> Floats:
    """Ends (K, 2, 3) of the lines of a tripod and its look for each tracker, z up."""
    foot = places.copy()
    foot[:, 2] = floor
    legs = []
    for angle in np.radians((30, 150, 270)):
        toe = foot + size * 0.45 * np.array([np.cos(angle), np.sin(angle), 0])
        legs.append(np.stack([places - [0, 0, 0.15 * size], toe], 1))
    look = np.stack([places, places + size * 0.9 * axes], 1)
    across = np.cross(axes, [0.0, 0, 1.0])
    head = np.stack([places - 0.35 * size * across, places + 0.35 * size * across], 1)
    return np.concatenate([*legs, look, head])


def tray_lines(tray: TrayPlan) -> Lines:
    """Every part of a tray as a prism over its shadow, tray coordinates."""
    ring = np.stack([tray.outline, np.roll(tray.outline, -1, axis=0)], 1)
    low, high = (
        np.concatenate([ring, np.full((*ring.shape[:2], 1), z)], 2) for z in (-tray.size[2] / 2, tray.size[2] / 2)
    )
    posts = np.stack([low[:, 0], high[:, 0]], 1)[:: max(1, len(ring) // 4)]
    one = np.concatenate([low, high, posts])
    return segments((tray.places[:, None, None] + one[None]).reshape(-1, 2, 3))


def cylinder_lines(diameter: float, height: float, foot: Floats | None = None) -> Lines:
    """The measuring cylinder: rims and some lines along it, from the middle (3,) of its foot; tray coordinates."""
    angles = np.linspace(0, 2 * np.pi, 97)
    rim = diameter / 2 * np.stack([np.cos(angles), np.sin(angles), 0 * angles], 1)
    rim = rim if foot is None else rim + foot
    top = rim + np.array([0, 0, height])
    sides = np.stack([rim[:-1:8], top[:-1:8]], 1)
    return segments(np.concatenate([np.stack([rim[:-1], rim[1:]], 1), np.stack([top[:-1], top[1:]], 1), sides]))


def gear_lines(gear: Gear) -> Lines:
    """Equipment as it stands under the part and about it in the first position, part coordinates: outlines and a ring a target."""
    return segments(gear_ends(gear))


def gear_ends(gear: Gear) -> Floats:
    """Ends (K, 2, 3) of those lines."""
    pieces = []
    for stand, item in zip(gear.stands[0], gear.items, strict=True):
        way = gear.turned[0].inverse @ stand
        pieces.append(way.apply(_outline(item).reshape(-1, 3)).reshape(-1, 2, 3))
        pieces.append(way.apply(_rings(item).reshape(-1, 3)).reshape(-1, 2, 3))
    return np.concatenate(pieces)


def _outline(item: Equipment) -> Floats:
    """Edges (K, 2, 3) of a piece, own coordinates: what carries the part lies below its plane, a block stands on it."""
    levels = (0.0, item.size[2]) if not item.is_under else (0.0, -item.size[2])
    if item.kind is EquipmentKind.TURNTABLE:
        angles = np.arange(72) * 2 * np.pi / 72
        ring = item.size[0] / 2 * np.stack([np.cos(angles), np.sin(angles)], 1)
    else:
        ring = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * np.array(item.size[:2]) / 2
    rims = [np.column_stack([ring, np.full(len(ring), level)]) for level in levels]
    around = [np.stack([rim, np.roll(rim, -1, axis=0)], 1) for rim in rims]
    posts = np.stack(rims, 1)[:: max(1, len(ring) // 4)]
    return np.concatenate([*around, posts])


def _rings(item: Equipment) -> Floats:
    """A ring (K, 2, 3) a target, own coordinates."""
    angles = np.arange(13) * 2 * np.pi / 12
    rings = []
    for place, normal in zip(item.places, item.normals, strict=True):
        frame = orthonormal_frame(normal)
        circle = place + item.diameter / 2 * (np.cos(angles)[:, None] * frame[0] + np.sin(angles)[:, None] * frame[1])
        rings.append(np.stack([circle[:-1], circle[1:]], 1))
    return np.concatenate(rings)


def path_lines(points: Floats) -> Lines:
    """Points joined in their order."""
    return segments(np.stack([points[:-1], points[1:]], 1))
