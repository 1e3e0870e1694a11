"""The touch probe's stand-in: a ruby sphere that meets the surface, a little late and depending on whence it came."""

from __future__ import annotations

import numpy as np

from juxtum.devices.body import Body
from juxtum.devices.handheld import START
from juxtum.devices.protocol import DeviceError, Message
from juxtum.devices.standin import StandIn
from juxtum.geometry.arrays import Floats, unit
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.models import InstrumentModel

TIP_RADIUS = 1.5
"""mm."""
LARGEST_TIP = 10.0
BALL_RADIUS = 12.5004
"""Of the reference ball, mm."""
LATE = 0.006
"""The probe bends so much before it notices that it touches, mm: hysteresis, larger from the side."""
LONGEST_WAY = 400.0
TARGET_NOISE = 0.03


class TouchProbe(StandIn):
    """Answers each `touch` with one `contact`: where the middle of the tip was, not where the surface is."""

    kind = "probe"

    def __init__(self, body: Body, model: InstrumentModel, seed: int = 0) -> None:
        super().__init__(body, model, seed)
        self.tip_error = float(self._rng(1).normal(0, 0.002))
        """What calibration leaves of the tip's radius, mm."""
        self._number = 0
        self._answers |= {
            "touch": self._touch,
            "tip?": self._tip,
            "targets?": self._targets,
            "ball": self._ball,
            "tip": self._take_tip,
        }

    def about(self) -> dict[str, object]:
        """The tip's radius as calibrated."""
        return {"tip_radius": TIP_RADIUS + self.tip_error}

    def _tip(self, message: Message) -> list[Message]:
        return [Message("tip", {"radius": TIP_RADIUS + self.tip_error})]

    def _take_tip(self, message: Message) -> list[Message]:
        """The tip's radius as a calibration found it."""
        radius = message.number("radius")
        if not 0 < radius < LARGEST_TIP:
            raise DeviceError(f"a tip of {radius:g} mm cannot be", "probe", "Calibrate it again")
        self.tip_error = radius - TIP_RADIUS
        return [Message("tip", {"radius": radius})]

    def _ball(self, message: Message) -> list[Message]:
        """The reference ball touched from a side (degrees off upright)."""
        self._number += 1
        rng = self._rng(4, self._number)
        side = rotation_from_vector(np.radians([message.number("tilt"), message.number("lean"), 0.0])) @ [0.0, 0, 1]
        middle = (BALL_RADIUS + TIP_RADIUS) * side + rng.normal(0, self.model.modes[0].noise / 3, 3)
        return [Message("contact", {"number": self._number, "middle": [round(float(v), 5) for v in middle]})]

    def _targets(self, message: Message) -> list[Message]:
        """The reference targets as its tracker sees them, in the frame in which contacts are told."""
        places = self.body.target_places + self._rng(3).normal(0, TARGET_NOISE, self.body.target_places.shape)
        kept = [k for k in range(len(places)) if k not in self.knocked]
        rows = [[float(k), *(round(float(v), 4) for v in START.apply(places[k][None])[0])] for k in kept]
        return [Message("targets", {"targets": rows})]

    def _touch(self, message: Message) -> list[Message]:
        start, along = message.vector("from"), unit(message.vector("direction"))
        if float(np.linalg.norm(along)) < 0.5:
            raise DeviceError("the probe is not moved anywhere", "touch", "Give a direction")
        self._number += 1
        rng = self._rng(2, self._number)
        middle = self._met(start, along)
        if middle is None:
            return [Message("missed", {"number": self._number})]
        normal = self._normal(middle)
        sideways = float(np.sqrt(max(0.0, 1 - float(along @ normal) ** 2)))
        late = LATE * (0.5 + sideways)
        noisy = middle + along * late + rng.normal(0, self.model.modes[0].noise / np.sqrt(3), 3)
        return [
            Message(
                "contact", {"number": self._number, "middle": [round(float(v), 5) for v in START.apply(noisy[None])[0]]}
            )
        ]

    def _met(self, start: Floats, along: Floats) -> Floats | None:
        """The middle of the tip when it first touches: it may always go as far as the surface is away."""
        middle, gone = np.array(start), 0.0
        for _ in range(200):
            gap = float(self.body.mesh.tree.query(middle[None]).distances[0]) - TIP_RADIUS
            if gap < 1e-5:
                return middle
            middle, gone = middle + along * gap, gone + gap
            if gone > LONGEST_WAY:
                return None
        return middle

    def _normal(self, middle: Floats) -> Floats:
        found = self.body.mesh.tree.query(middle[None])
        place = np.einsum("k,kd->d", found.weights[0], self.body.mesh.corners[int(found.triangles[0])])
        return np.asarray(unit(middle - place))
