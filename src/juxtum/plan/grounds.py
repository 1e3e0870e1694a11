"""What planning computes once and keeps between one question and the next."""

from __future__ import annotations

import threading

import numpy as np

from juxtum.instruments.equipment import Equipment
from juxtum.instruments.models import InstrumentModel, Mode
from juxtum.nominal import Nominal
from juxtum.plan.cost.schedule import machine_memory
from juxtum.plan.cost.spacing import SpacingPrice, price_spacings
from juxtum.plan.foretold import Foretold
from juxtum.plan.photos.photos import PhotoPlan
from juxtum.plan.stations import Obstacle, StationPlan, plan_stations
from juxtum.plan.targets.gear import gear_of
from juxtum.plan.targets.ground import Ground, make_ground
from juxtum.plan.targets.views import Stance, Views
from juxtum.plan.targets.watch import watched
from juxtum.plan.task import Task
from juxtum.plan.turntable import TurntablePlan, plan_turntable
from juxtum.progress import Progress


class Grounds:
    """Keeps what is expensive between one question and the next."""

    def __init__(self) -> None:
        self._kept: dict[tuple[object, ...], Ground] = {}
        self._prices: dict[tuple[object, ...], tuple[Nominal, tuple[SpacingPrice, ...]]] = {}
        self._stations: tuple[Views, tuple[Obstacle, ...], StationPlan] | None = None
        self._station_part: Nominal | None = None
        self._watched: tuple[StationPlan, Ground] | None = None
        self._turns: dict[tuple[object, ...], tuple[Nominal, TurntablePlan]] = {}
        self._geared: dict[tuple[object, ...], tuple[Ground, Ground]] = {}
        self._network: tuple[Nominal, Task, PhotoPlan] | None = None
        self._lock = threading.Lock()

    def prices(self, nominal: Nominal, task: Task, model: InstrumentModel, mode: Mode) -> tuple[SpacingPrice, ...]:
        """Ways to choose spacings, computed once for a part, a task and an instrument."""
        key = (id(nominal), task, model.model_dump_json(), mode.name)
        if key not in self._prices or self._prices[key][0] is not nominal:
            self._prices[key] = (nominal, price_spacings(nominal, task, model, mode, machine_memory()))
        return self._prices[key][1]

    def turntable(self, nominal: Nominal, task: Task, model: InstrumentModel, progress: Progress) -> TurntablePlan:
        """Views on a turntable, planned once for a part, a task and an instrument."""
        key = (id(nominal), task.measured_faces(nominal), model.model_dump_json())
        kept = self._turns.get(key)
        if kept is None or kept[0] is not nominal:
            kept = (nominal, plan_turntable(nominal, task, model, progress=progress))
            with self._lock:
                self._turns = {key: kept}
        return kept[1]

    def keep_network(self, nominal: Nominal, task: Task, made: PhotoPlan) -> None:
        """Remember the photo network that was planned last for a part."""
        with self._lock:
            self._network = (nominal, task, made)

    def network(self, nominal: Nominal, task: Task) -> PhotoPlan | None:
        """The photo network that was planned last, if it was for this part."""
        with self._lock:
            kept = self._network
        return kept[2] if kept is not None and kept[0] is nominal and kept[1] == task else None

    def stations_known(self, nominal: Nominal) -> StationPlan | None:
        """The tracker stations that were planned last."""
        with self._lock:
            kept = self._stations
        return kept[2] if kept is not None and self._station_part is nominal else None

    def foretold(self, nominal: Nominal, task: Task) -> tuple[Foretold, ...]:
        """What a photo network and tracker positions that were planned for a part foretell of methods that rest on them."""
        made = []
        if (network := self.network(nominal, task)) is not None:
            words = f"photo network planned for this part, U = {network.a:.3f} + {network.b:.3f} L/m mm"
            made.append(Foretold("bars", network.a, network.b, words))
        if (stations := self.stations_known(nominal)) is not None:
            words = f"tracker positions planned for this part, error up to {stations.worst_error:.3f} mm"
            # A limit that counts as rectangular, as an expanded uncertainty (k = 2).
            made.append(Foretold("tracker", 2 * stations.worst_error / np.sqrt(3), 0.0, words))
        return tuple(made)

    def stations(self, ground: Ground, obstacles: tuple[Obstacle, ...], progress: Progress) -> StationPlan:
        """Tracker stations, planned once for a ground and what stands in the way."""
        with self._lock:
            kept = self._stations
        if kept is None or kept[0] is not ground.views or kept[1] != obstacles:
            kept = (ground.views, obstacles, plan_stations(ground, obstacles, progress=progress))
            with self._lock:
                self._stations, self._station_part = kept, ground.nominal
        return kept[2]

    def watched(self, ground: Ground, obstacles: tuple[Obstacle, ...], progress: Progress) -> Ground:
        """The ground of a tracked scanner, whose tracker looks at the targets."""
        stations = self.stations(ground, obstacles, progress)
        with self._lock:
            kept = self._watched
            if kept is None or kept[0] is not stations:
                kept = self._watched = (stations, watched(ground, stations))
        return kept[1]

    def of(
        self, nominal: Nominal, task: Task, model: InstrumentModel, mode: Mode, stance: Stance, progress: Progress
    ) -> Ground:
        """The ground for a part, an instrument and a stance."""
        key = (id(nominal), task.measured_faces(nominal), model.model_dump_json(), mode.name, stance)
        with self._lock:
            if key in self._kept and self._kept[key].nominal is nominal:
                return self._kept[key]
        made = make_ground(nominal, task, model, mode, stance, progress)
        with self._lock:
            while len(self._kept) > 3:
                self._kept.pop(next(iter(self._kept)))
            self._kept[key] = made
        return made

    def with_gear(self, ground: Ground, items: tuple[Equipment, ...], *, joined_by_shape: bool) -> Ground:
        """A ground with equipment on it, one and the same as long as the ground is."""
        key = (id(ground), items, joined_by_shape)
        with self._lock:
            kept = self._geared.get(key)
            if kept is None or kept[0] is not ground:
                gear = gear_of(items, ground.nominal, ground.stance)
                kept = (ground, ground.with_gear(gear, joined_by_shape=joined_by_shape))
                while len(self._geared) > 5:
                    self._geared.pop(next(iter(self._geared)))
                self._geared[key] = kept
        return kept[1]
