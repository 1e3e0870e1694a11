"""Ways to a device: in this process, or over a local socket."""

from __future__ import annotations

import contextlib
import os
import secrets
import select
import socket
import subprocess
import sys
import time
from collections import deque
from collections.abc import Sequence
from typing import Protocol

from juxtum.devices.protocol import DeviceError, FrameParser, Message, encode
from juxtum.errors import InputError

HOST = "127.0.0.1"
PATIENCE = 20.0
"""Seconds that a stand-in may take to start: it prepares its part first."""
BLOCK = 1 << 20
MOST_AT_ONCE = 32 * BLOCK
"""Bytes after which messages are handed on before more is read."""
TOKEN = "JUXTUM_DEVICE_TOKEN"  # noqa: S105 - the name of a variable
"""Of the environment: what a client says first, so that no other user of the machine can connect."""


class Device(Protocol):
    """What a stand-in can do: answer a message."""

    def handle(self, message: Message) -> Sequence[Message]:
        """The answers to a message."""


class Link(Protocol):
    """What the desk can do with a device."""

    def send(self, message: Message) -> None:
        """Send a message."""

    def receive(self, wait: float = 0.0) -> list[Message]:
        """The messages that have come, waiting at most so many seconds for the first."""

    def close(self) -> None:
        """Let go of the device."""


def ask(link: Link, message: Message, wanted: str, patience: float = PATIENCE) -> Message:
    """Send a message and give the first answer of a kind.

    Raises
    ------
    DeviceError
        When the device refuses, is silent or is lost.
    """
    link.send(message)
    end = time.monotonic() + patience
    while True:
        answers = link.receive(max(end - time.monotonic(), 0.0))
        for answer in answers:
            if answer.kind == "error":
                raise DeviceError(answer.text("what", "the device refused"), "device", answer.text("next"))
            if answer.kind == wanted:
                return answer
        if not answers or time.monotonic() >= end:
            raise DeviceError("the device does not answer", "connection", "Check it, then connect again")


class DirectLink:
    """A stand-in in this process; it answers at once."""

    def __init__(self, device: Device) -> None:
        self.device = device
        self._answers: deque[Message] = deque()

    def send(self, message: Message) -> None:
        """Let it answer."""
        self._answers.extend(self.device.handle(message))

    def receive(self, wait: float = 0.0) -> list[Message]:
        """What it answered."""
        answers = list(self._answers)
        self._answers.clear()
        if any(a.kind in ("fault:killed", "fault:closed", "fault:garbage") for a in answers):
            raise _lost()
        return [a if not a.kind.startswith("fault:") else Message("done") for a in answers]

    def close(self) -> None:
        """Nothing to let go of."""


class SocketLink:
    """A device behind a local socket.

    Parameters
    ----------
    port : int
    token : str, optional
        What the device wants to hear first; that of the environment when not given.
    patience : float
        Seconds.
    host : str
        The machine; this one when not given.

    Raises
    ------
    DeviceError
        When nobody listens there.
    """

    def __init__(self, port: int, token: str | None = None, patience: float = PATIENCE, host: str = HOST) -> None:
        end = time.monotonic() + patience
        while True:
            try:
                self._socket = socket.create_connection((host, port), timeout=patience)
                break
            except OSError as problem:
                if time.monotonic() > end or not isinstance(problem, ConnectionRefusedError):
                    raise DeviceError(
                        f"no device answers at {'port ' if host == HOST else f'{host}:'}{port}",
                        "connection",
                        "Start it, or check its address",
                    ) from problem
                time.sleep(0.05)
        self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._socket.setblocking(False)
        self._parser = FrameParser()
        token = os.environ.get(TOKEN, "") if token is None else token
        if token:
            self.send(Message("token", {"token": token}))

    def send(self, message: Message) -> None:
        """Send, waiting while the device is slow to take it."""
        data, end = memoryview(encode(message)), time.monotonic() + PATIENCE
        try:
            while data:
                if not select.select([], [self._socket], [], 0.2)[1]:
                    if time.monotonic() > end:
                        raise DeviceError(
                            "the device takes nothing any more", "connection", "Check it, then connect again"
                        )
                    continue
                data = data[self._socket.send(data) :]
        except OSError as problem:
            raise _lost() from problem

    def receive(self, wait: float = 0.0) -> list[Message]:
        """What has come since.

        Raises
        ------
        DeviceError
            When the connection is lost or what comes is not the protocol.
        """
        messages: list[Message] = []
        end, taken = time.monotonic() + wait, 0
        try:
            # Whatever the device does, the time is over when it is over, and no more is held than a few frames.
            while select.select([self._socket], [], [], 0.0 if messages else max(end - time.monotonic(), 0.0))[0]:
                data = self._socket.recv(BLOCK)
                taken += len(data)
                if not data:
                    if messages:
                        return messages
                    raise _lost()
                messages += self._parser.feed(data)
                if (
                    len(messages) > 64
                    or (taken > MOST_AT_ONCE and messages)
                    or (not messages and time.monotonic() > end)
                ):
                    break
        except (OSError, ValueError) as problem:
            if isinstance(problem, DeviceError):
                raise
            raise _lost() from problem
        return messages

    def close(self) -> None:
        """Close the socket."""
        with contextlib.suppress(OSError):
            self._socket.close()


def _lost() -> DeviceError:
    return DeviceError("the connection to the device is lost", "connection", "What was captured is kept. Connect again")


def parse_address(text: str) -> tuple[str, int]:
    """Machine and port of a device: `machine:port`, or a port of this machine.

    Raises
    ------
    InputError

    Examples
    --------
    >>> parse_address("scanner.local:4711"), parse_address("4711")
    (('scanner.local', 4711), ('127.0.0.1', 4711))
    """
    host, _, port = text.strip().rpartition(":")
    if not port.isdecimal() or not 1 <= int(port) <= 65_535 or any(c.isspace() or c == "/" for c in host):
        raise InputError(
            f"'{text}' is no address of a device", "capture", "Give machine:port, or a port of this machine"
        )
    return host or HOST, int(port)


class DeviceProcess:
    """A stand-in as its own process.

    Parameters
    ----------
    kind : str
    arguments : sequence of str
        As `juxtum device serve KIND` takes them.
    """

    def __init__(self, kind: str, arguments: Sequence[str] = ()) -> None:
        command = [sys.executable, "-m", "juxtum", "device", "serve", kind, "--port", "0", "--once", *arguments]
        self.token = secrets.token_urlsafe(24)
        surroundings = {**os.environ, TOKEN: self.token}
        self._process = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, env=surroundings
        )
        self._port = 0

    @property
    def port(self) -> int:
        """Where it listens; waits until it says so.

        Raises
        ------
        DeviceError
            When it ended instead.
        """
        if not self._port:
            assert self._process.stdout is not None
            ready, _, _ = select.select([self._process.stdout], [], [], 60.0)
            words = self._process.stdout.readline().split() if ready else []
            if len(words) < 2 or not words[-1].isdigit():
                self.stop()
                raise DeviceError("the stand-in did not start", "connection", "See Help > Show log, then try again")
            self._port = int(words[-1])
        return self._port

    def connect(self) -> SocketLink:
        """A link to it."""
        return SocketLink(self.port, self.token)

    @property
    def is_running(self) -> bool:
        """Whether the process is alive."""
        return self._process.poll() is None

    def kill(self) -> None:
        """End it at once, as a fault would."""
        self._process.kill()
        self._process.wait()

    def stop(self) -> None:
        """End it in good order."""
        self._process.terminate()
        try:
            self._process.wait(3)
        except subprocess.TimeoutExpired:
            self.kill()
        if self._process.stdout is not None:
            self._process.stdout.close()
