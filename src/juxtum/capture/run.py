"""A capture that runs by itself: the plan's path, then what is still missing, view by view."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.capture.next_view import next_view, pose_of
from juxtum.capture.patch import State
from juxtum.capture.route import Stop, hands, path
from juxtum.capture.session import CaptureSession
from juxtum.capture.tracker_stations import TrackerStations
from juxtum.devices.link import Link
from juxtum.devices.patterns import FRAMES
from juxtum.devices.protocol import DeviceError, Message
from juxtum.geometry.arrays import Bools
from juxtum.plan.blind import Method
from juxtum.plan.instruments import Kind, Mode
from juxtum.plan.planner import Planner
from juxtum.plan.views import faces_of_patches
from juxtum.progress import Progress, silent

MOST_ROUNDS = 40
STOPS_IN_A_PATCH = 12
PATIENCE = 30.0


@dataclass(frozen=True, eq=False)
class Leg:
    """Part of a run: stops in one mode."""

    mode: Mode
    stops: tuple[Stop, ...]


def tracked_poses(planner: Planner) -> tuple[Bools, Bools]:
    """Which of the plan's poses track (P,), and which targets they see (P, T)."""
    ground = planner.ground()
    placed = planner.plan.placed
    if not placed:
        return np.zeros(len(ground.views), dtype=bool), np.zeros((len(ground.views), 0), dtype=bool)
    seen = ground.seen_targets(np.array([t.place for t in placed]), np.array([t.normal for t in placed]))
    return planner.assess().tracking.holds, seen


def legs(planner: Planner, known: Sequence[int] = ()) -> Iterator[Leg]:
    """The plan's path: everything in the planned mode, then what another mode does better.

    Parameters
    ----------
    known : sequence of int
        Rows of the planned targets that the map knows beforehand.
    """
    tracks, seen = tracked_poses(planner)
    ground = planner.ground()
    yield Leg(planner.mode, path(ground, tracks, seen, known=known))
    faces = {face for spot in planner.blind() if spot.method is Method.OTHER_MODE for face in spot.faces}
    others = [m for m in planner.model.modes if m.pattern == "single" and m.name != planner.mode.name]
    if faces and others:
        wanted = faces_of_patches(ground.patches, tuple(faces))
        if wanted.any():
            yield Leg(others[0], path(ground, tracks, seen, wanted, range(seen.shape[1])))


def run_by_itself(session: CaptureSession, link: Link, progress: Progress | None = None) -> None:
    """Follow the plan's path, then come in for what is missing, until the expected coverage is there.

    Raises
    ------
    DeviceError
        When the device is lost; what was captured stays in the session.
    """
    progress = progress or silent()
    tell(session, link, Message("spacing", {"mm": session.spacing}))
    stations = TrackerStations(session.planner) if session.planner.model.kind is Kind.TRACKED else None
    planned = list(legs(session.planner, known_targets(session)))
    total, done = sum(len(leg.stops) for leg in planned), 0
    for leg in planned:
        set_mode(session, link, leg.mode)
        for stop in leg.stops:
            progress.phase("scanning along the plan", 0.8 * done / max(total, 1))
            if stations is None or place_tracker(session, link, stations, stop):
                follow(session, link, (stop,))
            done += 1
            if done % STOPS_IN_A_PATCH == 0:
                # A jump costs the patch in which it happens: they are kept small.
                session.accept()
    set_mode(session, link, session.planner.mode)
    if stations is None:
        _fill(session, link, progress)
    session.accept()
    tell(session, link, Message("map?"))


def place_tracker(session: CaptureSession, link: Link, stations: TrackerStations, stop: Stop) -> bool:
    """Put the tracker where it serves a stop and let it measure the reference targets; whether it knows where it stands."""
    problem: DeviceError | None = None
    for message in stations.requests(stop):
        session.accept()
        tell(session, link, message)
        try:
            tell(session, link, Message("reference"))
            stations.stands(int(message.number("station")))
            return True
        except DeviceError as found:
            problem = found
    if problem is not None:
        session.note("moved", problem.what)
        stations.position = -1
    return problem is None


def _fill(session: CaptureSession, link: Link, progress: Progress) -> None:
    """Come in for what is missing."""
    tracks, seen = tracked_poses(session.planner)
    expected = session.planner.plan.expected
    goal = expected.coverage if expected is not None else 0.95
    shunned: set[int] = set()
    for turn in range(MOST_ROUNDS):
        progress.phase("filling gaps", 0.8 + 0.2 * turn / MOST_ROUNDS)
        before = session.coverage.share()
        tied = tracks & (seen[:, known_targets(session)].sum(1) > session.planner.ground().needs.least)
        view = next_view(session.coverage, session.planner, tied, session.position, frozenset(shunned)) if before < goal else None
        if view is None:
            return
        follow(session, link, (view.stop,))
        if session.coverage.share() - before < 1e-3:
            shunned.add(pose_of(session.planner, view))


def follow(session: CaptureSession, link: Link, stops: tuple[Stop, ...]) -> None:
    """Let the hand go along some stops, turning the part over where they ask for it."""
    for stop in stops:
        if stop.position != session.position:
            session.turn_over()
        if session.current is None and session.state is not State.FULL:
            session.begin()
        last = getattr(session, "last_stop", None)
        way = (last, stop) if last is not None and last.position == stop.position else (stop,)
        skip = len(way) - 1
        for message in careful(session, hands(way, session.mode, session.spacing, session.time + 1 / FRAMES, skip=skip)):
            tell(session, link, message)
            if session.current is None and session.state is State.JUMP:
                session.begin()
        session.last_stop = stop


def known_targets(session: CaptureSession) -> list[int]:
    """Rows of the planned targets that the map knows."""
    return [] if session.match is None else [int(row) for row in session.match.pairs[:, 1]]


def careful(session: CaptureSession, messages: Iterator[Message]) -> Iterator[Message]:
    """Let the trigger go as soon as the pattern in view is weak, as a careful hand does: what is left of the stop is skipped."""
    for message in messages:
        yield message
        if message.kind == "hand" and session.state is State.WEAK:
            yield Message("pause", {"on": True})
            return


def set_mode(session: CaptureSession, link: Link, mode: Mode) -> None:
    """Work in another mode; a new patch follows."""
    if session.mode.name != mode.name:
        session.accept()
    session.set_mode(mode)
    tell(session, link, Message("mode", {"name": mode.name}))


def tell(session: CaptureSession, link: Link, message: Message) -> None:
    """Send a message and take what is answered."""
    link.send(message)
    answers = link.receive(PATIENCE)
    if not answers:
        raise DeviceError("the device does not answer", "connection", "Check it, then connect again")
    for answer in answers:
        session.take(answer)
