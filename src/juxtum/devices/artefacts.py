"""What a stand-in sees of certified artefacts: a dot board, a ball bar, a reference ball."""

from __future__ import annotations

import numpy as np

from juxtum.devices.protocol import DeviceError, Message
from juxtum.devices.standin import StandIn
from juxtum.geometry.arrays import Floats
from juxtum.geometry.transform import rotation_from_vector

BOARD_STEP = 40.0
BOARD_DOTS = (7, 5)
FARTHEST_OFF = 0.5
"""A hand that is farther from the wanted pose than this share of the window shows nothing of the board."""


def board_dots() -> Floats:
    """The dots (35, 3) of the board in its own coordinates, mm."""
    x, y = np.meshgrid(np.arange(BOARD_DOTS[0]) - 3.0, np.arange(BOARD_DOTS[1]) - 2.0, indexing="ij")
    return np.column_stack([x.ravel(), y.ravel(), np.zeros(x.size)]) * BOARD_STEP


class Calibratable:
    """Adds artefacts to a stand-in.

    Parameters
    ----------
    device : StandIn
    noise : float
        Of a dot or of the surface of a ball, mm.
    drift : float
        Usual size of the error of scale before calibration, per unit of length.
    left : float
        And after it.
    """

    def __init__(self, device: StandIn, noise: float, drift: float, left: float) -> None:
        self._device, self._noise, self._left = device, noise, left
        self.error = 0.0
        """Error of scale as it is now, per unit of length, less what was corrected."""
        self._drift = drift
        self._asked = 0

    def unsettle(self) -> None:
        """As after a journey or a cold night: what was calibrated no longer holds."""
        rng = self._device._rng(11)
        self.error = self._drift * float(rng.choice([-1.0, 1.0]) * (0.7 + 0.4 * abs(rng.normal())))

    def board(self, message: Message) -> list[Message]:
        """The board seen from a distance, tilted about two axes (degrees); the mean of several frames."""
        frames = min(max(message.number("frames", 1.0), 1.0), 100.0)
        distance, tilt, lean = message.number("distance"), message.number("tilt"), message.number("lean")
        if distance <= 0:
            raise DeviceError("the board is behind the scanner", "board", "Hold it in front")
        rng = self._rng()
        rotation = rotation_from_vector(np.radians([tilt, lean, 0.0]))
        dots = board_dots() @ rotation.T + [0.0, 0.0, -distance]
        seen = dots * (1 + self.error) + rng.normal(0, self._noise / np.sqrt(frames), dots.shape)
        return [Message("board", {"dots": np.round(seen, 5).tolist()})]

    def bar(self, message: Message) -> list[Message]:
        """Both ends of a bar, with the diameters of its balls, at a distance."""
        length, diameter, distance = (
            message.number("length"),
            message.number("diameter", 0.0),
            message.number("distance"),
        )
        rng = self._rng()
        along = rotation_from_vector(np.radians([0.0, message.number("tilt", 0.0), message.number("lean", 0.0)])) @ [
            1.0,
            0,
            0,
        ]
        ends = np.array([-along, along]) * length / 2 + [0.0, 0.0, -distance]
        # A ball's middle is the mean of many points: noise alone is small, what is left is systematic.
        seen = ends * (1 + self.error) + rng.normal(0, self._noise / 2, ends.shape)
        sizes = diameter * (1 + self.error) + rng.normal(0, self._noise / 3, 2)
        return [Message("bar", {"ends": np.round(seen, 5).tolist(), "diameters": [round(float(s), 5) for s in sizes]})]

    def correct(self, message: Message) -> list[Message]:
        """Take a correction of scale over."""
        self.error -= message.number("scale")
        self.error += float(self._device._rng(12, self._asked).normal(0, self._left))
        return [Message("done", {"corrected": True})]

    def _rng(self) -> np.random.Generator:
        self._asked += 1
        return self._device._rng(10, self._asked)
