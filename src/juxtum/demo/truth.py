"""The demo's ground truth, read from the one file where it is written down."""

from __future__ import annotations

import json
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

import numpy as np

from juxtum.demo.carrier import CarrierErrors
from juxtum.geometry import RigidTransform
from juxtum.geometry.transform import rotation_from_vector


@dataclass(frozen=True)
class Bump:
    """Where the shroud stands proud: a flat place with a smooth fall around it."""

    height: float
    azimuth: float
    y: float
    flat_radius: float
    outer_radius: float


@dataclass(frozen=True)
class Truth:
    """What was put into the simulated scan of BC-220."""

    errors: CarrierErrors
    bump: Bump
    noise: float
    pose: RigidTransform
    """From part coordinates to the device frame."""
    seed: int


@cache
def truth() -> Truth:
    """The ground truth of the demo part."""
    data = json.loads(files("juxtum.demo").joinpath("data/truth.json").read_text("utf-8"))
    dx, dy = data["hole_shift"]
    errors = CarrierErrors(data["bore_diameter_error"], data["seat_tilt"], data["boss_shortfall"], (dx, dy))
    rotation = rotation_from_vector(np.radians(data["pose"]["rotation_vector"]))
    pose = RigidTransform.from_parts(rotation, data["pose"]["translation"])
    return Truth(errors, Bump(**data["shroud_bump"]), data["noise_sigma"], pose, data["seed"])
