"""What a part stands on: equipment that suits it, the ways to go with it, and the plan that goes one."""

from __future__ import annotations

from dataclasses import replace

from juxtum.errors import InputError
from juxtum.instruments.equipment import Equipment, EquipmentKind, shipped_equipment
from juxtum.plan.document import Plan
from juxtum.plan.planner import Planner
from juxtum.plan.targets.gear import smallest_that_suits, unsuited
from juxtum.plan.targets.places import PlacementRules
from juxtum.plan.targets.ways import Bases, Way, WayResult, compare_ways
from juxtum.progress import Progress


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
    offered = [e for e in shipped_equipment() if e.kind is EquipmentKind.PLATE]
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
