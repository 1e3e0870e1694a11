"""The tomography cabinet's stand-in: a tray of parts as one cloud of their surfaces, inside ones too."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from juxtum.devices.body import Body
from juxtum.devices.protocol import DeviceError, Message, packed
from juxtum.devices.standin import StandIn
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.instruments.models import InstrumentModel
from juxtum.plan.tray import TrayPlan

HARDENING = 0.006
"""Thick places seem to stand proud by as much: beams harden in the material, mm."""
AT_ONCE = 500_000
MOST_POINTS = 12_000_000


class TomographyCabinet(StandIn):
    """Answers `scan` with frames of points and `done`."""

    kind = "cabinet"

    def __init__(self, body: Body, model: InstrumentModel, tray: TrayPlan, seed: int = 0) -> None:
        super().__init__(body, model, seed)
        if model.cylinder is None:
            raise DeviceError(f"{model.name} is not a cabinet", "device", "Choose a tomography cabinet")
        self.tray = tray
        self._answers |= {"scan": self._scan}

    def placed(self, index: int) -> RigidTransform:
        """From the part to the tray, as it really lies: nobody lays parts down exactly."""
        rng = self._rng(3, index)
        about = RigidTransform.about([0, 0, 0], [*rng.normal(0, 0.6, 3), *np.radians(rng.normal(0, 1.0, 3))])
        lying = RigidTransform.from_parts(self.tray.rotation, np.zeros(3))
        return (
            RigidTransform.translation(self.tray.places[index])
            @ about
            @ lying
            @ RigidTransform.translation(-self.body.centre)
        )

    def _scan(self, message: Message) -> Sequence[Message]:
        finest, coarsest = self.model.modes[0].spacing
        spacing = float(np.clip(message.number("spacing", finest), finest, coarsest))
        total = self.tray.count * self.body.mesh.area / spacing**2
        if total > MOST_POINTS:
            # One part at a time would be finer; a whole tray is thinned to what a desk can hold.
            spacing *= float(np.sqrt(total / MOST_POINTS))
        answers, given = [], 0
        for index in range(self.tray.count):
            places, normals = self._surface(spacing, self._rng(2, index))
            lying = self.placed(index)
            given += len(places)
            for start in range(0, len(places), AT_ONCE):
                some = slice(start, start + AT_ONCE)
                frame = packed(
                    lying.apply(places[some]),
                    lying.turn(normals[some]),
                    np.full(len(places[some]), 200, dtype=np.uint8),
                )
                answers.append(Message("frame", {"state": "tracking", "points": len(places[some])}, frame))
        return [*answers, Message("done", {"points": given, "spacing": round(spacing, 4), "parts": self.tray.count})]

    def _surface(self, spacing: float, rng: np.random.Generator) -> tuple[Floats, Floats]:
        """Points all over the surface: about one for each square of the spacing."""
        mesh = self.body.mesh
        count = int(mesh.area / spacing**2)
        rows = rng.choice(len(mesh.triangles), count, p=mesh.triangle_areas / mesh.triangle_areas.sum())
        places = np.einsum("nk,nkd->nd", rng.dirichlet(np.ones(3), count), mesh.corners[rows])
        normals = mesh.triangle_normals[rows]
        away = np.linalg.norm(places - self.body.centre, axis=1)
        hardened = HARDENING * (1 - away / max(float(away.max()), 1e-9))
        errors = hardened + rng.normal(0, self.model.modes[0].noise, count)
        return places + normals * errors[:, None], normals
