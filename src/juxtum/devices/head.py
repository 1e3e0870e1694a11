"""The structured-light head's stand-in, and the turntable before it."""

from __future__ import annotations

import numpy as np

from juxtum.devices.artefacts import Calibratable, board_dots
from juxtum.devices.body import Body, Pose
from juxtum.devices.patterns import rays_of
from juxtum.devices.protocol import DeviceError, Message, packed
from juxtum.devices.shot import Setting, shoot
from juxtum.devices.standin import StandIn
from juxtum.devices.surface import EXPOSURES, USUAL
from juxtum.geometry import RigidTransform
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.models import InstrumentModel
from juxtum.plan.turntable import ELEVATION

AXIS_SHIFT, AXIS_TURN = 0.25, 0.06
"""What the head gets wrong about the table's axis before it is calibrated, mm and degrees."""
BEST_SHIFT, BEST_TURN = 0.012, 0.002
"""And after."""


class Turntable(StandIn):
    """A table that turns."""

    kind = "turntable"

    def __init__(self, body: Body, model: InstrumentModel, seed: int = 0) -> None:
        super().__init__(body, model, seed)
        if model.turntable is None:
            raise DeviceError(f"{model.name} has no turntable", "device", "Choose a head with a turntable")
        self.angle = 0.0
        self._answers |= {"turn": self._turn}

    def _turn(self, message: Message) -> list[Message]:
        self.angle = message.number("degrees") % 360
        return [Message("done", {"degrees": self.angle})]


class StructuredLightHead(Turntable):
    """A head that looks at its turntable: each `shoot` gives one frame of its whole field."""

    kind = "head"

    def __init__(self, body: Body, model: InstrumentModel, seed: int = 0) -> None:
        super().__init__(body, model, seed)
        self.exposure, self.spacing = USUAL, 0.5
        self.position = 0
        self.is_calibrated = True
        self._number = 0
        self.calibration = Calibratable(self, model.modes[0].noise, 3e-4, 1e-5)
        self._answers |= {
            "board": self.calibration.board,
            "bar": self.calibration.bar,
            "correct": self._correct,
            "table": self._table,
        }
        self._answers |= {"shoot": self._shoot, "exposure": self._expose, "spacing": self._space, "position": self._lay}

    def _expose(self, message: Message) -> list[Message]:
        level = round(message.number("level"))
        if level not in EXPOSURES:
            raise DeviceError(f"there is no exposure {level}", "exposure", f"Choose {EXPOSURES[0]} to {EXPOSURES[-1]}")
        self.exposure = level
        return [Message("done", {"exposure": level})]

    def _space(self, message: Message) -> list[Message]:
        self.spacing = float(np.clip(message.number("mm"), *self.model.modes[0].spacing))
        return [Message("done", {"spacing": self.spacing})]

    def _lay(self, message: Message) -> list[Message]:
        position = int(message.number("number"))
        if not 0 <= position < len(self.body.turned):
            raise DeviceError(f"the part has no position {position}", "turntable", "Use 0, or 1 turned over")
        self.position = position
        return [Message("done", {"position": self.position})]

    def pose(self) -> Pose:
        """Where the head is about the part now, part coordinates."""
        turned = self.body.turned[self.position]
        a, rise = np.radians(-self.angle), np.radians(ELEVATION)
        direction = np.array([np.cos(a) * np.cos(rise), np.sin(a) * np.cos(rise), np.sin(rise)])
        aim = turned.apply(self.body.centre[None])[0]
        eye = turned.inverse.apply((aim + direction * self.model.modes[0].stand_off[1])[None])[0]
        return Pose.looking(
            eye, turned.inverse.turn(-direction[None])[0], turned.inverse.turn(np.array([[0.0, 0, 1]]))[0]
        )

    def _wrong(self) -> RigidTransform:
        """What it gets wrong about a pose: the error of the axis turns with the table."""
        shift, turn = (BEST_SHIFT, BEST_TURN) if self.is_calibrated else (AXIS_SHIFT, AXIS_TURN)
        rng = self._rng(5)
        axis = RigidTransform.from_parts(
            rotation_from_vector(np.radians(rng.normal(0, turn, 3))), rng.normal(0, shift, 3)
        )
        table = RigidTransform.about(self.body.centre, [0, 0, 0, 0, 0, np.radians(-self.angle)])
        return table @ axis @ table.inverse

    def unsettle(self) -> None:
        """The axis of the table is no longer where the head believes."""
        self.is_calibrated = False
        self.calibration.unsettle()

    def _correct(self, message: Message) -> list[Message]:
        self.is_calibrated = True
        return self.calibration.correct(message)

    def _table(self, message: Message) -> list[Message]:
        """The dot board on the table, turned to an angle about the table's real axis."""
        degrees = message.number("degrees")
        rng = self._rng(6, round(10 * degrees))
        lean = self._rng(5).normal(0, AXIS_TURN, 3)
        axis = rotation_from_vector(np.radians(lean)) @ [0.0, 0, 1]
        middle = self._rng(5, 1).normal(0, 5.0, 3)
        dots = middle + (board_dots() - middle) @ rotation_from_vector(np.radians(degrees) * axis).T
        return [
            Message(
                "board", {"dots": np.round(dots + rng.normal(0, self.model.modes[0].noise, dots.shape), 5).tolist()}
            )
        ]

    def _shoot(self, message: Message) -> list[Message]:
        self._number += 1
        rng = self._rng(2, self._number)
        pose, mode = self.pose(), self.model.modes[0]
        setting = Setting(mode, self.exposure, message.number("time", 0.0) / 60, self.warmth)
        shot = shoot(self.body, self.body.scenes[self.position], pose, rays_of(mode, self.spacing, rng), setting, rng)
        found = self._wrong() @ pose.to_part
        head: dict[str, object] = {
            "number": self._number,
            "degrees": self.angle,
            "points": len(shot.places),
            "state": "tracking",
        }
        head |= {
            "pose": [round(float(v), 9) for v in found.matrix.ravel()],
            "dark": round(shot.dark, 3),
            "bloomed": round(shot.bloomed, 3),
        }
        head |= {"stand_off": None if np.isnan(shot.stand_off) else round(shot.stand_off, 1)}
        return [Message("frame", head, packed(shot.places, shot.normals, shot.qualities.astype(np.uint8)))]
