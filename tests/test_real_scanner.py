"""A scanner that is not ours: found by its address, it sends frames by itself; and what is simulated says so."""

from __future__ import annotations

import socket
import threading
from pathlib import Path

import pytest
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel, QLineEdit

from hand import Hand, close, opened
from helpers import bracket_mesh
from juxtum.capture.path.route import hands, path, tracked_poses
from juxtum.capture.ways.watching import MOST, FolderWatch
from juxtum.demo.bodies import made_body
from juxtum.desk.capturing.watching import WatchBox
from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.link import parse_address
from juxtum.devices.protocol import FrameParser, Message, encode
from juxtum.errors import InputError
from juxtum.instruments.circumstances import SIMULATED
from juxtum.job import Job
from juxtum.job.planning import with_captured_circumstances
from juxtum.logbook.captures import captures_with, entry_of
from juxtum.plan.planner import Planner

TOKEN = "let me in"


class Maker:
    """Another maker's scanner: answers what it is asked, and sends frames along a path when its trigger is pulled."""

    def __init__(self, planner: Planner, kind: str = "handheld") -> None:
        self._planner, self._kind = planner, kind
        self._device = HandheldScanner(made_body(planner.nominal, planner.plan, "BC-220"), planner.model, 3)
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port: int = self._server.getsockname()[1]
        self.trigger, self._lock, self.heard = threading.Event(), threading.Lock(), list[str]()
        self._client: socket.socket | None = None
        for work in (self._listen, self._scan):
            threading.Thread(target=work, daemon=True, name=f"maker {work.__name__}").start()

    def _send(self, message: Message) -> None:
        with self._lock:
            if self._client is not None:
                self._client.sendall(encode(message))

    def _listen(self) -> None:
        while True:
            try:
                client, _ = self._server.accept()
            except OSError:
                return
            self._client, parser, is_known = client, FrameParser(), False
            with client:
                try:
                    while data := client.recv(1 << 16):
                        for message in parser.feed(data):
                            self.heard.append(message.kind)
                            is_known |= message.kind == "token" and message.text("token") == TOKEN
                            if message.kind != "token" and is_known:
                                self._answer(message)
                except OSError:
                    pass
            self._client = None

    def _answer(self, message: Message) -> None:
        if message.kind == "hello":
            about = {"version": 1, "device": self._kind, "name": "Oddly 5", "stand_in": False}
            self._send(Message("about", about))
            return
        for answer in self._device.handle(message):
            self._send(answer)

    def _scan(self) -> None:
        """Nobody asks for these frames."""
        if not self.trigger.wait(120):
            return
        ground = self._planner.ground()
        for message in hands(path(ground, tracked_poses(self._planner))[:14], self._planner.mode, 2.0):
            for answer in self._device.handle(message):
                try:
                    self._send(answer)
                except OSError:
                    return

    def close(self) -> None:
        self.trigger.set()
        self._server.close()


def paced_by(station: object) -> float:
    """How much longer the shop takes than estimated, as the planner counts."""
    pace = station.planner.effort().pace  # type: ignore[attr-defined]
    return pace.ratio if pace is not None else 1.0


def type_in(capturing: Hand, name: str, text: str) -> None:
    field = capturing.named(name, QLineEdit)
    assert isinstance(field, QLineEdit)
    field.setText(text)
    field.editingFinished.emit()


def test_a_scanner_is_let_in_by_its_address_and_sends_by_itself(capturing: Hand) -> None:
    station = capturing.window.capture
    maker = Maker(station.planner)
    type_in(capturing, "Scanner address", f"127.0.0.1:{maker.port}")
    type_in(capturing, "Scanner token", TOKEN)
    capturing.click("Connect the scanner")
    capturing.wait(lambda: station.snapshot is not None and station.snapshot.device == "Oddly 5")
    assert not capturing.named("Hold the scanner").isEnabled(), "nothing here moves a scanner that somebody holds"
    capturing.click("New patch")
    maker.trigger.set()
    capturing.wait(lambda: station.snapshot.points_taken > 20_000 and station.snapshot.is_recognised)
    assert "hand" not in maker.heard and maker.heard[0] == "token"
    assert station.snapshot.one_pass > 0.05
    capturing.click("Disconnect")
    capturing.wait(lambda: station.driver is None and capturing.window.session.job.capture is not None)
    record = capturing.window.session.job.capture
    assert not record.stand_in and record.points > 20_000
    job = with_captured_circumstances(capturing.window.session.job, record)
    assert not job.circumstances.is_simulated and SIMULATED not in job.circumstances.notes
    stand_in = with_captured_circumstances(job, record.model_copy(update={"stand_in": True}))
    assert SIMULATED in stand_in.circumstances.notes
    shop = capturing.window.hub.shop
    capturing.wait(lambda: shop.book is not None and captures_with(shop.book, "wh-3")[:1])
    (written,) = [row for row in captures_with(shop.book, "wh-3") if row.job == job.id]
    assert (written.began, written.seconds) == (record.began, record.seconds)
    assert written.planned == pytest.approx(
        60 * station.planner.effort().effort.capture / 1.35 / paced_by(station), rel=1e-6
    )
    assert entry_of(job, station.planner, record.model_copy(update={"stand_in": True})) is None, (
        "a stand-in has no hands"
    )
    maker.close()


def test_an_address_that_leads_nowhere_or_to_another_kind_gets_a_sentence(capturing: Hand) -> None:
    station = capturing.window.capture
    type_in(capturing, "Scanner address", "no address")
    capturing.click("Connect the scanner")
    assert "is no address of a device" in capturing.window.notice.text and station.driver is None
    probe = Maker(station.planner, "probe")
    type_in(capturing, "Scanner address", f"localhost:{probe.port}")
    type_in(capturing, "Scanner token", TOKEN)
    capturing.click("Connect the scanner")
    capturing.wait(lambda: "this is a probe, the plan's scanner is a handheld one" in capturing.window.notice.text)
    probe.close()
    QTest.qWait(50)


@pytest.mark.parametrize(
    "text", ["", "4711 ", "machine", "machine:", "machine:0", "machine:70000", "a b:5", "tcp://machine:5"]
)
def test_what_is_no_address_is_refused(text: str) -> None:
    if text.strip().isdecimal():
        assert parse_address(text) == ("127.0.0.1", 4711)
        return
    with pytest.raises(InputError, match="is no address of a device"):
        parse_address(text)


def test_scans_that_another_program_writes_come_into_the_job(application: QApplication, tmp_path: Path) -> None:
    """Only whole ones, in their order, and again when they are written anew; a broken one gets its sentence."""
    folder = tmp_path / "out"
    folder.mkdir()
    window = opened(tmp_path)
    hand, box = Hand(window), window.findChild(WatchBox)
    assert box is not None
    part = bracket_mesh()
    part.export(folder / "before.stl")
    box.watch(folder)
    whole = part.export(file_type="stl")
    (folder / "first.stl").write_bytes(whole[:2000])
    QTest.qWait(1300)
    (folder / "first.stl").write_bytes(whole)
    (folder / "notes.pdf").write_bytes(b"no scan")
    hand.wait(lambda: len(window.session.job.scans) == 1)
    assert window.session.job.scans[0].file.name == "first.stl" and "1 scan so far" in said(hand)
    (folder / "broken.ply").write_bytes(b"ply\nformat binary_little_endian 1.0\nelement vertex 9\nend_header\n")
    hand.wait(lambda: "broken.ply" in window.notice.text)
    (folder / "second.stl").write_bytes(whole)
    hand.wait(lambda: len(window.session.job.scans) == 2)
    part.apply_scale(1.01)
    (folder / "first.stl").write_bytes(part.export(file_type="stl"))
    hand.wait(lambda: len(window.session.job.scans) == 3)
    assert [held.file.name for held in window.session.job.scans].count("first.stl") == 2
    window.session.start(Job())
    hand.wait(lambda: "no longer watched" in words(box))
    close(window)


def words(box: WatchBox) -> str:
    return next(w.text() for w in box.findChildren(QLabel) if w.accessibleName() == "Watched folder")


def said(capturing: Hand) -> str:
    box = capturing.window.findChild(WatchBox)
    assert box is not None
    capturing.wait(lambda: "so far" in words(box))
    return words(box)


def test_a_folder_that_is_none_cannot_be_watched(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="this folder cannot be read"):
        FolderWatch(tmp_path / "nowhere")
    for k in range(MOST + 1):
        (tmp_path / f"{k}.stl").touch()
    with pytest.raises(InputError, match="it should be one into which scans are written"):
        FolderWatch(tmp_path)
