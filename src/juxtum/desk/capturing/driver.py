"""Runs a capture on a thread of its own: hands poses to the device, takes frames in, tells the window how it stands."""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from typing import TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from juxtum.capture.live.next_view import NextView, next_view
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.live.snapshot import take_snapshot
from juxtum.capture.path.run import itinerary, send, set_mode, tell
from juxtum.desk.capturing.talking import listen, settle
from juxtum.devices.body import Pose
from juxtum.devices.link import DeviceProcess, Link
from juxtum.devices.patterns import FRAMES
from juxtum.devices.protocol import DeviceError, Message
from juxtum.errors import JuxtumError
from juxtum.progress import silent

LOG = logging.getLogger("juxtum")
TELL_EVERY = 0.04
LOOK_EVERY = 0.8
"""Seconds between looks for the next best view."""
ASK_MAP_EVERY = 4.0

Command = Callable[[CaptureSession], object]
T = TypeVar("T")


@dataclass(eq=False)
class Connection:
    """A link, and the stand-in's process behind it if there is one."""

    link: Link
    process: DeviceProcess | None = None

    def close(self) -> None:
        """Let go of both."""
        self.link.close()
        if self.process is not None:
            self.process.stop()


def hand_message(pose: Pose, session: CaptureSession) -> Message:
    """Tells the device where the hand holds it for the next frame."""
    vectors = (("eye", pose.eye), ("axis", pose.axis), ("up", pose.up))
    fields = {name: [float(v) for v in value] for name, value in vectors}
    return Message("hand", {**fields, "position": session.position, "time": session.time + 1 / FRAMES})


class CaptureDriver(QObject):
    """The thread.

    Parameters
    ----------
    session : CaptureSession
        Touched by the thread alone while it runs.
    connect : callable
        Makes a connection; called again to resume after it was lost.
    """

    told = pyqtSignal(object)
    failed = pyqtSignal(object)
    kept = pyqtSignal(object)
    settled = pyqtSignal()
    finished = pyqtSignal()

    def __init__(
        self, session: CaptureSession, connect: Callable[[], Connection], parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self.session = session
        self._connect = connect
        self.connection: Connection | None = None
        self._commands: deque[Command] = deque()
        self._wake, self._stop = threading.Event(), threading.Event()
        self._is_let_go = False
        """Somebody wanted to end although what was captured could not be kept."""
        self._pose: Pose | None = None
        self._hands: Iterator[Message] | None = None
        self.speed = 1.0
        """Frames are sent at this many times real time; infinite for as fast as it goes."""
        self.frames_told = 0
        self.keep: Callable[[CaptureSession], bool] | None = None
        """Writes accepted patches to disk; called on the thread."""
        self._view: NextView | None = None
        self._thread = threading.Thread(target=self._run, name="capture", daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def hold(self, pose: Pose | None) -> None:
        """Where the hand holds the scanner now; None when it is put down."""
        self._pose = pose
        self._wake.set()

    def do(self, command: Command) -> None:
        """Let the thread do something with the session."""
        self._commands.append(command)
        self._wake.set()

    def ask(self, message: Message) -> None:
        """Send the device something and take what it answers."""
        self.do(lambda session: tell(session, self._link, message))

    def tell_device(self, message: Message) -> None:
        """Send the device something from a command, on the capture's thread."""
        tell(self.session, self._link, message)

    def use_mode(self, name: str) -> None:
        """Work in another mode from now on."""
        self.do(lambda session: set_mode(session, self.tell_device, session.planner.model.mode(name)))

    def run_plan(self) -> None:
        """Follow the plan's path."""
        self.do(self._begin_plan)

    @property
    def runs_by_itself(self) -> bool:
        """Whether the plan's path is being followed."""
        return self._hands is not None

    @property
    def is_moving(self) -> bool:
        """Whether a hand or the plan moves the scanner."""
        return self._hands is not None or self._pose is not None

    def stop_plan(self) -> None:
        """Put the scanner back into the hand."""
        self.do(lambda _: self._end_plan())

    def settle(self) -> None:
        """Accept what runs and keep it; `settled` tells when that is done, even if something failed."""
        self.do(lambda _: self._last_things(self.settled.emit))

    def end(self) -> None:
        """Accept what runs, keep it, end; `finished` tells when that is done.

        Where it cannot be kept the device stays, and the failure is told; who ends once more means it.
        """
        self.do(lambda _: self._end())

    def _end(self) -> None:
        self.session.accept()
        self._hands = None
        try:
            if self.keep is not None:
                self.keep(self.session)
        except (OSError, JuxtumError) as problem:
            if self._is_let_go:
                self._stop.set()
                return
            self._is_let_go = True
            what = f"what was captured last could not be kept ({problem}), so the scanner stays connected"
            raise JuxtumError(
                what, "capture", "Make room on the disk and let it go again; a second time lets it go without"
            ) from problem
        self._stop.set()

    def _last_things(self, then: Callable[[], object]) -> None:
        """Accept and keep, whatever state the device is in; then go on in any case."""
        try:
            self.session.accept()
            if self.keep is not None:
                self.keep(self.session)
            self._end_plan()
        finally:
            self._hands = None
            then()

    def join(self) -> None:
        """Wait for the thread to end."""
        self._thread.join(20)

    def close(self) -> None:
        """End the thread and let the device go; the session stays as it is."""
        self._stop.set()
        self._wake.set()
        if self._thread.is_alive() and threading.current_thread() is not self._thread:
            self._thread.join(10)
        if self.connection is not None:
            self.connection.close()
            self.connection = None

    def _run(self) -> None:
        told = looked = asked = 0.0
        self._guarded(self._open)
        while not self._stop.is_set():
            begun = time.monotonic()
            while self._commands:
                command = self._commands.popleft()
                self._guarded(partial(command, self.session))
            moved = self._guarded(self._move) if self.connection is not None else None
            now = time.monotonic()
            if now - looked > LOOK_EVERY:
                looked = now
                self._guarded(self._look)
                if self.keep is not None:
                    self._guarded(lambda: self.keep and self.keep(self.session))
            if now - asked > ASK_MAP_EVERY and moved and self.connection is not None:
                asked = now
                self._guarded(lambda: tell(self.session, self._link, Message("map?")))
            if now - told >= TELL_EVERY or not moved:
                told = now
                self.frames_told += 1
                self._guarded(lambda: self.told.emit(take_snapshot(self.session, self._view)))
            self._pace(begun, bool(moved))
        self.finished.emit()

    def _pace(self, begun: float, had_hand: bool) -> None:
        wait = 1 / FRAMES / self.speed - (time.monotonic() - begun) if had_hand else 0.2
        if wait > 0:
            self._wake.wait(wait if not had_hand else min(wait, 0.1))
            self._wake.clear()

    @property
    def _link(self) -> Link:
        if self.connection is None:
            raise DeviceError("no device is connected", "connection", "Connect one first")
        return self.connection.link

    def _guarded(self, work: Callable[[], T]) -> T | None:
        """What fails is told and gives None; a lost connection leaves the session as it is."""
        try:
            return work()
        except DeviceError as problem:
            if problem.where == "connection":
                self._lost(problem)
            self.failed.emit(problem)
        except JuxtumError as problem:
            self.failed.emit(problem)
        except Exception as problem:
            LOG.error("capture failed", exc_info=problem)
            self.failed.emit(problem)
        return None

    def _open(self) -> None:
        self.connection = self._connect()
        try:
            settle(self.session, self._link)
        except DeviceError as problem:
            # A device that is not the plan's is let go at once.
            self._lost(problem)
            raise

    def reconnect(self) -> None:
        """Connect again after the device was lost; the session goes on where it was."""

        def again(_: CaptureSession) -> None:
            if self.connection is not None:
                self.connection.close()
                self.connection = None
            self._open()

        self.do(again)

    def _lost(self, problem: DeviceError) -> None:
        self._hands = None
        if self.connection is not None:
            self.connection.close()
            self.connection = None
        self.session.lost_device(problem.what)

    def _move(self) -> bool:
        """Send the next message of the plan, or where the hand is now; whether there was one."""
        if not self.session.is_simulated:
            return listen(self.session, self._link)
        message = self._next_message()
        if message is not None:
            (send if self._hands is not None else tell)(self.session, self._link, message)
        return message is not None

    def _next_message(self) -> Message | None:
        if self._hands is not None:
            message = next(self._hands, None)
            if message is None:
                self._end_plan()
                self.session.accept()
            return message
        pose = self._pose
        if pose is None:
            return None
        return hand_message(pose, self.session)

    def _look(self) -> None:
        self._view = next_view(
            self.session.coverage, self.session.planner, self.session.poses.holds, self.session.position
        )

    def _begin_plan(self, session: CaptureSession) -> None:
        self._hands = itinerary(session, self.tell_device, silent())

    def _end_plan(self) -> None:
        was_running, self._hands = self._hands is not None, None
        if was_running and self.connection is not None:
            # The plan lets the trigger go between two stops.
            tell(self.session, self._link, Message("pause", {"on": False}))


def turn_over(driver: CaptureDriver) -> None:
    """The part lies on its other side now; the device is told where it has to begin anew."""

    def turned(session: CaptureSession) -> None:
        news = session.turn_over()
        if news is not None and driver.connection is not None:
            tell(session, driver.connection.link, news)

    driver.do(turned)
