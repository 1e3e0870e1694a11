"""Stand-ins over a plate with targets, for tests of devices and of their links."""

from __future__ import annotations

import numpy as np

from helpers import box_mesh
from juxtum.devices.body import Body
from juxtum.devices.protocol import Message
from juxtum.geometry import RigidTransform
from juxtum.instruments.models import Kind, shipped
from juxtum.plan.blind import Finish
from juxtum.plan.targets.targets import Target

MODEL = shipped(Kind.HANDHELD)
PLATE = box_mesh((300.0, 240.0, 20.0))
SPREAD = ((-90, -60), (95, -70), (80, 75), (-70, 88), (5, -12), (-120, 20), (40, 100))


def plate(places: tuple[tuple[float, float], ...] = SPREAD, edge: float = 40.0, finish: Finish = Finish.MATT) -> Body:
    """A plate with targets on its top, z = 10; all its triangles are face 1."""
    targets = tuple(Target(np.array([x, y, 10.0]), np.array([0.0, 0, 1]), 1, edge, False) for x, y in places)
    faces = np.ones(len(PLATE.triangles), dtype=np.int32)
    return Body(PLATE, faces, (RigidTransform.translation([0, 0, 10.0]),), {1: finish}, targets)


def over(x: float = 0.0, y: float = 0.0, height: float = 330.0) -> Message:
    return Message("hand", {"eye": [x, y, height], "axis": [0, 0, -1], "up": [0, 1, 0], "time": 0.0})
