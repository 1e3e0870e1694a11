"""The laser projector's stand-in: draws lines back onto the part once it knows where the part is."""

from __future__ import annotations

import numpy as np

from juxtum.devices.body import Body
from juxtum.devices.protocol import DeviceError, Message
from juxtum.devices.resection import resect
from juxtum.devices.standin import StandIn
from juxtum.geometry import RigidTransform
from juxtum.instruments.models import InstrumentModel


class LaserProjector(StandIn):
    """Answers `locate` from targets, then `show` with where the lines really fall."""

    kind = "projector"

    def __init__(self, body: Body, model: InstrumentModel, seed: int = 0) -> None:
        super().__init__(body, model, seed)
        self._wrong: RigidTransform | None = None
        self._answers |= {"locate": self._locate, "show": self._show}

    def _locate(self, message: Message) -> list[Message]:
        """Aim at targets whose places (N, 3) in the part the desk gives."""
        places = message.table("targets", 3)
        least = self.model.targets.least if self.model.targets is not None else 4
        if len(places) < least:
            raise DeviceError(f"{len(places)} targets are given, {least} are needed", "projector", "Give more")
        noise = self.model.targets.noise if self.model.targets is not None else 0.1
        seen = places + self._rng(2).normal(0, noise, places.shape)
        found = resect(places, seen, np.full(len(places), noise**2))
        self._wrong = found.pose
        return [Message("done", {"rms": float(np.sqrt(found.chi.mean() * noise**2))})]

    def _show(self, message: Message) -> list[Message]:
        if self._wrong is None:
            raise DeviceError(
                "the projector does not know where the part is", "projector", "Locate it by targets first"
            )
        line = message.table("line", 3)
        shown = self._wrong.apply(line) + self._rng(3, len(line)).normal(0, self.model.modes[0].noise / 3, line.shape)
        return [Message("shown", {"line": np.round(shown, 4).tolist()})]
