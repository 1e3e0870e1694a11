"""What a part stands on: equipment that suits it, the ways to go with it, and the plan that goes one."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from juxtum.errors import InputError
from juxtum.instruments.equipment import Equipment, EquipmentKind, shipped_equipment
from juxtum.plan.document import Plan
from juxtum.plan.planner import Planner
from juxtum.plan.targets.gear import smallest_that_suits, unsuited
from juxtum.plan.targets.places import PlacementRules
from juxtum.plan.targets.ways import Bases, Way, WayResult, compare_ways
from juxtum.plan.turntable import symmetry_warnings
from juxtum.progress import Progress

REACH_APART = 0.01
"""Equipment may reach so much less of the area than targets on the part."""
SURER_BY = 1.5
"""Targets on the part are stuck although there is equipment where U is so many times smaller with them."""


def without_equipment(planner: Planner) -> Planner:
    """The same with nothing but targets on the part."""
    return replace(planner, plan=planner.plan.model_copy(update={"equipment": (), "joined": "by targets"}))


def ways(planner: Planner, progress: Progress | None = None) -> tuple[WayResult, ...]:
    """All on equipment, equipment and a few on the part, on the part, none."""
    bare = without_equipment(planner).ground()
    items, why = equipment_for_ways(planner)
    tied, joined = (
        planner.grounds.with_gear(bare, items, joined_by_shape=flag) if items else None for flag in (False, True)
    )
    rules: PlacementRules | InputError
    try:
        rules = without_equipment(planner).rules()
    except InputError as problem:
        rules = problem
    return compare_ways(Bases(bare, tied, joined, why), rules, planner.plan.goal, planner.error, progress)


def equipment_for_ways(planner: Planner) -> tuple[tuple[Equipment, ...], str]:
    """The plan's equipment, or the smallest plate that suits; and why there is none."""
    mass, stance = planner.task.mass(planner.nominal), planner.plan.stance
    if planner.model.tracker is not None:
        return (), "a tracked scanner needs none"
    if planner.plan.equipment:
        return planner.plan.equipment, ""
    plates = [e for e in planner.owned.offered_equipment(shipped_equipment()) if e.kind is EquipmentKind.PLATE]
    offered = [e for e in plates if planner.owned.has(e)] or plates
    plate = smallest_that_suits(offered, planner.nominal, stance, mass)
    if plate is not None:
        return (plate,), ""
    return (), unsuited(max(offered, key=lambda e: e.size[0]), planner.nominal, stance, mass)


def unsuited_for(planner: Planner, item: Equipment) -> str:
    """Why the part cannot stand on equipment, in words; empty when it can."""
    return unsuited(item, planner.nominal, planner.plan.stance, planner.task.mass(planner.nominal))


def check_equipment(planner: Planner, items: tuple[Equipment, ...]) -> None:
    """See that the part can stand on equipment.

    Raises
    ------
    InputError
        Saying why it cannot.
    """
    for item in items:
        if why := unsuited_for(planner, item):
            raise InputError(why, "equipment", "Choose other equipment")
    if sum(item.is_under for item in items) > 1:
        raise InputError("a part stands on one plate or turntable", "equipment", "Take one of them away")


def with_equipment(planner: Planner, items: tuple[Equipment, ...], progress: Progress | None = None) -> Plan:
    """The plan with other equipment and the targets that are wanted besides, and what it promises."""
    check_equipment(planner, items)
    joined = planner.plan.joined if items else "by targets"
    there = replace(planner, plan=planner.plan.model_copy(update={"equipment": items, "joined": joined}))
    return there.edited(()) if joined == "by shape" else there.planned(progress)


def with_way(planner: Planner, way: WayResult) -> Plan:
    """The plan that goes this way, and what it promises."""
    joined = "by shape" if way.way is Way.EQUIPMENT else "by targets"
    plan = planner.plan.model_copy(update={"equipment": way.equipment, "joined": joined})
    return replace(planner, plan=plan).edited(way.targets)


def planned_first(planner: Planner, progress: Progress | None = None) -> Plan:
    """Targets planned anew; a plan that has none yet stands on equipment that the shop has, where that is surest.

    Permanent targets cost nothing to stick, so equipment comes before targets on the part (metrology.md 10). Of the ways
    with it the one is gone whose U is the smallest of those that reach what is wanted as well as targets on the part.
    """
    if planner.plan.is_tracked or planner.plan.equipment or planner.plan.placed:
        return planner.planned(progress)
    if not planner.owned.equipment:
        return _planned_somewhere(planner, progress)
    found = {way.way: way for way in ways(planner, progress) if way.is_possible}
    part = found.get(Way.PART)
    enough = min(planner.plan.goal, 1.0 if part is None else part.share) - REACH_APART
    # A shape that a turn brings onto itself ties nothing, whatever the fit says.
    tried = (Way.BOTH,) if symmetry_warnings(planner.nominal) else (Way.EQUIPMENT, Way.BOTH)
    mine = [found[w] for w in tried if w in found and found[w].share >= enough]
    mine = [w for w in mine if np.isfinite(w.expanded) and all(planner.owned.has(e) for e in w.equipment)]
    if not mine:
        return planner.planned(progress)
    best = min(mine, key=lambda w: w.expanded)
    if part is not None and part.expanded < best.expanded / SURER_BY:
        return with_way(planner, part)
    return with_way(planner, best)


def _planned_somewhere(planner: Planner, progress: Progress | None) -> Plan:
    """Targets on the part; where it has no room for them, as one of 5 mm has, the part on equipment."""
    try:
        return planner.planned(progress)
    except InputError:
        if planner.plan.target_spacing is not None:
            # What somebody typed is theirs to change.
            raise
        on = next((w for w in ways(planner, progress) if w.way is Way.EQUIPMENT and w.is_possible), None)
        if on is None:
            raise
        return with_way(planner, on)
