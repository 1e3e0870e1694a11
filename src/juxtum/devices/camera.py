"""The photo camera's stand-in: a photo is what it sees of coded targets, reference targets and scale bars."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.devices.artefacts import Calibratable
from juxtum.devices.body import Body, Pose, in_sight
from juxtum.devices.protocol import DeviceError, Message
from juxtum.devices.standin import StandIn
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.instruments.models import InstrumentModel
from juxtum.plan.photos import _bundle_rows as rows
from juxtum.plan.photos.bundle import BarTie, Lens, Network, Photos, Rays
from juxtum.plan.photos.photos import PhotoPlan

BY_HAND = 3.0
"""A target stuck within this of its planned place is that target, mm."""
TRUE_LENS = Lens(24.02, (0.021, -0.013), (-6e-5, 5e-8))
"""What the lens really is, for a camera whose document says 24 mm."""


@dataclass(frozen=True, eq=False)
class PhotoTargets:
    """What can be photographed: places and normals (T, 3), coded ones first, the ends of bars last.

    Parameters
    ----------
    bars : tuple of BarTie
        With their lengths as their certificates say.
    truths : array (B,)
        Their true lengths, mm.
    """

    places: Floats
    normals: Floats
    codes: int
    bars: tuple[BarTie, ...]
    truths: Floats

    @classmethod
    def of(cls, plan: PhotoPlan, seed: int, stuck: Floats | None = None) -> PhotoTargets:
        """As planned; the bars' true lengths differ from their certificates as those allow.

        Parameters
        ----------
        stuck : array (N, 3), optional
            Where reference targets really are, a little beside their planned places.
        """
        rng = np.random.default_rng([seed, 6])
        places = np.array(plan.points)
        if stuck is not None and len(stuck):
            away, near = kd_tree(stuck).query(places)
            places = np.where((away < BY_HAND)[:, None], stuck[near], places)
        first = len(places) - 2 * len(plan.bars)
        ties, truths = [], []
        for k, bar in enumerate(plan.bars):
            a, b = first + 2 * k, first + 2 * k + 1
            true = bar.length + float(rng.normal(0, bar.uncertainty))
            middle, along = (places[a] + places[b]) / 2, (places[b] - places[a]) / np.linalg.norm(places[b] - places[a])
            places[a], places[b] = middle - along * true / 2, middle + along * true / 2
            ties.append(BarTie(a, b, bar.length, bar.uncertainty))
            truths.append(true)
        return cls(frozen(places), plan.normals, plan.codes, tuple(ties), frozen(truths))


class PhotoCamera(StandIn):
    """Answers each `shoot` with one `photo`."""

    kind = "camera"

    def __init__(self, body: Body, model: InstrumentModel, targets: PhotoTargets, seed: int = 0) -> None:
        super().__init__(body, model, seed)
        if model.camera is None:
            raise DeviceError(f"{model.name} has no camera", "device", "Choose a photo set")
        self.camera, self.targets = model.camera, targets
        scale = self.camera.focal / 24.0
        self.lens = Lens(TRUE_LENS.focal * scale, TRUE_LENS.centre, TRUE_LENS.radial)
        self._number = 0
        self.calibration = Calibratable(self, model.modes[0].noise, 2e-4, 5e-6)
        self._answers |= {
            "board": self.calibration.board,
            "bar": self.calibration.bar,
            "correct": self.calibration.correct,
        }
        self._answers |= {"shoot": self._shoot}

    def unsettle(self) -> None:
        """As after a fall: the lens is no longer what its document says."""
        self.calibration.unsettle()

    def about(self) -> dict[str, object]:
        """Lens as its document says, coded targets, and the bars with their certified lengths."""
        bars = [[bar.first, bar.second, bar.length, bar.uncertainty] for bar in self.targets.bars]
        return {
            "focal": self.camera.focal,
            "targets": len(self.targets.places),
            "codes": self.targets.codes,
            "bars": bars,
        }

    def _shoot(self, message: Message) -> list[Message]:
        """One photo from where it is held; where that is, a real camera only guesses, and so does this one."""
        self._number += 1
        rng = self._rng(2, self._number)
        pose = Pose.looking(message.vector("eye"), message.vector("axis"), message.vector("up"))
        half = np.array(self.camera.picture) * self.camera.pixel / 2 / self.camera.focal
        near, _, far = self.model.modes[0].stand_off
        limits = (float(half[0]), float(half[1]), near, far, float(np.cos(np.radians(self.camera.incidence))))
        seen = np.flatnonzero(in_sight(self.body.scenes[0], pose, self.targets.places, self.targets.normals, limits))
        rotation = np.stack([pose.right, -pose.up, pose.axis])
        rays = Rays(np.zeros(len(seen), dtype=int), seen, np.zeros((len(seen), 2)), 1.0)
        network = Network(self.targets.places, Photos(rotation[None], pose.eye[None]), rays, (), self.lens)
        places = rows.projected(network) if len(seen) else np.empty((0, 2))
        places = places + rng.normal(0, self.camera.noise * self.camera.pixel, places.shape)
        told = [[int(k), round(float(u), 7), round(float(v), 7)] for k, (u, v) in zip(seen, places, strict=True)]
        guess = pose.eye + rng.normal(0, 15.0, 3)
        turn = rows.turned(rotation[None], rng.normal(0, 0.004, (1, 3)))[0]
        head: dict[str, object] = {"number": self._number, "rays": told, "eye": [round(float(v), 2) for v in guess]}
        return [Message("photo", head | {"rotation": [round(float(v), 6) for v in turn.ravel()]})]
