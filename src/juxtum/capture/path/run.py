"""A capture that runs by itself: the plan's path, then what is still missing, view by view."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.capture.live.next_view import next_view, pose_of
from juxtum.capture.live.patch import State
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.path.route import Stop, bridge_to, hands, path, stop_at, tracked_poses
from juxtum.capture.path.tracker_stations import TrackerStations
from juxtum.devices.link import Link
from juxtum.devices.patterns import FRAMES
from juxtum.devices.protocol import DeviceError, Message
from juxtum.geometry.arrays import Bools
from juxtum.instruments.models import Mode
from juxtum.plan.blind import Method
from juxtum.plan.planner import Planner
from juxtum.plan.targets.views import faces_of_patches
from juxtum.progress import Progress, silent

MOST_ROUNDS = 200
WORTH_A_LOOK = 0.005
"""A look that brings less than this share of the scanner's field was in vain."""
MOST_IN_VAIN = 15
"""After so many looks in vain, one after the other, what is missing is left missing."""
STOPS_IN_A_PATCH = 12
PATIENCE = 30.0

Ask = Callable[[Message], None]


@dataclass(frozen=True, eq=False)
class Leg:
    """Part of a run: stops in one mode."""

    mode: Mode
    stops: tuple[Stop, ...]


def legs(planner: Planner, known: Sequence[int] = ()) -> Iterator[Leg]:
    """The plan's path: everything in the planned mode, then what another mode does better.

    Parameters
    ----------
    known : sequence of int
        Rows of the planned targets that the map knows beforehand.
    """
    poses, ground = tracked_poses(planner), planner.ground()
    yield Leg(planner.mode, path(ground, poses, known=known))
    faces = {face for spot in planner.blind() if spot.method is Method.OTHER_MODE for face in spot.faces}
    others = [m for m in planner.model.modes if m.pattern == "single" and m.name != planner.mode.name]
    if faces and others:
        wanted = faces_of_patches(ground.patches, tuple(faces))
        if wanted.any():
            yield Leg(others[0], path(ground, poses, wanted, range(poses.seen.shape[1])))


def run_by_itself(session: CaptureSession, link: Link, progress: Progress | None = None) -> None:
    """Follow the plan's path, then come in for what is missing, until the expected coverage is there.

    Raises
    ------
    DeviceError
        When the device is lost; what was captured stays in the session.
    """
    tell(session, link, Message("spacing", {"mm": session.spacing}))
    for message in itinerary(session, lambda asked: tell(session, link, asked), progress or silent()):
        send(session, link, message)
    session.accept()
    tell(session, link, Message("map?"))


def itinerary(session: CaptureSession, ask: Ask, progress: Progress) -> Iterator[Message]:
    """What the hand does in a run by itself, message by message; each is to be sent before the next is asked for.

    Parameters
    ----------
    ask : callable
        Asks the device for what is not a hand's: modes, and where the tracker stands.
    """
    stations = session.stations
    planned = list(legs(session.planner, sorted(set(session.map.planned_rows.values())) if stations is None else ()))
    total, done = sum(len(leg.stops) for leg in planned), 0
    for leg in planned:
        set_mode(session, ask, leg.mode)
        for stop in leg.stops if stations is None else stations.ordered(leg.stops):
            progress.phase("scanning along the plan", 0.8 * done / max(total, 1))
            if session.state is State.FULL:
                return
            if is_served(session, ask, stations, stop):
                yield from towards(session, stop)
            done += 1
            if done % STOPS_IN_A_PATCH == 0:
                # A jump costs the patch in which it happens: they are kept small.
                session.accept()
    set_mode(session, ask, session.planner.mode)
    yield from _gaps(session, ask, stations, progress)


def _gaps(session: CaptureSession, ask: Ask, stations: TrackerStations | None, progress: Progress) -> Iterator[Message]:
    """Come in for what is missing, from where the scanner knows where it is, while that brings something."""
    worth = WORTH_A_LOOK * session.mode.field[0] * session.mode.field[1] / float(session.cells.areas.sum())
    shunned: set[int] = set()
    farther: set[int] = set()
    """Poses that brought nothing from where they were planned, and are tried from farther off before they are given up."""
    in_vain = 0
    for turn in range(MOST_ROUNDS):
        progress.phase("filling gaps", 0.8 + 0.2 * turn / MOST_ROUNDS)
        if session.map.to_part is None:
            # Every look may bring what tells where the part is.
            session.accept()
        before, known = session.coverage.share(), len(session.map.targets)
        if before >= session.goal or session.state is State.FULL or in_vain == MOST_IN_VAIN:
            return
        tied = _tied(session, stations)
        # What is sure comes first; what only might be seen is tried when nothing else is left.
        view = next_view(
            session.coverage, session.planner, tied, session.position, frozenset(shunned | {*np.flatnonzero(~tied)})
        ) or next_view(session.coverage, session.planner, tied, session.position, frozenset(shunned))
        if view is None:
            return
        pose, stop = pose_of(session.planner, view), view.stop
        if not tied[pose] and stations is None:
            # Nothing known is in view there yet: first a view between, which makes more targets known.
            bridge = bridge_to(session.planner.ground(), session.poses, _known(session), session.position, shunned)
            if bridge is not None:
                pose, stop = bridge, stop_at(session.planner.ground(), bridge)
        if pose in farther:
            stop = stop.farther_off(session.mode)
        if is_served(session, ask, stations, stop):
            yield from towards(session, stop)
        is_in_vain = session.coverage.share() - before < worth
        if is_in_vain:
            (shunned if pose in farther or not tied[pose] else farther).add(pose)
        in_vain = in_vain + 1 if is_in_vain and len(session.map.targets) == known else 0


def _known(session: CaptureSession) -> list[int]:
    """Rows of the planned targets that the scanner knows by now."""
    return sorted(set(session.map.planned_rows.values()))


def _tied(session: CaptureSession, stations: TrackerStations | None) -> Bools:
    """Poses (P,) at which the scanner would know where it is, as far as is known by now."""
    poses, least = session.poses, session.planner.ground().needs.least
    return poses.holds if stations is not None else poses.holds & (poses.seen[:, _known(session)].sum(1) >= least)


def is_served(session: CaptureSession, ask: Ask, stations: TrackerStations | None, stop: Stop) -> bool:
    """Whether a stop can be scanned; a tracker is put where it serves it first, and measures the reference targets."""
    if stations is None:
        return True
    return set_up_tracker(session, ask, stations, stations.requests(stop))


def station_at(session: CaptureSession, ask: Ask, number: int) -> None:
    """Put the tracker at a planned station and let it measure the reference targets, as a hand asks for it.

    Raises
    ------
    DeviceError
        Where it does not see enough of them.
    """
    stations = session.stations
    if stations is None or not 0 <= number < len(stations.plan.stations):
        raise DeviceError(f"there is no tracker station {number + 1}", "tracker", "Choose one of the plan")
    if not set_up_tracker(session, ask, stations, stations.at(number, session.position)):
        raise DeviceError(
            session.happenings[-1].why, "tracker", "Choose a station that shares more targets with the others"
        )


def set_up_tracker(session: CaptureSession, ask: Ask, stations: TrackerStations, requests: tuple[Message, ...]) -> bool:
    """Try places for the tracker until it knows where it stands; whether it does."""
    if requests and not stations.have_stands:
        ask(stations.stands)
        stations.have_stands = True
    problem: DeviceError | None = None
    for message in requests:
        session.accept()
        ask(message)
        try:
            ask(Message("reference"))
            stations.moved_to(int(message.number("station")))
            return True
        except DeviceError as found:
            if found.where == "connection":
                raise
            problem = found
    if problem is not None:
        session.note("moved", problem.what)
        stations.position = -1
    return problem is None


def towards(session: CaptureSession, stop: Stop) -> Iterator[Message]:
    """From where the hand was to a stop, and the sweep there; what is left of it is skipped when the pattern is weak."""
    last = session.last_stop
    way = (last, stop) if last is not None and last.position == stop.position else (stop,)
    session.last_stop = stop
    for message in hands(way, session.mode, session.spacing, session.time + 1 / FRAMES, skip=len(way) - 1):
        yield message
        if message.kind == "hand" and session.state is State.WEAK:
            # A careful hand lets the trigger go before the scanner takes one pattern for another.
            yield Message("pause", {"on": True})
            return


def follow(session: CaptureSession, link: Link, stops: tuple[Stop, ...]) -> None:
    """Let the hand go along some stops."""
    for stop in stops:
        for message in towards(session, stop):
            send(session, link, message)


def send(session: CaptureSession, link: Link, message: Message) -> None:
    """Send what the hand of a run does; the part is turned over and a patch begun where it asks for that."""
    if message.kind == "hand":
        if int(message.number("position")) != session.position:
            news = session.turn_over()
            if news is not None:
                tell(session, link, news)
        if session.current is None and session.state not in (State.FULL, State.GONE):
            session.begin()
    tell(session, link, message)


def set_mode(session: CaptureSession, ask: Ask, mode: Mode) -> None:
    """Work in another mode; a new patch follows."""
    if session.mode.name != mode.name:
        session.accept()
    session.mode = mode
    ask(Message("mode", {"name": mode.name}))


def tell(session: CaptureSession, link: Link, message: Message) -> None:
    """Send a message and take what is answered."""
    link.send(message)
    answers = link.receive(PATIENCE)
    if not answers:
        raise DeviceError("the device does not answer", "connection", "Check it, then connect again")
    for answer in answers:
        session.take(answer)
