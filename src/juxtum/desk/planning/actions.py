"""What can be done in Plan."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from juxtum.desk.action import Action
from juxtum.desk.planning.topics import Topic
from juxtum.guide.findings import Key

if TYPE_CHECKING:
    from juxtum.desk.stations.plan import PlanStation


def plan_actions(station: PlanStation) -> tuple[Action, ...]:
    """Targets, topics, the instrument and the set-up sheet."""
    edits, papers = station.edits, station.papers

    def has_part() -> bool:
        return station.derived.part is not None

    def has_targets() -> bool:
        return has_part() and bool(station.plan.targets)

    def is_planned() -> bool:
        return has_part() and station.plan.is_tracked

    def has_chosen() -> bool:
        return station.is_here and station.selected_target is not None

    def has_scan_alone() -> bool:
        return station.derived.scan is not None and station.derived.nominal is None

    def topic(wanted: Topic) -> Callable[[], None]:
        return lambda: station.show_topic(wanted)

    at = Key.PLAN
    return (
        Action("plan targets", "Plan the targets", "Job/Plan/1", edits.plan_all, "Ctrl+Shift+T", "crosshair", "Locked ones stay", has_part, at=at),
        Action("plan on scan", "Plan on the scan", "Job/Plan/1", station.plan_on_scan, "", "scan-line", "Where there is no nominal yet", has_scan_alone, at=at),
        Action("improve targets", "Improve the targets that are placed", "Job/Plan/1", edits.improve, "", "sparkles", "Locked ones stay", has_targets, at=at),
        Action("add suggested", "Add the suggested target", "Job/Plan/1", edits.add_suggested, "Ctrl+Shift+A", "plus", "", has_targets),
        Action("delete target", "Delete the chosen target", "Job/Plan/1", edits.delete, "Del", "x", "", has_chosen),
        Action("lock target", "Lock or free the chosen target", "Job/Plan/1", edits.lock, "K", "anchor", "", has_chosen),
        Action("pick allowed", "Pick faces that may carry targets", "Job/Plan/1", station.picking.begin_allowing, "", "crosshair", "", has_part, at=at),
        Action("use best chain", "Use the best method of the scanner", "Job/Plan/2", station.use_best_chain, "", "ruler", "", has_part),
        Action("next topic", "Next topic of the plan", "Job/Plan/2", station.next_topic, "Ctrl+Shift+Right", "arrow-right", "", lambda: station.is_here),
        *(
            Action(f"go {each.value.lower()}", f"Plan: {each.value.lower()}", "Job/Plan/3", topic(each), "", "arrow-right", at=at)
            for each in Topic
        ),
        Action("write setup sheet", "Write the set-up sheet\u2026", "File/4", papers.ask_sheet, "Ctrl+Shift+P", "file-text",
               "Targets and order of work for the shop floor", is_planned),
        Action("load targets", "Load targets\u2026", "File/5", papers.ask_targets, "", "import", "A list: name, X, Y, Z in part coordinates", has_part),
        Action("load equipment", "Load equipment\u2026", "File/5", papers.ask_equipment, "", "import", "A plate, a turntable or a block", has_part),
        Action("load instrument", "Load an instrument\u2026", "File/5", papers.ask_instrument, "", "import", "An instrument document", has_part),
        Action("save instrument", "Save a copy of the instrument\u2026", "File/5", papers.ask_instrument_copy, "", "save", "To be edited", has_part),
    )  # fmt: skip
