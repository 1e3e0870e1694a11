"""Messages between the desk and a device: a line of JSON, and for point frames the bytes that it announces."""

from __future__ import annotations

import json
import zlib
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.errors import JuxtumError
from juxtum.geometry.arrays import Floats

VERSION = 1
LARGEST = 1e12
"""Numbers beyond this are damage."""
FARTHEST = 1e5
"""Places farther from a device, mm, are damage."""
MAX_LINE = 256 * 1024
MAX_PAYLOAD = 64 * 1024**2
POINT = np.dtype([("place", "<f4", (3,)), ("normal", "i1", (3,)), ("quality", "u1")])
"""One point: place in mm in the device's own coordinates, normal times 127, quality 0 to 255."""

Points = npt.NDArray[np.void]


class DeviceError(JuxtumError):
    """A device that is gone, says something wrong or refuses what it is asked."""


@dataclass(frozen=True)
class Message:
    """One message.

    Parameters
    ----------
    kind : str
    fields : dict
        What else the line of JSON says.
    payload : bytes
        Points, in the layout of `POINT`.
    """

    kind: str
    fields: dict[str, Any] = field(default_factory=dict)
    payload: bytes = b""

    def number(self, name: str, default: float | None = None) -> float:
        """A finite number by its name.

        Raises
        ------
        DeviceError
        """
        value = self.fields.get(name, default)
        if isinstance(value, bool) or not isinstance(value, int | float) or not abs(value) < LARGEST:
            raise DeviceError(f"'{name}' of a '{self.kind}' message is not a number", "device", "Restart the device")
        return float(value)

    def text(self, name: str, default: str = "") -> str:
        """A short text by its name."""
        value = self.fields.get(name, default)
        if not isinstance(value, str) or len(value) > 500:
            raise DeviceError(f"'{name}' of a '{self.kind}' message is not a text", "device", "Restart the device")
        return value

    def vector(self, name: str, size: int = 3) -> Floats:
        """Numbers by their name (size,)."""
        rows = self.table(name, size)
        return rows[0] if len(rows) == 1 else self._bad(name)

    def table(self, name: str, width: int) -> Floats:
        """Rows of numbers by their name (N, width); missing is empty."""
        try:
            array = np.asarray(self.fields.get(name, []), dtype=np.float64).reshape(-1, width)
        except (TypeError, ValueError, OverflowError):
            return self._bad(name)
        return array if (np.abs(array) < LARGEST).all() else self._bad(name)

    def _bad(self, name: str) -> Floats:
        raise DeviceError(
            f"'{name}' of a '{self.kind}' message is not a list of numbers", "device", "Restart the device"
        )

    def points(self) -> Points:
        """The point frame; places that are not finite, or farther than any room is wide, are left out."""
        if len(self.payload) % POINT.itemsize:
            raise DeviceError("a point frame is cut off", "device", "Restart the device")
        points = np.frombuffer(self.payload, dtype=POINT)
        good = (np.abs(points["place"]) < FARTHEST).all(1)
        return points if good.all() else points[good]


def encode(message: Message) -> bytes:
    """A message as it travels: `{"kind": ..., "bytes": n, "crc": c}` and a line feed, then the bytes."""
    head = {"kind": message.kind, **message.fields}
    if message.payload:
        head |= {"bytes": len(message.payload), "crc": zlib.crc32(message.payload)}
    return json.dumps(head, separators=(",", ":"), allow_nan=False).encode() + b"\n" + message.payload


class FrameParser:
    """Takes bytes as they come and gives whole messages.

    Examples
    --------
    >>> parser = FrameParser()
    >>> data = encode(Message("hello", {"version": 1}))
    >>> parser.feed(data[:7]), [m.kind for m in parser.feed(data[7:])]
    ([], ['hello'])
    """

    def __init__(self) -> None:
        self._held = bytearray()
        self._head: Message | None = None
        self._wanted = 0
        self._crc = 0
        self._scanned = 0

    @property
    def pending(self) -> int:
        """Bytes held of a message that is not complete."""
        return len(self._held)

    def feed(self, data: bytes | bytearray | memoryview) -> list[Message]:
        """Take bytes; give the messages that they complete.

        Raises
        ------
        DeviceError
            When it is not the protocol; the connection cannot be trusted any more and must be closed.
        """
        self._held += data
        found: list[Message] = []
        while True:
            message = self._payload() if self._head is not None else self._line()
            if message is None:
                return found
            if message.kind:
                found.append(message)

    def _line(self) -> Message | None:
        end = self._held.find(b"\n", self._scanned)
        if end < 0:
            self._scanned = len(self._held)
            if self._scanned > MAX_LINE:
                raise _garbage("a line that never ends")
            return None
        if end > MAX_LINE:
            raise _garbage("a line that is too long")
        line, self._scanned = bytes(self._held[:end]), 0
        del self._held[: end + 1]
        kind, fields = _parsed(line)
        size, crc = fields.pop("bytes", 0), fields.pop("crc", 0)
        if not _is_whole(size) or not _is_whole(crc) or not 0 <= size <= MAX_PAYLOAD:
            raise _garbage("a frame of an impossible size")
        if size == 0:
            return Message(kind, fields)
        self._head, self._wanted, self._crc = Message(kind, fields), size, crc
        return Message("")

    def _payload(self) -> Message | None:
        if len(self._held) < self._wanted:
            return None
        assert self._head is not None
        payload = bytes(memoryview(self._held)[: self._wanted])
        del self._held[: self._wanted]
        head, self._head = self._head, None
        if zlib.crc32(payload) != self._crc:
            raise _garbage("a frame that was damaged on its way")
        return Message(head.kind, head.fields, payload)


def _is_whole(value: object) -> bool:
    return isinstance(value, int) and not isinstance(value, bool)


def _parsed(line: bytes) -> tuple[str, dict[str, Any]]:
    try:
        raw = json.loads(line)
    except (ValueError, RecursionError) as problem:
        raise _garbage("something that is not JSON") from problem
    if not isinstance(raw, dict) or not isinstance(raw.get("kind"), str) or not 0 < len(raw["kind"]) <= 40:
        raise _garbage("a message without a kind")
    kind = str(raw.pop("kind"))
    return kind, raw


def _garbage(what: str) -> DeviceError:
    return DeviceError(
        f"the device sent {what}", "connection", "It was closed; what was captured is kept. Connect again"
    )


def packed(places: Floats, normals: Floats, qualities: npt.NDArray[np.uint8]) -> bytes:
    """Points as a frame: places (N, 3) in mm, unit normals (N, 3), qualities (N,)."""
    frame = np.empty(len(places), dtype=POINT)
    frame["place"] = places
    frame["normal"] = np.round(normals * 127)
    frame["quality"] = qualities
    return frame.tobytes()
