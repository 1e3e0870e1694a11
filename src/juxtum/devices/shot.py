"""One frame of a scanner: light out, light back, points with noise, edges and speckle."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.devices.body import TABLE, Body, Pose, Scene
from juxtum.devices.surface import BLOOM_SHIFT, finishes_at, light_back, noise_of
from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.instruments.models import Mode
from juxtum.plan.targets.reach import beside, reach_of

SPECKLE = 3e-4
"""Share of points that lie anywhere within a millimetre or two."""
VEIL_CHANCE = 0.25
VEIL_STEP = 2.5
"""Beyond such a step in depth between neighbours of a line, points hang in between, mm."""
NORMAL_NOISE = 0.05


@dataclass(frozen=True, eq=False)
class Shot:
    """What one frame gives, in the device's own coordinates.

    Parameters
    ----------
    places, normals : array (N, 3)
    qualities : array (N,)
    stand_off : float
        Median distance to the surface in the middle of the field, mm; nan when nothing is there.
    lit, bloomed : float
        Share of what is in the window that gives too little light to see, and too much.
    """

    places: Floats
    normals: Floats
    qualities: Ints
    stand_off: float
    dark: float
    bloomed: float
    sigmas: Floats
    """Standard deviation along the line of sight of each point (N,), mm."""
    errors: Floats
    """What noise did to each point along the line of sight (N,), mm; only a stand-in knows."""


@dataclass(frozen=True)
class Setting:
    """How a scanner is set: mode, exposure 1 to 9, minutes since the work began, kelvin above the reference."""

    mode: Mode
    exposure: int
    minutes: float = 0.0
    warmth: float = 0.0


def shoot(
    body: Body, scene: Scene, pose: Pose, rays: tuple[Floats, Ints], setting: Setting, rng: np.random.Generator
) -> Shot:
    """Cast the rays of one frame (directions (N, 3) in the device's own coordinates and their lines (N,))."""
    own, lines = rays
    directions = own @ pose.to_part.rotation.T
    origins = np.broadcast_to(pose.eye, directions.shape)
    found, distances = scene.hits(origins, directions)
    depth = -own[:, 2] * distances
    stand_off = _stand_off(own, depth, setting.mode)
    near, _, far = setting.mode.stand_off
    rows = np.flatnonzero((found >= 0) & (depth > near) & (depth < far))
    cosines = -np.einsum("ij,ij->i", directions[rows], scene.normals[found[rows]])
    good = cosines > np.cos(np.radians(setting.mode.incidence))
    rows, cosines = rows[good], cosines[good]
    places = pose.eye + directions[rows] * distances[rows, None]
    triangles = found[rows]
    seen = _camera_sees(scene, pose, places, scene.normals[triangles], setting.mode)
    seen &= _within_reach(body, places, scene.faces[triangles], setting.mode)
    seen &= _off_targets(body, places)
    rows, places, triangles, cosines = rows[seen], places[seen], triangles[seen], cosines[seen]
    faces = scene.faces[triangles]
    finishes, coat = finishes_at(body, faces, places, setting.minutes)
    light = light_back(setting.mode, setting.exposure, finishes, cosines, distances[rows], rng)
    dark = float((~light.gives_point & (light.bloom == 0)).mean()) if len(rows) else 0.0
    bloomed = float((light.bloom > 0).mean()) if len(rows) else 0.0
    k = light.gives_point
    rows, places, faces, cosines, bloom = rows[k], places[k], faces[k], cosines[k], light.bloom[k]
    normals = scene.normals[triangles[k]]
    places = _as_it_is(body, places, normals, faces, coat[k] + BLOOM_SHIFT * bloom, setting.warmth)
    sigmas = noise_of(setting.mode, distances[rows], cosines, bloom)
    errors = sigmas * rng.normal(size=len(rows))
    _speckle(errors, rng)
    local = pose.to_part.inverse.apply(places) + own[rows] * errors[:, None]
    _veil(local, lines[rows], rng)
    facing = normals @ pose.to_part.rotation + NORMAL_NOISE * rng.normal(size=normals.shape)
    facing /= np.linalg.norm(facing, axis=1, keepdims=True)
    quality = np.clip(255 * cosines * (1 - 0.7 * bloom), 1, 255).astype(np.uint8)
    return Shot(local, facing, quality, stand_off, dark, bloomed, sigmas, errors)


def _as_it_is(body: Body, places: Floats, normals: Floats, faces: Ints, lift: Floats, warmth: float) -> Floats:
    """Places with what stands proud of the mesh (lift (N,) and the part's relief) and what warmth adds to the part."""
    on_part = faces != TABLE
    if body.relief is not None:
        lift = lift + np.where(on_part, body.relief(places), 0.0)
    places = places + normals * lift[:, None]
    growth = 1e-6 * body.expansion * warmth
    return places + np.where(on_part, growth, 0.0)[:, None] * (places - body.centre)


def _stand_off(own: Floats, depth: Floats, mode: Mode) -> float:
    """Median depth of the middle third of the field."""
    middle = np.hypot(own[:, 0], own[:, 1]) < 0.33 * mode.field[0] / 2 / mode.stand_off[1]
    inner = depth[middle & np.isfinite(depth)]
    return float(np.median(inner)) if len(inner) else float("nan")


def _camera_sees(scene: Scene, pose: Pose, places: Floats, normals: Floats, mode: Mode) -> Bools:
    """The camera stands beside the light: a mode that reaches deep into holes has it close by."""
    if len(places) == 0:
        return np.zeros(0, dtype=bool)
    camera = pose.eye + pose.right * beside(mode)
    towards = camera - places
    reach = np.linalg.norm(towards, axis=1)
    towards /= reach[:, None]
    facing = np.einsum("ij,ij->i", towards, normals) > 0.05
    starts = places + 0.2 * normals + 0.2 * towards
    facing[facing] = ~scene.caster.blocked(starts[facing], towards[facing], reach[facing] - 0.4)
    return np.asarray(facing)


def _within_reach(body: Body, places: Floats, faces: Ints, mode: Mode) -> Bools:
    """Walls of holes are seen only so deep from an open end, the planner's rule."""
    good = np.ones(len(places), dtype=bool)
    for hole, mouths in zip(body.holes, body.hole_mouths, strict=True):
        rows = np.flatnonzero(np.isin(faces, hole.faces))
        if len(rows) == 0:
            continue
        along = (places[rows] - hole.axis.point) @ hole.axis.axis
        depth = np.min([out * (end - along) for end, out in mouths], axis=0) if mouths else np.zeros(len(rows))
        good[rows] = depth <= reach_of(mode, hole.diameter) * hole.diameter
    return good


def _off_targets(body: Body, places: Floats) -> Bools:
    """Nothing of the surface is had under a target, and near an edge not around it either."""
    if not len(body.targets) or len(places) == 0:
        return np.ones(len(places), dtype=bool)
    distance, index = body.target_tree.query(places, distance_upper_bound=float(body.spoilt.max()))
    found = np.isfinite(distance)
    good = np.ones(len(places), dtype=bool)
    good[found] = distance[found] > body.spoilt[index[found]]
    return good


def _speckle(errors: Floats, rng: np.random.Generator) -> None:
    some = rng.random(len(errors)) < SPECKLE
    errors[some] += rng.uniform(-2, 2, int(some.sum()))


def _veil(local: Floats, lines: Ints, rng: np.random.Generator) -> None:
    """At a step in depth some points hang between the near and the far surface."""
    if len(local) < 2:
        return
    step = np.abs(np.diff(local[:, 2])) > VEIL_STEP
    step &= (lines[1:] == lines[:-1]) & (np.linalg.norm(np.diff(local, axis=0), axis=1) < 30)
    rows = np.flatnonzero(step & (rng.random(len(step)) < VEIL_CHANCE))
    share = rng.random((len(rows), 1)) ** 2
    local[rows] += share * (local[rows + 1] - local[rows])
