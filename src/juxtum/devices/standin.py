"""What all stand-ins have in common: who they are, their seed, and the faults that can be put into them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import ClassVar

import numpy as np

from juxtum.devices.body import Body
from juxtum.devices.protocol import VERSION, DeviceError, Message
from juxtum.instruments.models import InstrumentModel

CONNECTION_FAULTS = ("killed", "closed", "garbage", "stalled")
LONGEST_STALL = 60.0

Answer = Callable[[Message], Sequence[Message]]


class StandIn:
    """Answers messages; deterministic for its seed and what it is told.

    Parameters
    ----------
    body : Body
        What stands before it.
    model : InstrumentModel
    seed : int
    """

    kind: ClassVar[str] = ""

    def __init__(self, body: Body, model: InstrumentModel, seed: int = 0) -> None:
        self.body, self.model, self.seed = body, model, seed
        self.warmth = 0.0
        """Kelvin above the temperature at which the part has its size."""
        self.knocked: set[int] = set()
        self._answers: dict[str, Answer] = {"hello": self._hello, "fault": self._fault}

    def handle(self, message: Message) -> Sequence[Message]:
        """The answers to a message.

        Raises
        ------
        DeviceError
            When it does not know the message, or what it asks cannot be done.
        """
        answer = self._answers.get(message.kind)
        if answer is None:
            raise DeviceError(
                f"this {self.kind} does not know '{message.kind}'",
                "device",
                f"It knows: {', '.join(sorted(self._answers))}",
            )
        return answer(message)

    def _rng(self, *numbers: int) -> np.random.Generator:
        return np.random.default_rng([self.seed, *numbers])

    def unsettle(self) -> None:
        """Lose the calibration, where there is one."""

    def about(self) -> dict[str, object]:
        """What else `about` says of this kind."""
        return {}

    def _hello(self, message: Message) -> list[Message]:
        if message.number("version", VERSION) != VERSION:
            raise DeviceError(
                f"this device speaks version {VERSION} of the protocol",
                "connection",
                "Use a newer desk or an older device",
            )
        head: dict[str, object] = {
            "version": VERSION,
            "device": self.kind,
            "name": self.model.name,
            "model": self.model.id,
            "stand_in": True,
        }
        return [Message("about", head | self.about())]

    def _fault(self, message: Message) -> list[Message]:
        """Put a fault in; a real device has no such message."""
        name = message.text("name")
        if name in CONNECTION_FAULTS:
            seconds = float(np.clip(message.number("seconds", 5.0), 0, LONGEST_STALL))
            return [Message(f"fault:{name}", {"seconds": seconds})]
        if name == "temperature":
            self.warmth += message.number("kelvin")
        elif name == "uncalibrated":
            self.unsettle()
        elif name == "target":
            index = int(message.number("index"))
            if not 0 <= index < len(self.body.targets):
                raise DeviceError(
                    f"there is no target {index}", "fault", f"Targets are 0 to {len(self.body.targets) - 1}"
                )
            self.knocked.add(index)
        else:
            raise DeviceError(
                f"there is no fault '{name}'",
                "fault",
                f"Faults are: {', '.join((*CONNECTION_FAULTS, 'temperature', 'target', 'uncalibrated'))}",
            )
        return [Message("done", {"fault": name})]
