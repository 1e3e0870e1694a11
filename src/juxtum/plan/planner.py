"""One door to planning, for the desk and the command line alike."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry.arrays import Bools, Floats
from juxtum.instruments.coats import COATS
from juxtum.instruments.models import InstrumentModel, Kind, Mode, shipped
from juxtum.instruments.owned import NOTHING_KNOWN, Owned, Pace
from juxtum.nominal import Nominal
from juxtum.plan.blind import BlindSpot, Cause, Method, blind_spots
from juxtum.plan.cost.effort import Effort, estimate
from juxtum.plan.cost.schedule import Schedule, Work, machine_memory, parse_clock, schedule
from juxtum.plan.cost.spacing import SpacingPrice, finest_that_fits
from juxtum.plan.document import Expected, Plan, PlannedPose
from juxtum.plan.foretold import with_foretold
from juxtum.plan.grounds import Grounds
from juxtum.plan.photos.photos import NetworkWish, PhotoPlan, plan_photos
from juxtum.plan.photos.worth import wanted_of
from juxtum.plan.stations import Obstacle, StationPlan
from juxtum.plan.suitability import SuitabilityTable, suitability
from juxtum.plan.targets.assess import Assessment, assess
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.places import PlacementRules, rules_for
from juxtum.plan.targets.targets import Target, improve_targets, place_targets
from juxtum.plan.targets.views import Stance
from juxtum.plan.targets.ways import EQUIPMENT_MINUTES, MINUTES_EACH
from juxtum.plan.task import Task, area_of
from juxtum.plan.tray import TrayPlan, plan_tray
from juxtum.plan.turntable import TurntablePlan
from juxtum.progress import Progress, silent

MAPPED = ("bars", "network")
"""What a method needs that measures the targets before scanning begins."""
NONE_TO_SPARE = 0.6
"""How likely a pose tracks that sees just enough targets, as captures by the stand-in came out."""
HEAVY = 40.0
"""A part heavier than this, kg, is not turned over by hand: it stands on stands."""
PHOTO_AREA = 320.0**2
"""One photo for so much surface, mm2, besides thirty for any part."""
MOST_MEASURED_TARGETS = 110
"""Reference targets that a photo network measures besides the coded ones."""


def default_plan(nominal: Nominal, task: Task) -> Plan:
    """A plan to begin with: heavy parts stand on stands."""
    mass = task.mass(nominal)
    heavy = mass > HEAVY if np.isfinite(mass) else nominal.diagonal > 1500
    return Plan(
        stance=Stance.STANDS if heavy else Stance.TABLE,
        chain="scanner alone" if not heavy else "with photo set and bars",
    )


@dataclass(frozen=True, eq=False)
class EffortPlan:
    """Effort of the plan as it stands.

    Parameters
    ----------
    spacing : float
        Everywhere, mm; fine in the refined faces.
    finest : float
        The finest spacing whose work fits into this machine's memory, mm.
    pace : Pace, optional
        How fast the shop works with this instrument, which the minutes count with; None while its captures do not tell.
    """

    spacing: float
    effort: Effort
    prices: tuple[SpacingPrice, ...]
    finest: float
    memory: float
    schedule: Schedule
    pace: Pace | None = None


@dataclass(frozen=True, eq=False)
class Planner:
    """Answers the questions of the station Plan for one part, task and plan.

    Parameters
    ----------
    nominal : Nominal
    task : Task
    plan : Plan
    grounds : Grounds
        Shared between planners, so that an edit of the plan costs little.
    owned : Owned
        What the shop has, as its register says; nothing is known without one.
    """

    nominal: Nominal
    task: Task
    plan: Plan
    grounds: Grounds
    owned: Owned = NOTHING_KNOWN

    @property
    def model(self) -> InstrumentModel:
        """The instrument that scans."""
        return self.plan.instrument

    @property
    def mode(self) -> Mode:
        """Its mode."""
        return self.model.mode(self.plan.mode)

    def ground(self, progress: Progress | None = None) -> Ground:
        """Patches and poses; of a tracked scanner with what its tracker sees of targets."""
        progress = progress or silent()
        ground = self.grounds.of(
            self.nominal, self.task, self.model, self.mode, self.plan.stance, progress.part(0, 0.5)
        )
        if self.model.tracker is not None:
            return self.grounds.watched(ground, self._obstacles, progress.part(0.5, 1))
        if self.plan.equipment:
            by_shape = self.plan.joined == "by shape"
            ground = self.grounds.with_gear(ground, self.plan.equipment, joined_by_shape=by_shape)
        return ground.mapped if self.model.chain(self.plan.chain).needs in MAPPED else ground

    @property
    def _obstacles(self) -> tuple[Obstacle, ...]:
        return tuple(Obstacle(box.low, box.high) for box in self.plan.obstacles)

    def rules(self) -> PlacementRules:
        """Where targets may sit."""
        for number in self.plan.allowed:
            self.nominal.face(number)
        rules = rules_for(self.nominal, self.task, self.model, self.plan.diameter, self.plan.allowed)
        if self.plan.target_spacing is not None:
            rules = replace(rules, spacing=self.plan.target_spacing)
        if self.plan.targets:
            # With nothing on the part there is nothing that has to keep any rule.
            rules.check(self.nominal)
        return rules

    def suitability(self, models: tuple[InstrumentModel, ...]) -> SuitabilityTable:
        """Every characteristic against every chain."""
        told = {made.needs: made for made in self.grounds.foretold(self.nominal, self.task)}
        known = tuple(self.owned.paced(with_foretold(model, told)) for model in models)
        return suitability(self.nominal, self.task, known, chosen={self.model.id: self.mode.name})

    def with_targets_planned(self, progress: Progress | None = None) -> Plan:
        """The plan with targets placed anew; locked ones stay."""
        progress = progress or silent()
        rules = self.rules()
        ground = self.ground(progress.part(0, 0.2))
        locked = tuple(t for t in self.plan.placed if t.is_locked)
        return self.plan.with_targets(place_targets(ground, rules, self.plan.goal, locked, progress.part(0.2, 1)))

    def assess(self, progress: Progress | None = None) -> Assessment:
        """What the plan's targets do."""
        progress = progress or silent()
        ground, rules = self.ground(progress.part(0, 0.6)), self.rules()
        try:
            ground.choice(rules, progress.part(0.6, 1))
        except InputError:
            # A part without room for targets may stand on equipment; then no further one is suggested.
            if self.plan.targets:
                raise
        return assess(ground, rules, self.plan.placed)

    @property
    def error(self) -> float:
        """Maximum permissible error of the chosen chain over the whole part, mm."""
        return self.model.chain(self.plan.chain).error(self.nominal.diagonal)

    def photos(self, model: InstrumentModel | None = None, progress: Progress | None = None) -> PhotoPlan:
        """The photo network, with the plan's reference targets measured along."""
        wish = NetworkWish(
            self.plan.bars, self.plan.self_calibration, expanded=wanted_of(self.model, self.nominal.diagonal)
        )
        targets = self.plan.placed[:: max(1, -(-len(self.plan.placed) // MOST_MEASURED_TARGETS))]
        extra = (np.array([t.place for t in targets]), np.array([t.normal for t in targets])) if targets else None
        made = plan_photos(self.nominal, self.task, model or shipped(Kind.PHOTO), wish, extra, progress)
        self.grounds.keep_network(self.nominal, self.task, made)
        return made

    def stations(self, model: InstrumentModel | None = None, progress: Progress | None = None) -> StationPlan:
        """Tracker stations for a tracked instrument."""
        progress = progress or silent()
        used = model or (self.model if self.model.tracker is not None else shipped(Kind.TRACKED))
        if used.tracker is None:
            raise InputError(f"{used.name} is not followed by a tracker", "stations", "Choose a tracked instrument")
        mode = self.mode if used is self.model else used.modes[0]
        ground = self.grounds.of(self.nominal, self.task, used, mode, self.plan.stance, progress.part(0, 0.3))
        return self.grounds.stations(ground, self._obstacles, progress.part(0.3, 1))

    def holding(self, assessment: Assessment | None = None) -> Bools:
        """Poses (P,) at which the scanner knows where it is: by targets, or by a tracker in positions that targets tie together."""
        ground = self.ground()
        if not self.plan.is_tracked:
            return np.zeros(len(ground.views), dtype=bool)
        holds = (assessment or self.assess()).linkage.poses
        if self.model.tracker is None:
            return holds
        tied = np.bincount(ground.views.setups, holds, len(ground.views.turned)) > 0
        return np.asarray(self.stations().seen.any(0) & tied[ground.views.setups])

    def blind(self, progress: Progress | None = None) -> tuple[BlindSpot, ...]:
        """What scanning will not give."""
        return blind_spots(self.ground(progress), self.task, self.spacing(), dict(self.plan.finishes))

    def turntable(self, model: InstrumentModel | None = None, progress: Progress | None = None) -> TurntablePlan:
        """Views on a turntable."""
        return self.grounds.turntable(self.nominal, self.task, model or shipped(Kind.HEAD), progress or silent())

    def tray(self, model: InstrumentModel | None = None) -> TrayPlan:
        """A tray for the cabinet."""
        return plan_tray(self.nominal, self.task, model or shipped(Kind.CABINET), self.plan.parts_in_tray)

    def prices(self) -> tuple[SpacingPrice, ...]:
        """Ways to choose spacings."""
        model = self.owned.paced(self.model)
        return self.grounds.prices(self.nominal, self.task, model, model.mode(self.plan.mode))

    def spacing(self) -> float:
        """The spacing that is planned everywhere, mm."""
        low, high = self.mode.spacing
        if self.plan.spacing is None:
            offers = self.prices()
            return next((p for p in offers if p.serves and p.fits and p.refined), offers[0]).base
        if not low - 1e-9 <= self.plan.spacing <= high + 1e-9:
            what = f"a spacing of {self.plan.spacing:g} mm is outside what '{self.mode.name}' can do, {low:g} to {high:g} mm"
            raise InputError(what, "spacing", "Choose a spacing within it, or another mode")
        longest = float(np.ptp(self.nominal.mesh.bounds, axis=0).max())
        if self.plan.spacing > longest:
            what = f"a spacing of {self.plan.spacing:g} mm is {self.plan.spacing - longest:.1f} mm more than the part's {longest:.1f} mm"
            raise InputError(what, "spacing", "Choose a finer spacing")
        return self.plan.spacing

    def effort(self) -> EffortPlan:
        """Points, memory, minutes and the day's schedule."""
        area = area_of(self.nominal, self.task.measured_faces(self.nominal))
        spacing, prices = self.spacing(), self.prices()
        chosen = next((p for p in prices if p.serves and p.fits and p.base == spacing), None)
        paced = self.owned.paced(self.model)
        effort = chosen.effort if chosen is not None else estimate([(area, spacing)], paced, paced.mode(self.plan.mode))
        memory = machine_memory()
        finest = finest_that_fits(self.nominal, self.task, self.model, self.mode, memory)
        pace = self.owned.pace(self.model, self.mode)
        return EffortPlan(spacing, effort, prices, finest, memory, self._schedule(effort), pace)

    def _schedule(self, effort: Effort) -> Schedule:
        chain = self.model.chain(self.plan.chain)
        photos = shipped(Kind.PHOTO)
        walk = 0.0
        if chain.needs == "bars" and photos.camera is not None:
            walk = expected_photos(self.nominal) * photos.camera.seconds_per_photo / 60
        turned = self.plan.stance is Stance.TABLE and self.model.kind in (Kind.HANDHELD, Kind.TRACKED)
        scanning = (0.6 * effort.capture, 0.4 * effort.capture) if turned else (effort.capture,)
        work = Work(
            sticking=MINUTES_EACH * len(self.plan.targets),
            putting_down=EQUIPMENT_MINUTES * len(self.plan.equipment),
            warm_up=self.model.warm_up_minutes,
            calibration=self.model.calibration_minutes,
            photos=walk,
            scanning=scanning,
            computing=effort.minutes["mesh"] + effort.minutes["evaluate"],
            coat=COATS[self.plan.coat],
        )
        return schedule(work, parse_clock(self.plan.start))

    def edited(self, targets: tuple[Target, ...]) -> Plan:
        """The plan with other targets, and what it now promises."""
        made = replace(self, plan=self.plan.with_targets(targets))
        return with_expectation(made, made.assess()) if made.plan.is_tracked else made.plan

    def planned(self, progress: Progress | None = None) -> Plan:
        """The plan with targets placed anew, and what it promises."""
        progress = progress or silent()
        made = replace(self, plan=self.with_targets_planned(progress.part(0, 0.95)))
        return with_expectation(made, made.assess(progress.part(0.95, 1)))

    def improved(self, progress: Progress | None = None) -> Plan:
        """The plan with what was placed moved to better places; locked targets stay."""
        progress = progress or silent()
        ground = self.ground(progress.part(0, 0.2))
        targets = improve_targets(ground, self.rules(), self.plan.placed, self.plan.goal, progress.part(0.2, 0.95))
        return self.edited(targets)


def with_expectation(planner: Planner, assessment: Assessment) -> Plan:
    """The plan with what it promises, to be held against the capture later."""
    ground = planner.ground()
    effort = planner.effort().effort
    poses = tuple(
        PlannedPose(eye=_rounded(eye, 1), axis=_rounded(axis, 4), position=int(setup))
        for eye, axis, setup in zip(ground.views.eyes, ground.views.axes, ground.views.setups, strict=True)
    )
    coverage = expected_coverage(ground, chances(planner, assessment), planner.blind())
    expected = Expected(
        tracked=assessment.share, coverage=coverage, points=effort.points, minutes=effort.capture, poses=poses
    )
    return planner.plan.model_copy(update={"expected": expected})


def chances(planner: Planner, assessment: Assessment) -> Floats:
    """How likely each pose (P,) gives what it should, 0 to 1: where no target is to spare, one seen badly is one too few."""
    holds = planner.holding(assessment).astype(np.float64)
    if planner.model.tracker is not None:
        return holds
    return np.where(assessment.linkage.counts > planner.ground().needs.least, holds, NONE_TO_SPARE * holds)


def expected_photos(nominal: Nominal) -> int:
    """About how many photos a network of this part takes; planning it tells exactly."""
    return int(np.clip(30 + nominal.area / PHOTO_AREA, 20, 120))


def tracked_coverage(ground: Ground, assessment: Assessment) -> float:
    """Share of the measured area that some tracking pose sees."""
    seen = ground.covers[assessment.linkage.poses].any(0)
    return min(float(ground.patches.areas[seen].sum() / ground.patches.areas.sum()), 1.0)


def expected_coverage(
    ground: Ground, chances: Floats | Bools, spots: tuple[BlindSpot, ...], faces: tuple[int, ...] = ()
) -> float:
    """Share of the measured area that scanning will give, or of some faces of it.

    Parameters
    ----------
    chances : array (P,)
        How likely the scanner knows where it is at each pose, 0 to 1: a place is had when one of the poses that see it is.
    spots : tuple of BlindSpot
        What no mode of it gives is taken off, by the share that is lost.
    """
    missed = np.where(ground.covers, 1.0 - np.asarray(chances, dtype=np.float64)[:, None], 1.0)
    seen: Floats = 1.0 - missed.prod(0)
    for spot in spots:
        if spot.method is Method.PROBE and spot.cause is not Cause.HIDDEN:
            seen[np.isin(ground.patches.faces + 1, spot.faces)] *= 1 - spot.share
    areas = (
        np.where(np.isin(ground.patches.faces + 1, faces), ground.patches.areas, 0.0) if faces else ground.patches.areas
    )
    # A sum over all patches may pass the sum of its parts by a rounding.
    return min(float(areas @ seen / max(float(areas.sum()), 1e-12)), 1.0)


def moved(plan: Plan, index: int, target: Target) -> Plan:
    """The plan with one target replaced."""
    targets = list(plan.placed)
    targets[index] = replace(target, is_locked=targets[index].is_locked)
    return plan.with_targets(tuple(targets))


def _rounded(vector: Floats, digits: int) -> tuple[float, float, float]:
    x, y, z = (round(float(v), digits) for v in vector)
    return x, y, z
