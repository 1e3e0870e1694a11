"""The tracked scanner's stand-in: a tracker follows its cage, and targets on the part tie the stations together."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from juxtum.devices.body import Body, Pose, Scene
from juxtum.devices.handheld import START, HandheldScanner
from juxtum.devices.protocol import DeviceError, Message
from juxtum.devices.resection import resect
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, Ints, unit
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.models import InstrumentModel, TrackerNeeds
from juxtum.plan.stations import CAGE_BEHIND, blocked_between, in_volume

STAND = 10_000
"""Handles of targets on stands begin here, a block for each position: the part was moved between them, so they are others."""
MOST_STANDS = 500
CAGE_RADIUS, CAGE_MARKS = 200.0, 12
"""Radius of the cage's marks about its middle, mm, and how many of them the tracker sees at once."""
READINGS = 4
"""A reference target stands still: so many readings of it are averaged."""


class TrackedScanner(HandheldScanner):
    """As the handheld one, but its pose comes from a tracker that sees the cage, or does not."""

    kind = "tracked"

    def __init__(self, body: Body, model: InstrumentModel, seed: int = 0) -> None:
        super().__init__(body, model, seed)
        if model.tracker is None:
            raise DeviceError(f"{model.name} is not followed by a tracker", "device", "Choose a tracked scanner")
        self.tracker: TrackerNeeds = model.tracker
        self.position = 0
        self._place, self._axis = np.array([0.0, -2500.0, 900.0]), np.array([0.0, 0.93, -0.36])
        self._to_map: RigidTransform | None = None
        """From the tracker to the map, as the tracker believes."""
        self._stands = np.empty((0, 3))
        self._answers |= {"tracker": self._set_up, "reference": self._reference, "stands": self._put_stands}

    # -- the tracker ------------------------------------------------------------------------------------------

    @property
    def _tracker_pose(self) -> RigidTransform:
        """From the tracker to the part, as it really is."""
        axis = unit(self._axis)
        right = unit(np.cross(axis, [0.0, 0, 1]))
        to_table = RigidTransform.from_parts(np.stack([right, np.cross(right, axis), -axis], 1), self._place)
        return self.body.turned[self.position].inverse @ to_table

    def _set_up(self, message: Message) -> list[Message]:
        """The tracker is put somewhere else, or the part before it is turned over."""
        position = int(message.number("position", self.position))
        if not 0 <= position < len(self.body.turned):
            raise DeviceError(f"the part has no position {position}", "tracker", "Use 0, or 1 turned over")
        self._place = message.vector("place") if "place" in message.fields else self._place
        self._axis = message.vector("axis") if "axis" in message.fields else self._axis
        self.position = position
        if not 0 <= self.position < len(self.body.turned):
            raise DeviceError(f"the part has no position {self.position}", "tracker", "Use 0, or 1 turned over")
        self._to_map = None
        return [Message("done", {"tracker": "set up"})]

    def _put_stands(self, message: Message) -> list[Message]:
        """A person puts targets on stands round the part; a real tracker only finds them."""
        places = message.table("places", 3)
        if len(places) > MOST_STANDS:
            raise DeviceError(f"{len(places)} stands are too many", "tracker", f"Put up at most {MOST_STANDS}")
        self._stands = places
        return [Message("done", {"stands": len(places)})]

    def _sigma(self, ranges: Floats) -> Floats:
        """Standard deviation of a place at a range (N,), mm: the permissible error counts as rectangular."""
        return np.asarray((self.tracker.a + self.tracker.b * ranges / 1000) / np.sqrt(3))

    def _cage_sigmas(self, distance: float) -> tuple[float, float]:
        """Standard deviations of the cage's middle, mm, and of its directions, rad: marks all over a sphere, each as good as `_sigma`.

        The middle has 1 / N of a mark's variance, a turn 3 / (2 N R^2): the normal equations of a rigid registration.
        """
        mark = float(self._sigma(np.array([distance]))[0])
        return mark / np.sqrt(CAGE_MARKS), mark / (CAGE_RADIUS * np.sqrt(2 * CAGE_MARKS / 3))

    def visible_references(self) -> tuple[list[int], Floats]:
        """Handles and places (N, 3), part coordinates, of the targets that the tracker sees, on the part and on stands."""
        on_part, on_stands = self._seen_on_part(), self._seen_on_stands()
        stands = self.body.turned[self.position].inverse.apply(self._stands[on_stands])
        handles = [int(k) for k in on_part] + [STAND * (self.position + 1) + int(k) for k in on_stands]
        return handles, np.concatenate([self.body.target_places[on_part].reshape(-1, 3), stands])

    def _seen_on_part(self) -> Ints:
        if not self.body.targets:
            return np.empty(0, dtype=np.int64)
        places, normals = self.body.target_places, self.body.target_normals
        there = in_volume(self.tracker, self._place, unit(self._axis), self.body.turned[self.position].apply(places))
        eye = self._tracker_pose.offset
        towards = unit(eye - places)
        there &= np.einsum("ij,ij->i", towards, normals) > np.cos(np.radians(self.needs.incidence))
        there[list(self.knocked)] = False
        rows = np.flatnonzero(there)
        lifted = places[rows] + 0.3 * normals[rows] + 0.3 * towards[rows]
        return rows[~blocked_between(self.body.scenes[self.position].caster, lifted, eye)]

    def _seen_on_stands(self) -> Ints:
        """Those on stands are turned towards the tracker; only the part can stand between."""
        if not len(self._stands):
            return np.empty(0, dtype=np.int64)
        rows = np.flatnonzero(in_volume(self.tracker, self._place, unit(self._axis), self._stands))
        places = self.body.turned[self.position].inverse.apply(self._stands[rows])
        return rows[~blocked_between(self.body.scenes[self.position].caster, places, self._tracker_pose.offset)]

    def _reference(self, message: Message) -> list[Message]:
        """Measure the reference targets: the first time they make the map, later they tell where the tracker is."""
        handles, places = self.visible_references()
        if len(handles) < self.tracker.shared:
            what = f"the tracker sees {len(handles)} reference targets, {self.tracker.shared} are needed"
            raise DeviceError(what, "tracker", "Move it, or stick more targets where it looks")
        rng = self._rng(3, self._number, len(self.map.targets))
        local = self._tracker_pose.inverse.apply(places)
        sigmas = self._sigma(np.linalg.norm(local, axis=1)) / np.sqrt(READINGS)
        local = local + rng.normal(size=local.shape) * sigmas[:, None]
        if not self.map.targets:
            self._to_map = START @ self._tracker_pose
        else:
            known = [k for k in handles if k in self.map.targets]
            if len(known) < self.tracker.shared:
                what = f"only {len(known)} of the reference targets in view are known, {self.tracker.shared} are needed"
                raise DeviceError(what, "tracker", "Choose a station that shares more targets with the others")
            rows = [handles.index(k) for k in known]
            mapped = np.array([self.map.targets[k].place for k in known])
            self._to_map = resect(local[rows], mapped, 2 * sigmas[rows] ** 2).pose
        new = self.map.learn(self._to_map, handles, local)
        return [Message("referenced", {"targets": len(handles), "new": self._news(new)})]

    def _fault(self, message: Message) -> list[Message]:
        if message.text("name") != "tracker":
            return super()._fault(message)
        rng = self._rng(4, self._number)
        self._place = self._place + rng.normal(0, 4.0, 3)
        self._axis = rotation_from_vector(rng.normal(0, 0.002, 3)) @ self._axis
        if len(self.visible_references()[0]) >= self.tracker.shared:
            # It sees that its references are not where they were; without them nobody would know.
            self._to_map = None
        return [Message("done", {"fault": "tracker"})]

    # -- frames -----------------------------------------------------------------------------------------------

    def _hand(self, message: Message) -> Sequence[Message]:
        if int(message.number("position", 0)) != self.position:
            self.position, self._to_map = int(message.number("position", 0)), None
        return super()._hand(message)

    def _tracked(
        self, pose: Pose, scene: Scene, rng: np.random.Generator
    ) -> tuple[dict[str, object], RigidTransform | None]:
        references = len(self.visible_references()[0])
        fields: dict[str, object] = {"targets": references, "known": references}
        if self._to_map is None:
            return fields | {
                "state": "tracker moved",
                "why": "the tracker's place is not known: measure the reference targets",
            }, None
        cage = pose.eye - CAGE_BEHIND * pose.axis
        why = self._hidden(cage, pose, scene)
        if why:
            return fields | {"state": "hidden", "why": why}, None
        sigma, turn = self._cage_sigmas(float(np.linalg.norm(cage - self._tracker_pose.offset)))
        true = self._to_map @ self._tracker_pose.inverse @ pose.to_part
        middle = self._to_map.apply(self._tracker_pose.inverse.apply(cage[None]))[0]
        found = RigidTransform.about(middle, [*rng.normal(0, sigma, 3), *rng.normal(0, turn, 3)]) @ true
        spread = float(np.hypot(sigma, turn * (CAGE_BEHIND + self.mode.stand_off[1])))
        covariance = np.diag([sigma**2] * 3 + [turn**2] * 3)[np.triu_indices(6)]
        fields |= {"spread": round(spread, 4), "centre": [round(float(v), 4) for v in middle]}
        return fields | {"covariance": [float(f"{v:.6g}") for v in covariance], "state": "tracking"}, found

    def _hidden(self, cage: Floats, pose: Pose, scene: Scene) -> str:
        """Why the tracker does not see the cage; empty when it does."""
        turned = self.body.turned[self.position]
        if not in_volume(self.tracker, self._place, unit(self._axis), turned.apply(cage[None]))[0]:
            return "the scanner is outside the tracker's volume"
        eye = self._tracker_pose.offset
        if unit(eye - cage) @ -pose.axis < np.cos(np.radians(self.tracker.facing)):
            return "the back of the scanner is turned away from the tracker"
        return (
            "the part stands between scanner and tracker" if blocked_between(scene.caster, cage[None], eye)[0] else ""
        )
