"""Serves one device on a local socket, one client at a time."""

from __future__ import annotations

import logging
import os
import secrets
import socket
import time
from collections.abc import Callable, Sequence

from juxtum.devices.link import BLOCK, HOST, TOKEN, Device
from juxtum.devices.protocol import DeviceError, FrameParser, Message, encode
from juxtum.errors import JuxtumError

LOG = logging.getLogger(__name__)
GARBAGE = bytes((7 * k * k + 13 * k) % 251 for k in range(4096)) + b"\n"


class Closed(Exception):
    """The client is to be let go."""


class Stranger(Exception):
    """A client that did not say the token; the device waits for the one that does."""


def serve(device: Device, port: int, announce: Callable[[int], None], *, token: str = "", once: bool = False) -> None:
    """Listen and answer until stopped.

    Parameters
    ----------
    port : int
        0 for any that is free.
    announce : callable
        Told the port once the device listens.
    token : str
        What a client has to say first; nothing when empty.
    once : bool
        End when the first client has gone.

    Raises
    ------
    DeviceError
        When the port is taken.
    """
    try:
        server = socket.create_server((HOST, port))
    except OSError as problem:
        raise DeviceError(f"port {port} cannot be used", "device", "Choose another one, or none") from problem
    with server:
        announce(server.getsockname()[1])
        while True:
            client, _ = server.accept()
            with client:
                client.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                try:
                    _attend(device, client, token)
                except Stranger:
                    continue
                except (OSError, Closed):
                    pass
            if once:
                return


def _attend(device: Device, client: socket.socket, token: str) -> None:
    parser, is_known = FrameParser(), not token
    while data := client.recv(BLOCK):
        try:
            for message in parser.feed(data):
                if message.kind == "token":
                    is_known = is_known or secrets.compare_digest(message.text("token").encode(), token.encode())
                    continue
                if not is_known:
                    what, next = (
                        "this device is another's, or its token is wrong",
                        f"Set {TOKEN} to what the device was started with",
                    )
                    client.sendall(encode(Message("error", {"what": what, "next": next})))
                    raise Stranger
                for answer in answers(device, message):
                    client.sendall(_wire(answer))
        except DeviceError as problem:
            client.sendall(encode(Message("error", {"what": problem.what, "next": problem.next})))
            if problem.where == "connection":
                raise Closed from problem


def answers(device: Device, message: Message) -> Sequence[Message]:
    """What a device answers; what it refuses becomes an `error` message."""
    try:
        return device.handle(message)
    except JuxtumError as problem:
        return [Message("error", {"what": problem.what, "next": problem.next})]
    except (ValueError, LookupError, ArithmeticError, TypeError) as problem:
        LOG.error("a stand-in failed at '%s'", message.kind, exc_info=problem)
        return [
            Message(
                "error",
                {"what": f"the device cannot do '{message.kind}' as it was asked", "next": "Ask it for something else"},
            )
        ]


def _wire(answer: Message) -> bytes:
    """As it travels; injected faults of the connection happen here."""
    if answer.kind == "fault:killed":
        os._exit(3)
    if answer.kind == "fault:closed":
        raise Closed
    if answer.kind == "fault:garbage":
        return GARBAGE
    if answer.kind == "fault:stalled":
        time.sleep(answer.number("seconds"))
        return b""
    return encode(answer)
