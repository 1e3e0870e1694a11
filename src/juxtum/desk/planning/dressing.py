"""Which layers a topic of Plan puts on the stage."""

from __future__ import annotations

from typing import Any

import numpy as np

from juxtum.desk.derived import Derived
from juxtum.desk.overlays import Pin
from juxtum.desk.planning.topics import BlindAnswer, EffortAnswer, StationsAnswer, TargetsAnswer, Topic
from juxtum.desk.stage_view import StageView
from juxtum.geometry.arrays import Floats
from juxtum.instruments.models import Kind, shipped
from juxtum.nominal import Nominal
from juxtum.plan.photos.photos import PhotoPlan
from juxtum.plan.tray import TrayPlan
from juxtum.plan.turntable import TurntablePlan
from juxtum.scene.actors import Shown
from juxtum.scene.drawables import Lines, segments
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.plan_layers import (
    ALL_BANDS,
    camera_lines,
    cylinder_lines,
    faces_surface,
    gear_ends,
    gear_lines,
    patch_surface,
    tray_lines,
    tripod_lines,
)

BAND_NAMES = tuple(f"band {name}" for name in ALL_BANDS)


def dress_topic(view: StageView, d: Derived, topic: Topic, made: Any) -> None:
    """The nominal, and on it what was computed."""
    for name in (*MAP_LAYERS, "scan", "shadow", "rays", "gear", "marked"):
        view.put(name, None)
    view.set_legend(None, None)
    view.set_readings(())
    view.put("edges", d.part_edges)
    bands = made.bands if isinstance(made, TargetsAnswer | EffortAnswer) else {}
    for name in BAND_NAMES:
        view.put(name, bands.get(name))
    # The bands are only looked at: what is picked is the nominal in their place.
    view.put("nominal", None if bands else d.part_surface)
    view.put("ghost", d.part_surface if bands else None)
    view.show_layer("nominal", Shown.SOLID)
    view.set_pins(_pins(d, made))
    if d.part is not None:
        _put_answer(view, d.part, topic, made)


def _put_answer(view: StageView, part: Nominal, topic: Topic, made: Any) -> None:
    """What stands about the part, and which of its surface is spoken of."""
    if isinstance(made, TargetsAnswer):
        view.put("gear", None if made.ground.gear is None else gear_lines(made.ground.gear))
    elif isinstance(made, PhotoPlan):
        size = 0.05 * float(np.ptp(made.views.eyes, axis=0).max())
        view.put("rays", camera_lines(made.views.eyes, made.views.axes, made.views.ups, size))
        view.put("gear", segments(np.array([bar.ends for bar in made.bars])))
    elif isinstance(made, StationsAnswer):
        view.put("gear", _trackers(made))
        view.put("shadow", patch_surface(part, made.ground.patches, made.plan.shadows))
    elif isinstance(made, BlindAnswer):
        faces = tuple(sorted({face for spot in made.spots for face in spot.faces}))
        view.put("marked", faces_surface(part, faces))
    elif isinstance(made, TurntablePlan):
        view.put("shadow", patch_surface(part, made.patches, ~made.seen))
        shots = made.shots_of_first
        view.put("rays", camera_lines(shots.eyes, shots.axes, shots.ups, 0.12 * made.distance))
    elif isinstance(made, TrayPlan):
        # The tray has coordinates of its own: the part as drawn would lie in its middle.
        view.put("nominal", None)
        view.put("edges", None)
        view.put("gear", tray_lines(made))
        view.put("rays", cylinder_lines(made.cylinder.diameter, made.cylinder.height))
    elif topic is Topic.TRAY and made is None and (cabinet := shipped(Kind.CABINET).cylinder) is not None:
        # Not even one part fits: the part beside the room that there is shows by how much.
        view.put("rays", cylinder_lines(cabinet.diameter, cabinet.height, _foot(part)))


def _foot(part: Nominal) -> Floats:
    """Middle (3,) of the lowest plane of a part as drawn."""
    low, high = part.mesh.bounds
    return np.array([*(low + high)[:2] / 2, low[2]])


def gear_bounds(d: Derived, topic: Topic, made: Any) -> Floats | None:
    """Bounds (2, 3) of the part with what stands about it, or None when nothing does."""
    if d.part is None:
        return None
    if topic is Topic.TRAY and made is None and (cabinet := shipped(Kind.CABINET).cylinder) is not None:
        (low, high), foot = d.part.mesh.bounds, _foot(d.part)
        about, up = cabinet.diameter / 2 * np.array([1.0, 1.0, 0.0]), cabinet.height * np.array([0.0, 0.0, 1.0])
        return np.stack([np.minimum(low, foot - about), np.maximum(high, foot + about + up)])
    if isinstance(made, PhotoPlan):
        places = np.concatenate([made.views.eyes, *(bar.ends for bar in made.bars)])
    elif isinstance(made, StationsAnswer):
        back = made.ground.views.turned[0].inverse
        places = back.apply(np.array([s.place for s in made.plan.stations]))
    elif isinstance(made, TurntablePlan):
        places = made.shots_of_first.eyes
    elif isinstance(made, TargetsAnswer) and made.ground.gear is not None:
        places = gear_ends(made.ground.gear).reshape(-1, 3)
    elif isinstance(made, TrayPlan):
        half = made.cylinder.diameter / 2
        return np.array([[-half, -half, 0.0], [half, half, made.cylinder.height]])
    else:
        return None
    places = np.concatenate([places, d.part.mesh.bounds])
    # Numbers and bars stand over the edge of the picture otherwise.
    room = 0.1 * np.ptp(places, axis=0).max() * np.array([0.5, 0.5, 1.0])
    return np.stack([places.min(0) - room, places.max(0) + room])


def _trackers(made: StationsAnswer) -> Lines:
    """Tripods in part coordinates; the table is where the part stands in its first position."""
    back = made.ground.views.turned[0].inverse
    places = back.apply(np.array([s.place for s in made.plan.stations]))
    axes = back.turn(np.array([s.axis for s in made.plan.stations]))
    floor = float(places[:, 2].min()) - 1100.0
    return tripod_lines(places, axes, floor, 500.0)


def _pins(d: Derived, made: Any) -> list[Pin]:
    """Numbers at trackers, bars and blind faces."""
    if isinstance(made, StationsAnswer):
        back = made.ground.views.turned[0].inverse
        spots = [Pin(back.apply(s.place[None])[0], str(k + 1)) for k, s in enumerate(made.plan.stations)]
        return spots + [Pin(back.apply(r[None])[0], "", "undecided") for r in made.plan.references]
    if isinstance(made, PhotoPlan):
        return [Pin(bar.ends.mean(0), bar.bar.name[-1]) for bar in made.bars]
    if isinstance(made, BlindAnswer) and d.part is not None:
        return [
            Pin(d.part.face(spot.faces[0]).centre, str(k + 1), "not_conforming") for k, spot in enumerate(made.spots)
        ]
    return []
