"""The handheld scanner's stand-in: light on the surface, pose from targets, and what goes wrong with both."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np

from juxtum.devices.artefacts import Calibratable
from juxtum.devices.body import Body, Pose, Scene, in_sight
from juxtum.devices.patterns import rays_of, tangents
from juxtum.devices.protocol import DeviceError, Message, packed
from juxtum.devices.shot import Setting, Shot, shoot
from juxtum.devices.standin import StandIn
from juxtum.devices.surface import EXPOSURES, USUAL
from juxtum.devices.targetmap import TargetMap
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, Ints
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.models import InstrumentModel, Mode, TargetNeeds
from juxtum.plan.targets.targets import Target

JUMP_CHANCE = 0.06
"""Of a frame whose pattern is weak."""
PAUSED_SPACING = 20.0
CONFUSED = 0.3
"""Two triangles of targets whose sides agree within this, mm, look the same."""
FAR_APART = 400.0
START = RigidTransform.from_parts(rotation_from_vector(np.radians([12.0, -33.0, 74.0])), [140.0, 60.0, -420.0])
"""From the part to the map when the scanner begins without a map; any frame will do, and it is not the part's."""


class HandheldScanner(StandIn):
    """Answers each `hand` with one `frame`."""

    kind = "handheld"

    def __init__(self, body: Body, model: InstrumentModel, seed: int = 0) -> None:
        super().__init__(body, model, seed)
        if model.targets is None:
            raise DeviceError(f"{model.name} does not use targets", "device", "Choose a handheld scanner")
        self.mode: Mode = model.modes[0]
        self.exposure, self.spacing = USUAL, 1.0
        self.is_paused = False
        self.map = TargetMap(model.targets, START)
        chain = model.chains[0]
        left = chain.b / 1000 / np.sqrt(3)
        self.calibration = Calibratable(self, model.targets.noise / 2, 8 * left, left / 4)
        self.calibration.error = float(self._rng(1).normal(0, left))
        self._number = 0
        self._jump: tuple[int, RigidTransform] | None = None
        self._answers |= {
            "hand": self._hand, "mode": self._set_mode, "exposure": self._set_exposure, "spacing": self._set_spacing, "pause": self._pause,
            "board": self.calibration.board, "bar": self.calibration.bar, "correct": self.calibration.correct,
            "map": self._take_map, "map?": self._give_map, "stick": self._stick,
        }  # fmt: skip

    @property
    def scale(self) -> float:
        """Of all lengths: what calibration leaves of an error that grows with length."""
        return 1 + self.calibration.error

    @property
    def needs(self) -> TargetNeeds:
        """What it asks of targets."""
        return self.map.needs

    def unsettle(self) -> None:
        """As after a journey: lengths are wrong until the scanner is calibrated again."""
        self.calibration.unsettle()

    def about(self) -> dict[str, object]:
        """Modes and exposures."""
        return {
            "modes": [m.name for m in self.model.modes],
            "exposures": [EXPOSURES[0], EXPOSURES[-1]],
            "least_targets": self.needs.least,
        }

    # -- settings ---------------------------------------------------------------------------------------------

    def _set_mode(self, message: Message) -> list[Message]:
        self.mode = self.model.mode(message.text("name"))
        return [Message("done", {"mode": self.mode.name})]

    def _set_exposure(self, message: Message) -> list[Message]:
        level = round(message.number("level"))
        if level not in EXPOSURES:
            raise DeviceError(f"there is no exposure {level}", "exposure", f"Choose {EXPOSURES[0]} to {EXPOSURES[-1]}")
        self.exposure = level
        return [Message("done", {"exposure": level})]

    def _set_spacing(self, message: Message) -> list[Message]:
        spacing = message.number("mm")
        if not 0.01 <= spacing <= 50:
            raise DeviceError(f"a spacing of {spacing:g} mm is impossible", "spacing", "Choose 0.01 to 50 mm")
        self.spacing = spacing
        return [Message("done", {"spacing": spacing})]

    def _pause(self, message: Message) -> list[Message]:
        self.is_paused = bool(message.fields.get("on", True))
        return [Message("done", {"paused": self.is_paused})]

    def _take_map(self, message: Message) -> list[Message]:
        rows = message.table("targets", 5)
        if not len(rows):
            # A map that is begun anew lies anywhere: nothing may count on the old one's frame.
            self.map = TargetMap(self.needs, self.map.start @ START)
        self.map.give(rows, fixed=bool(message.fields.get("fixed", False)))
        return [Message("done", {"map": len(self.map.targets)})]

    def _give_map(self, message: Message) -> list[Message]:
        return [Message("map", {"targets": self.map.rows()})]

    def _stick(self, message: Message) -> list[Message]:
        """A person sticks another target; a real scanner only finds it."""
        place, normal = message.vector("place"), message.vector("normal")
        normal /= max(float(np.linalg.norm(normal)), 1e-9)
        target = Target(place, normal, 0, float(message.number("edge", 99.0)))
        self.body = replace(self.body, targets=(*self.body.targets, target))
        return [Message("done", {"targets": len(self.body.targets)})]

    # -- frames -----------------------------------------------------------------------------------------------

    def _hand(self, message: Message) -> Sequence[Message]:
        pose = Pose.looking(message.vector("eye"), message.vector("axis"), message.vector("up"))
        position = int(message.number("position", 0))
        if not 0 <= position < len(self.body.turned):
            raise DeviceError(f"the part has no position {position}", "hand", "Use 0, or 1 turned over")
        self._number += 1
        return [self.frame(pose, self.body.scenes[position], message.number("time", 0.0))]

    def frame(self, pose: Pose, scene: Scene, time: float) -> Message:
        """One frame as seen from a pose."""
        rng = self._rng(2, self._number)
        shot = self._shot(pose, scene, time, rng)
        head: dict[str, object] = {
            "number": self._number,
            "time": round(time, 4),
            "exposure": self.exposure,
            "mode": self.mode.name,
        }
        head |= {"stand_off": None if np.isnan(shot.stand_off) else round(shot.stand_off, 1)}
        head |= {"dark": round(shot.dark, 3), "bloomed": round(shot.bloomed, 3)}
        fields, located = self._tracked(pose, scene, rng)
        head |= fields
        if self.is_paused:
            head["state"] = "paused"
        if located is None or self.is_paused:
            return Message("frame", head | {"points": 0})
        head |= {"pose": [round(float(v), 9) for v in located.matrix.ravel()], "points": len(shot.places)}
        return Message("frame", head, packed(shot.places * self.scale, shot.normals, shot.qualities.astype(np.uint8)))

    def _shot(self, pose: Pose, scene: Scene, time: float, rng: np.random.Generator) -> Shot:
        setting = Setting(self.mode, self.exposure, time / 60, self.warmth)
        # While paused a few rays tell the stand-off; nothing else is wanted.
        spacing = PAUSED_SPACING if self.is_paused else self.spacing
        return shoot(self.body, scene, pose, rays_of(self.mode, spacing, rng), setting, rng)

    def observed(self, pose: Pose, scene: Scene, rng: np.random.Generator) -> tuple[list[int], Floats]:
        """Handles of the targets in view and where the scanner sees them in its own coordinates (N, 3)."""
        if not self.body.targets and not len(scene.gear_places):
            return [], np.empty((0, 3))
        near, _, far = self.mode.stand_off
        # The cameras are the same in every mode: a single line is tracked by the whole picture.
        wide, high = (max(tangents(mode)[k] for mode in self.model.modes) for k in range(2))
        limits = (wide, high, near, far, float(np.cos(np.radians(self.needs.incidence))))
        all_handles = np.r_[np.arange(len(self.body.targets)), scene.gear_handles]
        all_places = np.concatenate([self.body.target_places, scene.gear_places])
        seen = in_sight(scene, pose, all_places, np.concatenate([self.body.target_normals, scene.gear_normals]), limits)
        seen[np.isin(all_handles, list(self.knocked))] = False
        handles, places = all_handles[seen], all_places[seen]
        places = places + 1e-6 * self.body.expansion * self.warmth * (places - self.body.centre)
        local = pose.to_part.inverse.apply(places) + rng.normal(0, self.needs.noise, (len(handles), 3))
        return [int(k) for k in handles], local * self.scale

    def _tracked(
        self, pose: Pose, scene: Scene, rng: np.random.Generator
    ) -> tuple[dict[str, object], RigidTransform | None]:
        """State and pose of a frame; no pose where tracking is lost."""
        handles, local = self.observed(pose, scene, rng)
        known = self.map.known(handles)
        fields: dict[str, object] = {"targets": len(handles), "known": len(known)}
        if not self.map.targets and len(handles) >= self.needs.least:
            first = self.map.start @ pose.to_part
            self.map.learn(first, handles, local)
            return fields | {"state": "tracking", "spread": self.needs.noise, "new": self._news(handles)}, first
        if len(known) < self.needs.bare:
            return fields | {"state": "lost", "why": _why_lost(len(handles), len(known), self.needs)}, None
        rows = [handles.index(k) for k in known]
        found, moved = self.map.locate(known, local[rows])
        spread = found.spread_at(found.pose.apply([[0.0, 0.0, -self.mode.stand_off[1]]])[0])
        fields |= {
            "spread": round(spread, 4),
            "covariance": [float(f"{v:.6g}") for v in found.covariance[np.triu_indices(6)]],
        }
        fields |= {"centre": [round(float(v), 4) for v in found.centre]}
        if moved:
            self.map.forget(moved)
            self.knocked.update(moved)
            fields["event"], fields["handles"] = "target moved", moved
        is_weak = len(known) < self.needs.least or spread > self.needs.pose_limit or self._is_ambiguous(known)
        if is_weak:
            return fields | {"state": "weak"}, self._perhaps_jumped(found.pose, rng)
        if self._jump is not None:
            fields |= {"event": "jump", "since": self._jump[0]}
            self._jump = None
        kept = [k for k in range(len(handles)) if handles[k] not in moved]
        new = self.map.learn(found.pose, [handles[k] for k in kept], local[kept])
        if new:
            fields["new"] = self._news(new)
        return fields | {"state": "tracking"}, found.pose

    def _news(self, handles: list[int]) -> list[list[float]]:
        return [[float(k), *(round(float(v), 4) for v in self.map.targets[k].place)] for k in handles]

    def _perhaps_jumped(self, pose: RigidTransform, rng: np.random.Generator) -> RigidTransform:
        """With too few targets, or a pattern that repeats, the scanner may take one constellation for another."""
        if self._jump is None and not self.is_paused and rng.random() < JUMP_CHANCE:
            turn = np.radians(rng.normal(0, 0.25, 3))
            self._jump = (self._number, RigidTransform.about(pose.offset, [*rng.normal(0, 1.2, 3), *turn]))
        return pose if self._jump is None else self._jump[1] @ pose

    def _is_ambiguous(self, known: list[int]) -> bool:
        """Whether no target more than needed is in view and all their triangles repeat elsewhere."""
        if len(known) > self.needs.least or not len(self._repeated):
            return False
        triples = {tuple(sorted(t)) for t in _triples(known)}
        return bool(triples) and triples <= self._repeated_set

    @property
    def _repeated_set(self) -> set[tuple[int, ...]]:
        return {tuple(map(int, row)) for row in self._repeated}

    @cached_property
    def _repeated(self) -> Ints:
        """Rows (N, 3) of handles whose triangle looks like another one."""
        places = self.body.target_places
        near = list(kd_tree(places).query_pairs(FAR_APART)) if len(places) else []
        linked: dict[int, set[int]] = {}
        for a, b in near:
            linked.setdefault(a, set()).add(b)
        rows = np.array(
            [(a, b, c) for a, b in near for c in linked.get(a, set()) & linked.get(b, set())], dtype=np.int64
        ).reshape(-1, 3)
        if len(rows) < 2:
            return rows
        p = places[rows]
        sides = np.sort(np.linalg.norm(p - np.roll(p, 1, axis=1), axis=2), axis=1)
        pairs = kd_tree(sides).query_pairs(CONFUSED, p=np.inf, output_type="ndarray")
        return np.sort(rows[np.unique(pairs)], axis=1)


def _triples(handles: list[int]) -> list[tuple[int, int, int]]:
    n = len(handles)
    return [(handles[i], handles[j], handles[k]) for i in range(n) for j in range(i + 1, n) for k in range(j + 1, n)]


def _why_lost(seen: int, known: int, needs: TargetNeeds) -> str:
    if seen >= needs.bare:
        return f"{seen} targets in view, but only {known} of them are known yet: go back to where more are"
    return f"{seen} target{'' if seen == 1 else 's'} in view, {needs.bare} are the bare minimum"
