"""Every user action as a datum: menus, palette, shortcuts, tests and the help's list of keys read this one list."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from juxtum.desk.planning.topics import Topic
from juxtum.desk.stations.findings import Key, loose_pieces
from juxtum.scene.camera import View

if TYPE_CHECKING:
    from juxtum.desk.window import MainWindow


def _always(window: MainWindow) -> bool:
    return True


@dataclass(frozen=True)
class Action:
    """Something that a user can do.

    Parameters
    ----------
    menu : str
        Menu it stands in, and after a slash the group within the menu.
    enabled : callable
        Whether it makes sense now.
    """

    id: str
    title: str
    menu: str
    run: Callable[[MainWindow], None]
    key: str = ""
    icon: str = ""
    tip: str = ""
    enabled: Callable[[MainWindow], bool] = _always
    checked: Callable[[MainWindow], bool] | None = None


def _has_map(w: MainWindow) -> bool:
    return w.session.derived.evaluation is not None


def _has_scan(w: MainWindow) -> bool:
    return w.session.derived.scan is not None


def _has_both(w: MainWindow) -> bool:
    return _has_scan(w) and w.session.derived.nominal is not None


def _has_nominal(w: MainWindow) -> bool:
    return w.session.derived.part is not None


def _has_targets(w: MainWindow) -> bool:
    return _has_nominal(w) and bool(w.plan.plan.targets)


def _has_chosen(w: MainWindow) -> bool:
    return w.station is w.plan and w.plan.selected_target is not None


def _has_photos(w: MainWindow) -> bool:
    return w.going.has_photos


def _has_tray(w: MainWindow) -> bool:
    return w.going.has_tray


def _is_practising(w: MainWindow) -> bool:
    return w.going.is_practising


def _is_live(w: MainWindow) -> bool:
    return w.capture.is_live


def _topic(name: str) -> Callable[[MainWindow], None]:
    return lambda w: w.plan.turn_to(Topic(name))


def _go(key: Key) -> Callable[[MainWindow], None]:
    return lambda w: w.go(key)


def _view(view: View) -> Callable[[MainWindow], None]:
    return lambda w: w.view.look_from(view)


FILE = (
    Action("new", "New job", "File/1", lambda w: w.bringing.new_job(), "Ctrl+N", "file-plus", "Start with nothing"),
    Action("open", "Open job\u2026", "File/1", lambda w: w.bringing.ask_open(), "Ctrl+O", "folder-open", "Open a .juxtum file"),
    Action("open demo", "Open the demo job", "File/1", lambda w: w.bringing.open_demo(), "", "sparkles", "BC-220 bearing carrier with its scan"),
    Action("open demo beam", "Open the demo beam", "File/1", lambda w: w.bringing.open_demo("HB-36"), "", "sparkles", "HB-36 sluice hinge beam, to be planned"),
    Action("save", "Save", "File/2", lambda w: w.bringing.save(), "Ctrl+S", "save", "Save the job into its file"),
    Action("save as", "Save as\u2026", "File/2", lambda w: w.bringing.ask_save(), "Ctrl+Shift+S", "save"),
    Action("export procedure", "Export the procedure\u2026", "File/2", lambda w: w.bringing.ask_procedure(), "", "scroll-text",
           "Steps as JSON, to be replayed on other scans", lambda w: w.session.derived.nominal is not None),
    Action("bring nominal", "Import CAD model\u2026", "File/3", lambda w: w.bringing.ask_nominal(), "Ctrl+Shift+N", "import",
           "STEP, IGES, STL, PLY, OBJ, OFF or 3MF"),
    Action("bring scan", "Import scan\u2026", "File/3", lambda w: w.bringing.ask_scan(), "Ctrl+Shift+I", "scan-line", "STL, PLY, OBJ, 3MF, OFF, XYZ or CSV"),
    Action("add scan", "Add another scan\u2026", "File/3", lambda w: w.bringing.ask_further_scan(), "", "scan-line",
           "Beside the scan in force; the procedure is then carried out on it", lambda w: bool(w.session.job.scans)),
    Action("write report", "Write the report\u2026", "File/4", lambda w: w.bringing.ask_report(), "Ctrl+P", "file-text",
           "PDF, tables and the coloured scan", _has_map),
    Action("write setup sheet", "Write the set-up sheet\u2026", "File/4", lambda w: w.bringing.ask_sheet(), "Ctrl+Shift+P", "file-text",
           "Targets and order of work for the shop floor", _has_targets),
    Action("load instrument", "Load an instrument\u2026", "File/5", lambda w: w.bringing.ask_instrument(), "", "import", "An instrument document",
           _has_nominal),
    Action("save instrument", "Save a copy of the instrument\u2026", "File/5", lambda w: w.bringing.ask_instrument_copy(), "", "save", "To be edited",
           _has_nominal),
    Action("quit", "Quit", "File/9", lambda w: w.close(), "Ctrl+Q", ""),
)  # fmt: skip
EDIT = (
    Action("undo", "Undo", "Edit/1", lambda w: w.session.undo(), "Ctrl+Z", "undo-2", "",
           lambda w: w.session.timeline.undo_label is not None),
    Action("redo", "Redo", "Edit/1", lambda w: w.session.redo(), "Ctrl+Shift+Z", "redo-2", "",
           lambda w: w.session.timeline.redo_label is not None),
    Action("copy ledger", "Copy the ledger", "Edit/2", lambda w: w.help.copy_ledger(), "Ctrl+Shift+C", "table-2", "Pastes into a spreadsheet",
           lambda w: bool(w.session.job.procedure.characteristics)),
    Action("stop", "Stop what is running", "Edit/3", lambda w: w.session.workbench.cancel(), "Ctrl+.", "circle-stop",
           "The job stays as it was", lambda w: w.session.workbench.is_busy),
    Action("let go", "Let go", "Edit/3", lambda w: w.let_go(), "Esc", "x", "End picking or drawing"),
)  # fmt: skip
JOB = (
    *(
        Action(f"go {key}", f"Go to {key.title}", "Job/1", _go(key), f"Ctrl+{number}", "arrow-right")
        for number, key in enumerate(Key, 1)
    ),
    Action("add whole profile", "Add the profile of the whole part", "Job/Brief/1", lambda w: w.add_whole_profile(), "", "plus", "",
           lambda w: w.session.derived.nominal is not None),
    Action("plan targets", "Plan the targets", "Job/Plan/1", lambda w: w.plan.edits.plan_all(), "Ctrl+Shift+T", "crosshair", "Locked ones stay", _has_nominal),
    Action("plan on scan", "Plan on the scan", "Job/Plan/1", lambda w: w.plan.plan_on_scan(), "", "scan-line", "Where there is no nominal yet",
           lambda w: _has_scan(w) and w.session.derived.nominal is None),
    Action("improve targets", "Improve the targets that are placed", "Job/Plan/1", lambda w: w.plan.edits.improve(), "", "sparkles", "Locked ones stay",
           _has_targets),
    Action("add suggested", "Add the suggested target", "Job/Plan/1", lambda w: w.plan.edits.add_suggested(), "Ctrl+Shift+A", "plus", "", _has_targets),
    Action("delete target", "Delete the chosen target", "Job/Plan/1", lambda w: w.plan.edits.delete(), "Del", "x", "", _has_chosen),
    Action("lock target", "Lock or free the chosen target", "Job/Plan/1", lambda w: w.plan.edits.lock(), "K", "anchor", "", _has_chosen),
    Action("pick allowed", "Pick faces that may carry targets", "Job/Plan/1", lambda w: w.plan.begin_allowing(), "", "crosshair", "", _has_nominal),
    Action("use best chain", "Use the best chain of the scanner", "Job/Plan/2", lambda w: w.plan.use_best_chain(), "", "ruler", "", _has_nominal),
    Action("next topic", "Next topic of the plan", "Job/Plan/2", lambda w: w.plan.next_topic(), "Ctrl+Shift+Right", "arrow-right", "",
           lambda w: w.station is w.plan),
    *(
        Action(f"go {topic.value.lower()}", f"Plan: {topic.value.lower()}", "Job/Plan/3", _topic(topic.value), "", "arrow-right") for topic in Topic
    ),
    Action("tick next", "Tick the next thing off the list", "Job/Ready/1", lambda w: w.ready.tick_next(), "", "", "", lambda w: w.station is w.ready),
    Action("calibrate", "Calibrate", "Job/Ready/1", lambda w: w.going.begin_calibrating(), "", "ruler", "Guided by poses before the board", _has_nominal),
    Action("check artefact", "Check on an artefact", "Job/Ready/1", lambda w: w.going.begin_checking(), "", "ruler", "Size and length", _has_nominal),
    Action("connect device", "Connect the scanner", "Job/Capture/1", lambda w: w.going.capturing(w.capture.connect_device), "", "scan-line", "", _has_targets),
    Action("reconnect device", "Connect the scanner again", "Job/Capture/1", lambda w: w.capture.reconnect(), "", "scan-line", "", _is_live),
    Action("disconnect device", "Disconnect the scanner", "Job/Capture/1", lambda w: w.capture.disconnect_device(),
           "", "x", "What was captured stays", _is_live),
    Action("hold scanner", "Hold the scanner, or put it down", "Job/Capture/1", lambda w: w.capture.hold_scanner(), "H", "crosshair", "", _is_live),
    Action("run plan path", "Let the plan run, or stop it", "Job/Capture/1", lambda w: w.going.capturing(w.capture.run_plan), "", "move-3d", "", _has_targets),
    Action("pause capture", "Pause the scanner, or go on", "Job/Capture/1", lambda w: w.capture.scanner.pause(), "Space", "circle-stop", "", _is_live),
    Action("new patch", "New patch", "Job/Capture/1", lambda w: w.capture.scanner.new_patch(), "Ctrl+Return", "plus", "", _is_live),
    Action("stop patch", "Stop the patch", "Job/Capture/1", lambda w: w.capture.stop_patch(), "Ctrl+Shift+Return", "circle-stop", "It is kept", _is_live),
    Action("turn part over", "The part is turned over", "Job/Capture/1", lambda w: w.capture.scanner.turn_over(), "", "undo-2", "", _is_live),
    Action("less light", "Less light", "Job/Capture/1", lambda w: w.capture.scanner.change_exposure(-1), ",", "", "", _is_live),
    Action("more light", "More light", "Job/Capture/1", lambda w: w.capture.scanner.change_exposure(1), ".", "", "", _is_live),
    Action("next mode", "Next mode of the scanner", "Job/Capture/1", lambda w: w.capture.scanner.next_mode(), "J", "", "", _is_live),
    Action("use capture", "Create surface from patches", "Job/Capture/1", lambda w: w.capture.use_capture(), "", "layers", "One surface of all patches",
           lambda w: _is_live(w) or (w.session.job.capture is not None and bool(w.session.job.capture.patches))),
    Action("take photo", "Take the next photo", "Job/More devices/1", lambda w: w.going.by_photos(), "", "", "", _has_nominal),
    Action("adjust photos", "Adjust the photos together", "Job/More devices/1", lambda w: w.going.adjust_photos(), "", "", "", _has_photos),
    Action("give photo map", "Give the photos' targets to the scanner", "Job/More devices/1", lambda w: w.going.give_photo_map(), "", "", "", _has_photos),
    Action("touch point", "Touch the next point", "Job/More devices/1", lambda w: w.going.by_probe(), "", "", "", _has_nominal),
    Action("next feature", "Probe the next feature", "Job/More devices/1", lambda w: w.going.next_feature(), "", "", "", _has_nominal),
    Action("shoot turn", "Shoot the next turn", "Job/More devices/1", lambda w: w.going.shoot_turn(), "", "", "", _has_nominal),
    Action("shoot whole turn", "Shoot the whole turn", "Job/More devices/1", lambda w: w.going.shoot_whole_turn(), "", "", "", _has_nominal),
    Action("scan tray", "Scan the tray", "Job/More devices/1", lambda w: w.going.scan_tray(), "", "", "", _has_nominal),
    Action("save tray", "Save the tray's cloud\u2026", "Job/More devices/1", lambda w: w.going.save_tray(), "", "", "", _has_tray),
    Action("new capture", "Start a new capture", "Job/Capture/1", lambda w: w.capture.start_anew(), "", "", "The one of the job goes; it can be undone",
           lambda w: not _is_live(w) and w.session.job.capture is not None),
    Action("start exercise", "Start the exercise", "Job/More devices/1", lambda w: w.going.start_exercise(), "", "", "", _has_nominal),
    Action("finish exercise", "Finish the exercise", "Job/More devices/1", lambda w: w.going.finish_exercise(), "", "", "", _is_practising),
    Action("practise", "Practise", "Job/Capture/1", lambda w: w.going.begin_practice(), "", "sparkles", "Exercises with a debrief", _has_nominal),
    Action("trim table", "Trim off the table", "Job/Assemble/1", lambda w: w.assemble.trim_table(), "Ctrl+T", "scissors", "",
           lambda w: w.session.derived.table is not None),
    Action("drop pieces", "Remove loose fragments", "Job/Assemble/1", lambda w: w.assemble.drop_pieces(), "Ctrl+D", "sparkles", "",
           lambda w: loose_pieces(w.session.derived) > 0),
    Action("next pose", "Take the next pose that fits", "Job/Align/1", lambda w: w.align.next_pose(), "", "", "Where the shape fits in more than one",
           lambda w: _has_map(w) and bool(w.session.derived.evaluation.alignment.alternatives)),
    Action("align automatically", "Align automatically", "Job/Align/1", lambda w: w.align.automatic(), "Ctrl+L", "move-3d", "Rough, then best fit", _has_both),
    Action("pick pairs", "Pick pairs", "Job/Align/1", lambda w: w.going.begin_pairs(), "", "crosshair", "", _has_both),
    Action("pick datums", "Pick datums", "Job/Align/1", lambda w: w.going.begin_datums(), "Ctrl+Shift+D", "anchor", "", _has_both),
    Action("pin readings", "Pin readings", "Job/Measure/1", lambda w: w.going.begin_pinning(), "P", "map-pin-plus", "", _has_map),
    Action("pin worst", "Pin a reading at the worst place", "Job/Measure/1", lambda w: w.going.pin_worst(), "Shift+P", "pin", "", _has_map),
    Action("toggle rule", "Switch between simple and guarded acceptance", "Job/Measure/2", lambda w: w.toggle_rule(), "", "ruler"),
    Action("next frame", "Next frame", "Job/Measure/2", lambda w: w.next_frame(), "Ctrl+Tab", "git-compare-arrows", "Recolours map and ledger",
           lambda w: len(w.session.job.procedure.alignments) > 1),
)  # fmt: skip
VIEW = (
    Action("fit", "Fit", "View/1", lambda w: w.view.fit(), "F", "maximize", "Show everything"),
    Action("view corner", "From the corner", "View/2", _view(View.CORNER), "0"),
    Action("view front", "Front", "View/2", _view(View.FRONT), "1"),
    Action("view back", "Back", "View/2", _view(View.BACK), "2"),
    Action("view left", "Left", "View/2", _view(View.LEFT), "3"),
    Action("view right", "Right", "View/2", _view(View.RIGHT), "4"),
    Action("view top", "Top", "View/2", _view(View.TOP), "5"),
    Action("view below", "Below", "View/2", _view(View.BELOW), "6"),
    Action("section", "Section plane", "View/3", lambda w: w.controls.toggle_section(), "X", "slice", "Look inside",
           checked=lambda w: w.controls.section_is_on),
    Action("nominal", "Nominal: shown, see-through, hidden", "View/3", lambda w: w.controls.cycle_nominal(), "N", "eye", "", _has_map),
    Action("data", "Scan: shown, see-through, hidden", "View/3", lambda w: w.controls.cycle_data(), "M", "layers", "", _has_map),
    Action("ledger", "Ledger", "View/4", lambda w: w.toggle_ledger(), "F9", "panel-bottom", checked=lambda w: w.ledger.isVisible()),
    Action("marks only", "Route as marks only", "View/4", lambda w: w.toggle_route(), "F8", "panel-left", checked=lambda w: w.route.is_narrow),
    Action("floor view", "Floor view", "View/5", lambda w: w.toggle_floor(), "F11", "maximize", "Dial, coverage, targets and the part, seen from far",
           checked=lambda w: w.is_floor),
    Action("floor sizes", "Floor-readable sizes", "View/5", lambda w: w.appearance.toggle_sizes(), "Shift+F11", "type", "Larger text",
           checked=lambda w: w.appearance.is_large),
    Action("dark", "Dark look", "View/5", lambda w: w.appearance.toggle_look(), "", "moon", "For dim halls", checked=lambda w: w.appearance.is_dark),
)  # fmt: skip
TOOLS = (
    Action("palette", "Find an action", "Tools/1", lambda w: w.show_palette(), "Ctrl+K", "search", "Type a few letters of what you want"),
    Action("compare", "Compare frames", "Tools/2", lambda w: w.go(Key.ALIGN), "", "git-compare-arrows", "",
           lambda w: w.session.derived.comparison is not None),
)  # fmt: skip
HELP = (
    Action("first steps", "First steps", "Help/1", lambda w: w.help.start_first_steps(), "F1", "circle-help", "The stations in three minutes"),
    Action("method", "Method", "Help/2", lambda w: w.help.show_method(), "Shift+F1", "info", "Formula and reference of the numbers on this page"),
    Action("keys", "Keys", "Help/2", lambda w: w.help.show_keys(), "", "keyboard"),
    Action("log", "Show log", "Help/3", lambda w: w.help.show_log(), "", "scroll-text"),
    Action("about", "About Juxtum", "Help/4", lambda w: w.help.show_about(), "", "info"),
)  # fmt: skip
ACTIONS: tuple[Action, ...] = (*FILE, *EDIT, *JOB, *VIEW, *TOOLS, *HELP)
MENUS = ("File", "Edit", "Job", "View", "Tools", "Help")
