"""What the capture's thread says to a device when it is met, and how it listens to one that sends by itself."""

from __future__ import annotations

from juxtum.capture.live.session import CaptureSession
from juxtum.capture.path.run import tell
from juxtum.devices.link import Link, ask
from juxtum.devices.protocol import DeviceError, Message

LISTEN = 0.02
"""Seconds that are waited for what a device sends by itself."""


def settle(session: CaptureSession, link: Link) -> None:
    """Bring the device to where the session is: mode, spacing, map; and know whether it is a real one.

    Raises
    ------
    DeviceError
        When it is of another kind than the plan's scanner.
    """
    about = ask(link, Message("hello", {"version": 1}), "about")
    kind, wanted = about.text("device"), session.planner.model.kind.value
    if kind != wanted:
        what = f"this is a {kind or 'device of no kind'}, the plan's scanner is a {wanted} one"
        raise DeviceError(what, "device", "Give the address of that one, or choose this one at Plan")
    session.is_simulated = bool(about.fields.get("stand_in", True))
    session.device = about.text("name")[:80]
    tell(session, link, Message("spacing", {"mm": session.spacing}))
    tell(session, link, Message("mode", {"name": session.mode.name}))
    if session.map.targets:
        tell(session, link, Message("map", {"targets": session.map.rows(), "fixed": session.map.is_given}))
    session.found_device()


def listen(session: CaptureSession, link: Link) -> bool:
    """Take what a device sent by itself; whether there was anything."""
    messages = link.receive(LISTEN)
    for message in messages:
        session.take(message)
    return bool(messages)
