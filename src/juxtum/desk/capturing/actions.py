"""What can be done in Capture."""

from __future__ import annotations

from typing import TYPE_CHECKING

from juxtum.desk.action import Action
from juxtum.desk.capturing.ways import Way
from juxtum.guide.findings import Key

if TYPE_CHECKING:
    from juxtum.desk.stations.capture import CaptureStation

SCANNING = (Way.SCAN, Way.PRACTICE)


def capture_actions(station: CaptureStation) -> tuple[Action, ...]:
    """The scanner first, then the other devices."""
    return (*_scanner(station), *_patches(station), *_others(station))


def _scanner(station: CaptureStation) -> tuple[Action, ...]:
    at, place, scanner = Key.CAPTURE, "Job/Capture/1", station.scanner

    def is_live() -> bool:
        return station.is_live

    def has_targets() -> bool:
        return station.planner is not None and bool(station.planner.plan.targets)

    return (
        Action(
            "connect device",
            "Connect the scanner",
            place,
            station.link.connect_device,
            "",
            "scan-line",
            "",
            has_targets,
            at=at,
            ways=SCANNING,
        ),
        Action(
            "reconnect device", "Connect the scanner again", place, station.link.reconnect, "", "scan-line", "", is_live
        ),
        Action(
            "disconnect device",
            "Disconnect the scanner",
            place,
            station.scanner.disconnect_device,
            "",
            "x",
            "What was captured stays",
            is_live,
        ),
        Action(
            "hold scanner",
            "Hold the scanner, or put it down",
            place,
            station.scanner.hold_scanner,
            "H",
            "crosshair",
            "",
            is_live,
        ),
        Action(
            "run plan path",
            "Let the plan run, or stop it",
            place,
            station.scanner.run_plan,
            "",
            "move-3d",
            "",
            has_targets,
            at=at,
            ways=SCANNING,
        ),
        Action(
            "pause capture", "Pause the scanner, or go on", place, scanner.pause, "Space", "circle-stop", "", is_live
        ),
    )


def _patches(station: CaptureStation) -> tuple[Action, ...]:
    place, scanner = "Job/Capture/1", station.scanner

    def is_live() -> bool:
        return station.is_live

    def has_patches() -> bool:
        return is_live() or (station.session.job.capture is not None and bool(station.session.job.capture.patches))

    def is_done() -> bool:
        return not is_live() and station.session.job.capture is not None

    return (
        Action("new patch", "New patch", place, scanner.new_patch, "Ctrl+Return", "plus", "", is_live),
        Action(
            "stop patch",
            "Stop the patch",
            place,
            station.scanner.stop_patch,
            "Ctrl+Shift+Return",
            "circle-stop",
            "It is kept",
            is_live,
        ),
        Action("turn part over", "The part is turned over", place, scanner.turn_over, "", "undo-2", "", is_live),
        Action("less light", "Less light", place, lambda: scanner.change_exposure(-1), ",", "", "", is_live),
        Action("more light", "More light", place, lambda: scanner.change_exposure(1), ".", "", "", is_live),
        Action("next mode", "Next mode of the scanner", place, scanner.next_mode, "J", "", "", is_live),
        Action(
            "use capture",
            "Create surface from patches",
            place,
            station.scanner.use_capture,
            "",
            "layers",
            "One surface of all patches",
            has_patches,
        ),
        Action(
            "new capture",
            "Start a new capture",
            place,
            station.scanner.start_anew,
            "",
            "",
            "The one of the job goes; it can be undone",
            is_done,
        ),
    )


def _others(station: CaptureStation) -> tuple[Action, ...]:
    at, place, panels = Key.CAPTURE, "Job/More devices/1", station.devices
    photos, probe, table, tray, practice = panels.photos, panels.probe, panels.table, panels.tray, panels.practice

    def has_part() -> bool:
        return station.derived.part is not None

    def has_photos() -> bool:
        return photos.walk is not None and len(photos.walk.photos) > 0

    def has_tray() -> bool:
        return tray.scan is not None

    return (
        Action(
            "take photo", "Take the next photo", place, photos.take_next, enabled=has_part, at=at, ways=(Way.PHOTOS,)
        ),
        Action(
            "adjust photos",
            "Adjust the photos together",
            place,
            photos.adjust,
            enabled=has_photos,
            at=at,
            ways=(Way.PHOTOS,),
        ),
        Action(
            "give photo map",
            "Give the photos' targets to the scanner",
            place,
            photos.give_map,
            enabled=has_photos,
            at=at,
            ways=(Way.PHOTOS,),
        ),
        Action("touch point", "Touch the next point", place, probe.touch, enabled=has_part, at=at, ways=(Way.PROBE,)),
        Action(
            "next feature",
            "Probe the next feature",
            place,
            probe.choose_next,
            enabled=has_part,
            at=at,
            ways=(Way.PROBE,),
        ),
        Action("shoot turn", "Shoot the next turn", place, table.shoot, enabled=has_part, at=at, ways=(Way.TABLE,)),
        Action(
            "shoot whole turn",
            "Shoot the whole turn",
            place,
            table.shoot_all,
            enabled=has_part,
            at=at,
            ways=(Way.TABLE,),
        ),
        Action("scan tray", "Scan the tray", place, tray.scan_it, enabled=has_part, at=at, ways=(Way.TRAY,)),
        Action(
            "save tray",
            "Save the tray's cloud\u2026",
            place,
            tray.save_cloud,
            enabled=has_tray,
            at=at,
            ways=(Way.TRAY,),
        ),
        Action(
            "start exercise", "Start the exercise", place, practice.start, enabled=has_part, at=at, ways=(Way.PRACTICE,)
        ),
        Action(
            "finish exercise",
            "Finish the exercise",
            place,
            practice.finish,
            enabled=lambda: practice.is_running,
            at=at,
            ways=(Way.PRACTICE,),
        ),
        Action(
            "practise",
            "Practise",
            "Job/Capture/1",
            lambda: None,
            "",
            "sparkles",
            "Exercises with a debrief",
            has_part,
            at=at,
            ways=(Way.PRACTICE,),
        ),
    )
