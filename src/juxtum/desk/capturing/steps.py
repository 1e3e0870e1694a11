"""What the worksheet of Capture proposes next."""

from __future__ import annotations

from typing import TYPE_CHECKING

from juxtum.capture.live.patch import State
from juxtum.guide.next_actions import NextAction

if TYPE_CHECKING:
    from juxtum.capture.live.snapshot import Snapshot
    from juxtum.desk.capturing.driver import CaptureDriver
    from juxtum.desk.stations.capture import CaptureStation


SLACK = 0.01
DENSE_SLACK = 0.04
"""The plan promises what is seen at all; so much less of it may be dense."""


def wants_photos(station: CaptureStation) -> bool:
    """Whether the plan's chain has its lengths from photos that are not taken yet, and nothing is scanned."""
    planner, record = station.planner, station.derived.job.capture
    if planner is None or station.link.photo_map or (record is not None and record.patches):
        return False
    return planner.model.chain(planner.plan.chain).needs == "bars"


def next_step(station: CaptureStation) -> NextAction:
    """The next sensible action."""
    other = station.panels[station.way].next_action()
    if other is not None and station.derived.nominal is not None:
        return other
    d, shot = station.derived, station.snapshot
    if d.nominal is None:
        return NextAction("bring the nominal", "coverage is counted on it", "bring nominal", "Choose a file")
    if d.job.plan is None or not d.job.plan.is_tracked:
        return NextAction("plan the targets", "the scanner finds its way by them", "plan targets", "Plan them")
    if station.driver is None or shot is None:
        if d.job.capture is not None and d.job.capture.patches and d.job.capture.coverage > 0.85:
            return NextAction(
                "make the scan of it",
                f"{100 * d.job.capture.coverage:.0f} % of what is measured is captured",
                "use capture",
                "Make it",
            )
        if wants_photos(station):
            chain = d.job.plan.chain or "the plan's method"
            return NextAction(
                "take the photos first",
                f"{chain}: lengths come from the photos and their bars",
                "take photo",
                "Take the first",
            )
        return NextAction("connect the scanner", "a stand-in ships with Juxtum", "connect device", "Connect")
    return _while_connected(station, station.driver, shot)


def _while_connected(station: CaptureStation, driver: CaptureDriver, shot: Snapshot) -> NextAction:
    """What comes next while the scanner is there."""
    if shot.state is State.GONE:
        return NextAction(
            "connect again", f"{shot.why}; what was captured is kept", "reconnect device", "Connect again"
        )
    if shot.is_preview:
        return NextAction(
            "record what you see", "nothing is kept while you only look", "record capture", "Record from here"
        )
    if shot.state is State.FULL:
        return NextAction(
            "make the scan of it", "the memory for points is full; nothing is lost", "use capture", "Make it"
        )
    if shot.one_pass >= shot.goal - SLACK and shot.coverage >= shot.goal - DENSE_SLACK:
        return NextAction(
            "make the scan of it",
            f"{100 * shot.one_pass:.0f} % of what is measured is captured",
            "use capture",
            "Make it",
        )
    if shot.view is not None and shot.view.turns_over and shot.one_pass > 0.3:
        return NextAction(
            "turn the part over", f"{shot.view.name} is not seen from this side", "turn part over", "It is turned over"
        )
    if not station.hand.is_holding and not driver.runs_by_itself:
        return NextAction(
            "hold the scanner",
            "the pointer leads it over the part, the wheel brings it nearer",
            "hold scanner",
            "Take it",
        )
    where = shot.view.name if shot.view is not None else "the rest"
    return NextAction(f"come in for {where}", "the arrow shows from where", "run plan path", "Let the plan run")
