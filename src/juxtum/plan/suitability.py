"""Is the instrument good enough? Every characteristic against every chain, before anything is measured."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property
from itertools import combinations

import numpy as np

from juxtum.associate.solve import effective_count
from juxtum.evaluate.places import tile_size
from juxtum.evaluate.quantity import Aim
from juxtum.evaluate.uncertainty import Budget, Chain, Sampling
from juxtum.instruments.materials import STEEL_DENSITY
from juxtum.instruments.models import ErrorChain, InstrumentModel, Kind, Mode
from juxtum.nominal import Nominal
from juxtum.plan.cost.effort import estimate
from juxtum.plan.cost.spacing import spacing_needs
from juxtum.plan.holes import Hole, find_holes
from juxtum.plan.path_length import shortest_longest_path
from juxtum.plan.targets.reach import reach_of
from juxtum.plan.targets.shape import ShapeHold, alignment_spread, shape_hold
from juxtum.plan.task import Task, area_of, points_of, ways_of

PROBED_POINTS = 15
"""Points a person probes on a face."""


class Fitness(StrEnum):
    """Verdict on a chain for a characteristic."""

    GOOD = "good"
    USABLE = "usable"
    NOT_SUITABLE = "not suitable"


@dataclass(frozen=True)
class FitnessLimits:
    """From which ratio of tolerance to 2U a chain is good, and from which usable."""

    good: float = 5.0
    usable: float = 3.0


@dataclass(frozen=True)
class Suitability:
    """One characteristic against one chain.

    Parameters
    ----------
    aim : Aim
    instrument, chain, mode : str
    length : float
        Over which it is measured, mm.
    budget : Budget
    ratio : float
        Tolerance width over 2U, or over U where the value is twice what lies off: its zone lies to both sides.
    verdict : Fitness
    reason : str
    minutes, cost : float
        Of this characteristic alone, set-up included; cost in the instruments' own money.
    """

    aim: Aim
    instrument: str
    chain: str
    mode: str
    length: float
    budget: Budget
    ratio: float
    verdict: Fitness
    reason: str
    minutes: float
    cost: float

    @property
    def expanded(self) -> float:
        """Expanded uncertainty U with k = 2, mm."""
        return self.budget.expanded

    @property
    def key(self) -> tuple[str, str]:
        """Instrument and chain."""
        return self.instrument, self.chain


@dataclass(frozen=True, eq=False)
class SuitabilityTable:
    """All characteristics against all chains."""

    rows: tuple[Suitability, ...]
    task: Task

    def of_aim(self, name: str) -> tuple[Suitability, ...]:
        """All chains for a characteristic, good ones first, then by cost."""
        order = list(Fitness)
        mine = [row for row in self.rows if row.aim.id == name]
        return tuple(sorted(mine, key=lambda r: (order.index(r.verdict), r.cost)))

    def of_chain(self, instrument: str, chain: str) -> tuple[Suitability, ...]:
        """All characteristics for a chain."""
        return tuple(row for row in self.rows if row.key == (instrument, chain))

    def cheapest(self, name: str) -> Suitability | None:
        """The cheapest chain that is good for a characteristic; None when none is."""
        best = self.of_aim(name)
        return best[0] if best and best[0].verdict is Fitness.GOOD else None

    @property
    def chains(self) -> tuple[tuple[str, str], ...]:
        """Instrument and chain of each column."""
        return tuple(dict.fromkeys(row.key for row in self.rows))


@dataclass(frozen=True, eq=False)
class _Part:
    """What is computed once for a part."""

    nominal: Nominal
    task: Task
    hold: ShapeHold
    held_area: float
    holes: tuple[Hole, ...]
    spacings: dict[str, float]

    @cached_property
    def path(self) -> float:
        """The longest path of material in a beam, the part stood up as suits best, mm; nan for an open part."""
        return shortest_longest_path(self.nominal)


def suitability(
    nominal: Nominal,
    task: Task,
    models: Sequence[InstrumentModel],
    limits: FitnessLimits | None = None,
    chosen: Mapping[str, str] | None = None,
) -> SuitabilityTable:
    """Uncertainty, ratio and verdict of every characteristic with every chain.

    The ratio is the width of the tolerance over 2U (metrology.md 8); the budget is the one that the measurement will
    have, with the alignment and the sampling predicted from the instrument's noise.

    Parameters
    ----------
    chosen : mapping of str to str
        The mode in which an instrument (by its id) is used; one that is not named is judged in the mode that suits best.

    Raises
    ------
    InputError
        When there is nothing to measure.
    """
    task.check(nominal)
    faces = task.datums
    spacings = {n.aim: n.spacing for n in spacing_needs(nominal, task)}
    part = _Part(nominal, task, shape_hold(nominal, faces), area_of(nominal, faces), find_holes(nominal), spacings)
    rows = []
    for aim in task.aims:
        length = task.length(nominal, aim)
        for model in models:
            for chain in model.chains:
                modes = model.modes_of(chain)
                own = tuple(m for m in modes if m.name == (chosen or {}).get(model.id)) or modes
                row = _judged(part, aim, length, (model, chain, own), limits or FitnessLimits())
                if own != modes and row.verdict is not Fitness.GOOD:
                    row = _or_better(row, _judged(part, aim, length, (model, chain, modes), limits or FitnessLimits()))
                rows.append(row)
    return SuitabilityTable(tuple(rows), task)


def _or_better(row: Suitability, best: Suitability) -> Suitability:
    """A row with a word on which other mode would do better."""
    order = list(Fitness)
    if order.index(best.verdict) >= order.index(row.verdict):
        return row
    return replace(row, reason=f"{row.reason}; in the mode '{best.mode}' it would be {best.verdict}")


def _judged(
    part: _Part,
    aim: Aim,
    length: float,
    used: tuple[InstrumentModel, ErrorChain, tuple[Mode, ...]],
    limits: FitnessLimits,
) -> Suitability:
    model, chain, modes = used
    tried = [(mode, *_mode_budget(part, aim, length, model, chain, mode)) for mode in modes]
    mode, budget, obstacle = min(tried, key=lambda t: (bool(t[2]), t[1].expanded))
    # A zone and the two limits that mean the same leave the same room.
    times, words = (1.0, "U") if aim.counts == 2 else (2.0, "2U")
    ratio = aim.width_over(length) / (times * budget.expanded) if budget.expanded > 0 else float("inf")
    if ratio >= limits.good:
        verdict, reason = Fitness.GOOD, f"the tolerance is {ratio:.1f} times {words}"
    elif ratio >= limits.usable:
        verdict, reason = Fitness.USABLE, f"the tolerance is only {ratio:.1f} times {words}"
    else:
        main = max(budget.contributions, key=lambda c: c.standard).source
        verdict, reason = Fitness.NOT_SUITABLE, f"the tolerance is only {ratio:.1f} times {words}, mostly by the {main}"
    obstacle = _whole_obstacle(part, length, model, chain) or _field_obstacle(part, aim, chain, mode) or obstacle
    if obstacle:
        verdict, reason = Fitness.NOT_SUITABLE, obstacle
    minutes = _minutes(part, aim, model, chain, mode)
    cost = minutes / 60 * model.cost_per_hour
    return Suitability(aim, model.name, chain.name, mode.name, length, budget, ratio, verdict, reason, minutes, cost)


def _mode_budget(
    part: _Part, aim: Aim, length: float, model: InstrumentModel, chain: ErrorChain, mode: Mode
) -> tuple[Budget, str]:
    spacing = float(np.clip(part.spacings[aim.id], *mode.spacing))
    if mode.pattern == "touch":
        count, independent = PROBED_POINTS, float(PROBED_POINTS)
    else:
        tile = tile_size(spacing, part.nominal.diagonal)
        count = max(int((tile / spacing) ** 2), 1)
        independent = effective_count(count, tile**2)
    area = part.held_area if mode.pattern != "touch" else float(PROBED_POINTS)
    far = points_of(part.nominal, aim.faces)
    spread = alignment_spread(part.hold, area, mode.noise, far[:: max(1, len(far) // 400)])
    held, sampling = (
        Chain(model.as_instrument(chain), part.task.environment),
        Sampling(mode.noise / float(np.sqrt(independent)), count),
    )
    budget = held.form_budget(length, sampling, 0) if aim.within else held.budget(length, sampling, float(spread.max()))
    budget = budget.counted(aim.counts, data=True).of_offset(0.0, ways_of(part.nominal, aim))
    return budget, _mode_obstacle(part, aim, model, mode)


def _mode_obstacle(part: _Part, aim: Aim, model: InstrumentModel, mode: Mode) -> str:
    """Why a mode cannot see a characteristic at all, or nothing."""
    if model.kind is Kind.PROJECTOR:
        return "it draws on the part and does not measure it"
    if model.kind is Kind.PHOTO:
        return "it measures targets, not the surface"
    need = part.spacings[aim.id]
    if need < mode.spacing[0] * 0.99 and mode.pattern != "touch":
        return (
            f"its finest spacing of {mode.spacing[0]:g} mm is too coarse for the {need:.2f} mm that the feature needs"
        )
    if aim.faces:
        for hole in part.holes:
            if set(hole.faces) & set(aim.faces) and hole.ratio > reach_of(mode, hole.diameter):
                return f"the hole is {hole.ratio:.1f} diameters deep, '{mode.name}' sees {reach_of(mode, hole.diameter):.1f}"
    return ""


def _field_obstacle(part: _Part, aim: Aim, chain: ErrorChain, mode: Mode) -> str:
    """Why an error that holds within one field of view does not hold for a characteristic, or nothing."""
    if not chain.within_field:
        return ""
    own = points_of(part.nominal, aim.faces)
    places = (
        own if aim.within or not part.task.datums else np.concatenate([own, points_of(part.nominal, part.task.datums)])
    )
    low, middle, high = np.sort(np.ptp(places, axis=0))
    wide, narrow = max(mode.field), min(mode.field)
    if high > wide or middle > narrow or low > mode.stand_off[2] - mode.stand_off[0]:
        return f"it does not fit into one field of view of {wide:.0f} x {narrow:.0f} mm: {high:.0f} x {middle:.0f} mm are wanted"
    return ""


def _whole_obstacle(part: _Part, length: float, model: InstrumentModel, chain: ErrorChain) -> str:
    """Why the part does not go with an instrument, or nothing."""
    size = np.sort(np.ptp(part.nominal.mesh.bounds, axis=0))
    mass = part.task.mass(part.nominal)
    if length > chain.longest:
        return f"the method's error is stated up to {chain.longest:.0f} mm, here it is {length:.0f} mm"
    cylinder, table, space = model.cylinder, model.turntable, model.space
    if space is not None and (size > np.sort(space.size)).any():
        return f"the part does not fit into the measuring space of {' x '.join(f'{v:.0f}' for v in space.size)} mm"
    if space is not None and mass > space.load:
        return f"the part weighs {mass:.1f} kg, the machine carries {space.load:g} kg"
    if cylinder is not None and (size[2] > cylinder.height or np.hypot(size[0], size[1]) > cylinder.diameter):
        return f"the part does not fit into the measuring cylinder of \u00d8{cylinder.diameter:.0f} x {cylinder.height:.0f} mm"
    if cylinder is not None and mass > cylinder.load:
        return f"the part weighs {mass:.1f} kg, the cabinet carries {cylinder.load:g} kg"
    if (
        cylinder is not None
        and part.task.material is not None
        and part.path * part.task.density / STEEL_DENSITY > cylinder.through
    ):
        steel = part.path * part.task.density / STEEL_DENSITY
        return f"the beam passes {part.path:.0f} mm of the part, as much as {steel:.0f} mm of steel; the cabinet sees through {cylinder.through:g} mm"
    if table is not None and mass > table.load:
        return f"the part weighs {mass:.1f} kg, the turntable carries {table.load:g} kg"
    if table is not None and size[2] > 1.5 * table.diameter:
        return f"the part is {size[2]:.0f} mm long, the turntable has \u00d8{table.diameter:.0f} mm"
    return ""


def _minutes(part: _Part, aim: Aim, model: InstrumentModel, chain: ErrorChain, mode: Mode) -> float:
    area = area_of(part.nominal, aim.faces)
    fixed = chain.setup_minutes + model.calibration_minutes
    if mode.pattern == "touch":
        faces = len(aim.faces) or min(len(part.nominal.faces), 40)
        return fixed + PROBED_POINTS * faces / mode.rate / 60
    spacing = float(np.clip(part.spacings[aim.id], *mode.spacing))
    return fixed + estimate([(area, spacing)], model, mode).total


@dataclass(frozen=True)
class Crossing:
    """Where two chains are equally good: length in mm and error in mm; below it the first is better."""

    first: str
    second: str
    length: float
    error: float


@dataclass(frozen=True, eq=False)
class ChainChart:
    """Length error over length of several chains.

    Parameters
    ----------
    names : tuple of str
    chains : tuple of ErrorChain
    ticks : tuple of (id, length in mm, error at which a chain is just good in mm)
        The characteristics.
    crossings : tuple of Crossing
    longest : float
        Right end of the axis, mm.
    """

    names: tuple[str, ...]
    chains: tuple[ErrorChain, ...]
    ticks: tuple[tuple[str, float, float], ...]
    crossings: tuple[Crossing, ...]
    longest: float

    def sentences(self, table: SuitabilityTable) -> tuple[str, ...]:
        """What the chart says, in words: crossings, and what bars change at the longest characteristic."""
        words = [
            f"up to {c.length / 1000:.2f} m {c.first} is better, beyond it {c.second} ({c.error:.3f} mm there)"
            for c in self.crossings
        ]
        return (*words, *_what_bars_bring(table, self))


def chain_chart(table: SuitabilityTable, models: Sequence[InstrumentModel]) -> ChainChart:
    """The chart of the chains that measure surfaces, with all crossing points."""
    pairs = [
        (f"{model.name}, {chain.name}", chain)
        for model in models
        if model.kind not in (Kind.PROJECTOR, Kind.PHOTO)
        for chain in model.chains
    ]
    ticks: dict[str, tuple[str, float, float]] = {}
    for row in table.rows:
        ticks.setdefault(row.aim.id, (row.aim.id, row.length, row.aim.width_over(row.length) / 2 / 5 * np.sqrt(3) / 2))
    longest = 1.15 * max((t[1] for t in ticks.values()), default=1000.0)
    crossings = []
    for (name, one), (other, two) in combinations(pairs, 2):
        if one.b == two.b:
            continue
        length = 1000 * (two.a - one.a) / (one.b - two.b)
        if 0 < length <= min(longest, one.longest, two.longest):
            ahead = (name, other) if one.a < two.a else (other, name)
            crossings.append(Crossing(*ahead, float(length), float(one.error(length))))
    crossings.sort(key=lambda c: c.length)
    return ChainChart(
        tuple(n for n, _ in pairs), tuple(c for _, c in pairs), tuple(ticks.values()), tuple(crossings), longest
    )


def _what_bars_bring(table: SuitabilityTable, chart: ChainChart) -> tuple[str, ...]:
    """The sentence about scale bars for each instrument that can do with and without them."""
    words = []
    for instrument in dict.fromkeys(row.instrument for row in table.rows):
        mine = {
            name: chain
            for name, chain in zip(chart.names, chart.chains, strict=True)
            if name.startswith(f"{instrument}, ")
        }
        plain = next((c for c in mine.values() if c.needs in ("nothing", "tracker")), None)
        barred = next((c for c in mine.values() if c.needs == "bars"), None)
        if plain is None or barred is None:
            continue
        length = max(row.length for row in table.rows)
        before, after = plain.error(length), barred.error(length)
        bad = [r.aim.id for r in table.of_chain(instrument, plain.name) if r.verdict is Fitness.NOT_SUITABLE]
        lost = [
            r.aim.id
            for r in table.of_chain(instrument, barred.name)
            if r.verdict is not Fitness.NOT_SUITABLE and r.aim.id in bad
        ]
        turn = "falls" if after < before else "does not fall: it goes"
        words.append(
            f"{instrument}: with bars the length error at {length / 1000:.2f} m {turn} from {before:.3f} to {after:.3f} mm"
        )
        if lost:
            which = f"characteristic {lost[0]} is" if len(lost) == 1 else f"characteristics {', '.join(lost)} are"
            words.append(f"without bars, {which} not suitable for {instrument}")
    return tuple(words)
