"""The protocol and its links: streams, faults, floods, strangers, and what a stand-in cannot do."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import threading
import time
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.head import StructuredLightHead
from juxtum.devices.link import DirectLink, SocketLink
from juxtum.devices.protocol import MAX_LINE, DeviceError, FrameParser, Message, encode, packed
from juxtum.devices.server import answers, serve
from juxtum.instruments.models import Kind, shipped
from standins import MODEL, over, plate

pytestmark = pytest.mark.quick


def a_stream(rng: np.random.Generator) -> bytes:
    n = int(rng.integers(0, 40))
    frame = packed(rng.normal(0, 100, (n, 3)), np.tile([0.0, 0, 1], (n, 1)), np.full(n, 9, dtype=np.uint8))
    messages = [
        Message("hello", {"version": 1}),
        Message("frame", {"number": 1, "state": "tracking", "points": n}, frame),
        Message("done"),
    ]
    return b"".join(encode(m) for m in messages)


NASTY = (
    b'{"kind":"frame","bytes":99999999999}\n',
    b"\n",
    b'{"kind":7}\n',
    b'{"bytes":-1,"kind":"x"}\n',
    b"[" * 5000 + b"\n",
)


def test_ten_thousand_mutated_streams_do_no_harm() -> None:
    rng = np.random.default_rng(20)
    refused = whole = 0
    for _ in range(10_000):
        data = bytearray(a_stream(rng))
        for _ in range(int(rng.integers(1, 6))):
            at = int(rng.integers(0, len(data)))
            kind = int(rng.integers(0, 4))
            if kind == 0:
                data[at] ^= 1 << int(rng.integers(0, 8))
            elif kind == 1:
                del data[at : at + int(rng.integers(1, 30))]
            elif kind == 2:
                data[at:at] = rng.integers(0, 256, int(rng.integers(1, 30)), dtype=np.uint8).tobytes()
            else:
                data[at:at] = NASTY[int(rng.integers(0, len(NASTY)))]
            if not data:
                data = bytearray(b"x")
        parser = FrameParser()
        try:
            for start in range(0, len(data), 300):
                for message in parser.feed(data[start : start + 300]):
                    message.points() if message.payload else message.fields
            whole += 1
        except DeviceError as problem:
            refused += 1
            assert problem.next
    assert refused > 5000 and whole > 100


@given(st.lists(st.integers(1, 60), min_size=1, max_size=20))
@settings(max_examples=60, deadline=None)
def test_it_does_not_matter_how_bytes_arrive(cuts: list[int]) -> None:
    data = a_stream(np.random.default_rng(1))
    parser, found, at = FrameParser(), [], 0
    for cut in [*cuts, len(data)]:
        found += parser.feed(data[at : at + cut])
        at += cut
    assert [m.kind for m in found] == ["hello", "frame", "done"] and parser.pending == 0


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"\x00\x01\n", "something that is not JSON"),
        (b"[1]\n", "a message without a kind"),
        (b'{"kind":"frame","bytes":1e3}\n', "a frame of an impossible size"),
        (b'{"kind":"frame","bytes":999999999}\n', "a frame of an impossible size"),
        (b'{"kind":"frame","bytes":3,"crc":1}\nabc', "a frame that was damaged on its way"),
        (b"x" * (MAX_LINE + 1), "a line that never ends"),
    ],
)
def test_garbage_is_told_in_a_sentence(data: bytes, words: str) -> None:
    with pytest.raises(DeviceError, match=words) as problem:
        FrameParser().feed(data)
    assert "what was captured is kept" in problem.value.sentence


@pytest.mark.parametrize(
    ("message", "words"),
    [
        (
            Message("hand", {"eye": [0, 0], "axis": [0, 0, -1], "up": [0, 1, 0]}),
            "'eye' of a 'hand' message is not a list of numbers",
        ),
        (
            Message("hand", {"eye": [0, 0, float("nan")], "axis": [0, 0, -1], "up": [0, 1, 0]}),
            "'eye' of a 'hand' message",
        ),
        (
            Message("hand", {"eye": [0, 0, 1], "axis": [0, 0, -1], "up": [0, 1, 0], "position": 3}),
            "the part has no position 3",
        ),
        (Message("exposure", {"level": "high"}), "'level' of a 'exposure' message is not a number"),
        (Message("exposure", {"level": 12}), "there is no exposure 12. Choose 1 to 9"),
        (Message("spacing", {"mm": -1}), "a spacing of -1 mm is impossible"),
        (Message("mode", {"name": "x-ray"}), "has no mode 'x-ray'"),
        (Message("dance"), "this handheld does not know 'dance'"),
        (Message("hello", {"version": 9}), "this device speaks version 1"),
        (Message("fault", {"name": "meteor"}), "there is no fault 'meteor'"),
        (Message("fault", {"name": "target", "index": 99}), "there is no target 99"),
        (Message("map", {"targets": [[1, 2]]}), "'targets' of a 'map' message is not a list of numbers"),
    ],
)
def test_a_bad_message_is_refused_in_a_sentence(message: Message, words: str) -> None:
    from juxtum.errors import JuxtumError

    with pytest.raises(JuxtumError) as problem:
        HandheldScanner(plate(), MODEL).handle(message)
    assert words in problem.value.sentence


class Served:
    """A stand-in behind a socket, in a child process that can be killed."""

    def __init__(self) -> None:
        ready, told = os.pipe()
        self.process = os.fork()
        if self.process == 0:
            os.close(ready)
            try:
                serve(HandheldScanner(plate(), MODEL), 0, lambda port: os.write(told, f"{port}\n".encode()), once=True)
            finally:
                os._exit(0)
        os.close(told)
        self.port = int(os.read(ready, 20))
        os.close(ready)

    def kill(self) -> None:
        os.kill(self.process, signal.SIGKILL)
        os.waitpid(self.process, 0)


def spoken(link: SocketLink | DirectLink, message: Message) -> list[Message]:
    link.send(message)
    return link.receive(10.0)


def test_a_served_device_answers_and_its_end_is_told() -> None:
    served = Served()
    link = SocketLink(served.port)
    assert spoken(link, Message("hello"))[0].fields["device"] == "handheld"
    assert spoken(link, over())[0].points()["place"].shape[1] == 3
    assert spoken(link, Message("exposure", {"level": 99}))[0].fields["what"] == "there is no exposure 99"
    served.kill()
    with pytest.raises(DeviceError, match="the connection to the device is lost"):
        for _ in range(50):
            spoken(link, over())
    link.close()
    with pytest.raises(DeviceError, match="no device answers at port"):
        SocketLink(served.port, patience=0.1)


@pytest.mark.parametrize(
    ("fault", "words"), [("closed", "is lost"), ("garbage", "the device sent"), ("killed", "is lost")]
)
def test_faults_of_the_connection_are_told(fault: str, words: str) -> None:
    served = Served()
    link = SocketLink(served.port)
    with pytest.raises(DeviceError, match=words):
        for _ in range(5):
            spoken(link, Message("fault", {"name": fault}))
    link.close()
    os.waitpid(served.process, 0)


def test_a_stalled_device_goes_on_afterwards() -> None:
    served = Served()
    link = SocketLink(served.port)
    link.send(Message("fault", {"name": "stalled", "seconds": 0.4}))
    assert link.receive(0.1) == []
    assert spoken(link, Message("hello"))[0].kind == "about"
    served.kill()
    link.close()


def test_somebody_else_on_the_port_is_no_device() -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        threading.Thread(target=lambda: server.accept()[0].sendall(b"HTTP/1.1 200 OK\r\n\r\n" * 3), daemon=True).start()
        link = SocketLink(server.getsockname()[1])
        with pytest.raises(DeviceError, match="something that is not JSON"):
            link.receive(5.0)
        link.close()
    assert json.loads(encode(Message("done")))["kind"] == "done"


def against(behave: Callable[[socket.socket], None]) -> tuple[SocketLink, socket.socket]:
    """A link to a peer that does what it is told to."""
    server = socket.create_server(("127.0.0.1", 0))
    threading.Thread(target=lambda: behave(server.accept()[0]), daemon=True).start()
    return SocketLink(server.getsockname()[1]), server


def test_a_peer_that_drips_bytes_does_not_hold_the_desk() -> None:
    def drip(client: socket.socket) -> None:
        with contextlib.suppress(OSError):
            for _ in range(400):
                client.sendall(b" ")
                time.sleep(0.02)

    link, server = against(drip)
    begun = time.monotonic()
    assert link.receive(0.5) == []
    assert time.monotonic() - begun < 1.5
    link.close()
    server.close()


def test_a_flood_is_taken_a_piece_at_a_time() -> None:
    frame = encode(Message("frame", {"state": "scanning"}, bytes(16 * 2**20)))

    def flood(client: socket.socket) -> None:
        with contextlib.suppress(OSError):
            for _ in range(8):
                client.sendall(frame)

    link, server = against(flood)
    pieces = [len(link.receive(5.0)) for _ in range(3)]
    assert all(0 < count <= 3 for count in pieces), pieces
    link.close()
    server.close()


def test_places_that_no_room_has_are_left_out() -> None:
    places = np.array([[0, 0, 500.0], [1e38, 0, 0], [0, -2e5, 0]])
    frame = Message("frame", {}, packed(places, np.zeros((3, 3)), np.zeros(3, np.uint8)))
    assert frame.points()["place"].tolist() == [[0, 0, 500]]


def test_only_who_knows_the_token_may_connect() -> None:
    ready, told = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            serve(HandheldScanner(plate(), MODEL), 0, lambda port: os.write(told, f"{port}\n".encode()), token="right")
        finally:
            os._exit(0)
    port = int(os.read(ready, 20))
    for token in ("", "wrong"):
        link = SocketLink(port, token)
        assert "is another's, or its token is wrong" in str(spoken(link, Message("hello"))[0].fields["what"])
        link.close()
    link = SocketLink(port, "right")
    assert spoken(link, Message("hello"))[0].kind == "about"
    link.close()
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)


def test_what_a_stand_in_cannot_do_is_an_answer() -> None:
    """A head in a position that the part does not have, and a stand-in that fails: neither ends the connection."""
    head = StructuredLightHead(plate(), shipped(Kind.HEAD))
    assert "no position 7" in str(answers(head, Message("position", {"number": 7}))[0].fields["what"])
    assert answers(head, Message("shoot"))[-1].kind == "frame"

    class Broken:
        def handle(self, message: Message) -> list[Message]:
            raise IndexError(message.kind)

    assert "cannot do 'shoot' as it was asked" in str(answers(Broken(), Message("shoot"))[0].fields["what"])
