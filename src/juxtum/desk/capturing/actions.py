"""What can be done in Capture."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from juxtum.desk.action import Action
from juxtum.desk.capturing.ways import Way
from juxtum.guide.findings import Key

if TYPE_CHECKING:
    from juxtum.desk.stations.capture import CaptureStation

PLACE, DEVICES = "Job/Capture/1", "Job/More devices/1"
SCANNING = (Way.SCAN, Way.PRACTICE)


def capture_actions(station: CaptureStation) -> tuple[Action, ...]:
    """The scanner first, then the other devices."""
    return (*_scanner(station), *_patches(station), *_devices(station), *_practice(station))


def _scanner(station: CaptureStation) -> tuple[Action, ...]:
    scanner, link = station.scanner, station.link

    def has_targets() -> bool:
        return station.planner is not None and station.planner.plan.is_tracked

    live = partial(Action, menu=PLACE, enabled=lambda: station.is_live)
    planned = partial(Action, menu=PLACE, enabled=has_targets, at=Key.CAPTURE, ways=SCANNING)
    return (
        planned("connect device", "Connect the scanner", run=link.connect_device, icon="scan-line"),
        live("reconnect device", "Connect the scanner again", run=link.reconnect, icon="scan-line"),
        live(
            "disconnect device",
            "Disconnect the scanner",
            run=scanner.disconnect_device,
            icon="x",
            tip="What was captured stays",
        ),
        live("hold scanner", "Hold the scanner, or put it down", run=scanner.hold_scanner, key="H", icon="crosshair"),
        planned("run plan path", "Let the plan run, or stop it", run=scanner.run_plan, icon="move-3d"),
        live("record capture", "Record from here", run=scanner.record, icon="scan-line", tip="After only looking"),
        live("pause capture", "Pause the scanner, or go on", run=scanner.pause, key="Space", icon="circle-stop"),
    )


def _patches(station: CaptureStation) -> tuple[Action, ...]:
    scanner = station.scanner

    def is_live() -> bool:
        return station.is_live

    def has_patches() -> bool:
        return is_live() or (station.session.job.capture is not None and bool(station.session.job.capture.patches))

    def is_done() -> bool:
        return not is_live() and station.session.job.capture is not None

    live = partial(Action, menu=PLACE, enabled=is_live)
    return (
        live("new patch", "New patch", run=scanner.new_patch, key="Ctrl+Return", icon="plus"),
        live(
            "stop patch",
            "Stop the patch",
            run=scanner.stop_patch,
            key="Ctrl+Shift+Return",
            icon="circle-stop",
            tip="It is kept",
        ),
        live("turn part over", "The part is turned over", run=scanner.turn_over, icon="undo-2"),
        live("less light", "Less light", run=lambda: scanner.change_exposure(-1), key=","),
        live("more light", "More light", run=lambda: scanner.change_exposure(1), key="."),
        live("next mode", "Next mode of the scanner", run=scanner.next_mode, key="J"),
        Action(
            "use capture",
            "Create surface from patches",
            PLACE,
            scanner.use_capture,
            icon="layers",
            tip="One surface of all patches",
            enabled=has_patches,
        ),
        Action(
            "new capture",
            "Start a new capture",
            PLACE,
            scanner.start_anew,
            tip="The one of the job goes; it can be undone",
            enabled=is_done,
        ),
    )


def _devices(station: CaptureStation) -> tuple[Action, ...]:
    panels = station.devices
    photos, probe, table, tray = panels.photos, panels.probe, panels.table, panels.tray

    def has_photos() -> bool:
        return photos.walk is not None and len(photos.walk.photos) > 0

    part = partial(Action, menu=DEVICES, enabled=lambda: station.derived.part is not None, at=Key.CAPTURE)
    taken = partial(Action, menu=DEVICES, enabled=has_photos, at=Key.CAPTURE)
    return (
        part("take photo", "Take the next photo", run=photos.take_next, ways=(Way.PHOTOS,)),
        taken("adjust photos", "Adjust the photos together", run=photos.adjust, ways=(Way.PHOTOS,)),
        taken("give photo map", "Give the photos' targets to the scanner", run=photos.give_map, ways=(Way.PHOTOS,)),
        taken("clear up photos", "Bars and codes are off the part", run=photos.clear_up, ways=(Way.PHOTOS,)),
        part("touch point", "Touch the next point", run=probe.touch, ways=(Way.PROBE,)),
        part("next feature", "Probe the next feature", run=probe.choose_next, ways=(Way.PROBE,)),
        part("shoot turn", "Shoot the next turn", run=table.shoot, ways=(Way.TABLE,)),
        part("shoot whole turn", "Shoot the whole turn", run=table.shoot_all, ways=(Way.TABLE,)),
        part("scan tray", "Scan the tray", run=tray.scan_it, ways=(Way.TRAY,)),
        part(
            "save tray",
            "Save the tray's cloud…",
            run=tray.save_cloud,
            enabled=lambda: tray.scan is not None,
            ways=(Way.TRAY,),
        ),
    )


def _practice(station: CaptureStation) -> tuple[Action, ...]:
    practice = station.devices.practice
    part = partial(Action, enabled=lambda: station.derived.part is not None, at=Key.CAPTURE, ways=(Way.PRACTICE,))
    return (
        part("start exercise", "Start the exercise", menu=DEVICES, run=practice.start),
        part(
            "finish exercise",
            "Finish the exercise",
            menu=DEVICES,
            run=practice.finish,
            enabled=lambda: practice.is_running,
        ),
        part("practise", "Practise", menu=PLACE, run=lambda: None, icon="sparkles", tip="Exercises with a debrief"),
    )
