"""The register in the real window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QLabel, QLineEdit, QPushButton

from hand import Hand, close, opened_demo
from juxtum.desk.readying.register_dialog import RegisterDialog
from juxtum.guide.findings import Key
from test_register import own_scanner


def _enter_the_own_scanner(desk: Hand, dialog: RegisterDialog, folder: Path) -> None:
    """A scanner that does not ship, by its document."""

    def said() -> str:
        field = desk.named("Register says", QLabel, dialog)
        assert isinstance(field, QLabel)
        return field.text()

    kind = desk.named("Kind of entry", QComboBox, dialog)
    assert isinstance(kind, QComboBox)
    paper = folder / "ours.json"
    paper.write_text(own_scanner().model_dump_json(by_alias=True), "utf-8")
    kind.setCurrentText("ball")
    kind.activated.emit(kind.currentIndex())
    assert not desk.named("Load its document\u2026", QPushButton, dialog).isEnabled()
    kind.setCurrentText("instrument")
    kind.activated.emit(kind.currentIndex())
    dialog.load(folder / "none.json")
    desk.wait()
    assert "there is no such file" in said()
    dialog.load(paper)
    dialog.load(paper)
    desk.wait()
    assert said() == "Our scanner can be entered now."
    QTest.mouseClick(desk.named("Enter it", QPushButton, dialog), Qt.MouseButton.LeftButton)
    desk.wait()
    assert dialog.table.rowCount() == 11


@dataclass(frozen=True)
class Means:
    """How one clicks, types and reads in the dialog."""

    desk: Hand
    click: Callable[[str], None]
    put: Callable[[str, str], None]
    told: Callable[[str], str]


def _enter_a_bar_with_its_certificate(dialog: RegisterDialog, folder: Path, means: Means) -> None:
    desk, click, put, told = means.desk, means.click, means.put, means.told
    kind = desk.named("Kind of entry", QComboBox, dialog)
    assert isinstance(kind, QComboBox)
    kind.setCurrentText("scale bar")
    kind.activated.emit(kind.currentIndex())
    click("Enter it")
    assert "the length of a scale bar must be more than 0 mm" in told("Register says")
    for name, text in (("Length of entry", "1000,02"), ("Uncertainty of entry", "0.01"), ("Name of entry", "bar C")):
        put(name, text)
        desk.named(name, QLineEdit, dialog).editingFinished.emit()
    click("Enter it")
    assert dialog.table.rowCount() == 11 and told("Register says") == "Entered: bar C."
    row = next(k for k in range(11) if dialog.table.item(k, 1).text() == "bar C")
    assert dialog.table.item(row, 2).text() == "1000.02 mm, U 0.01 mm"
    dialog.table.selectRow(row)
    desk.wait()
    paper = folder / "paper.pdf"
    paper.write_bytes(b"%PDF-1.4 made up")
    dialog.attach(paper)
    put("Certificate number of entry", "C-9")
    click("Enter the certificate")
    assert "the day until which the certificate is valid is missing" in told("Register says")
    put("Valid until of entry", "2099-01-31")
    click("Enter the certificate")
    assert "C-9 until 2099-01-31" in told("History of certificates")
    assert "with document" in told("History of certificates")
    click("Take it out")
    assert dialog.table.rowCount() == 10


def test_the_register_is_entered_on_the_desk(qapp: QApplication, tmp_path: Path) -> None:
    """What the shop has: listed, entered, certified with a document; planning compares what it holds."""
    desk = opened_demo(tmp_path, {"logbook/demo": f"sqlite:///{tmp_path / 'book.sqlite'}"})
    desk.go(Key.READY)
    desk.click("Register\u2026")
    found = [w for w in desk.window.findChildren(RegisterDialog) if w.isVisible()]
    dialog = found[0]
    desk.wait(lambda: dialog.table.rowCount() == 10)

    def click(name: str) -> None:
        QTest.mouseClick(desk.named(name, QPushButton, dialog), Qt.MouseButton.LeftButton)
        desk.wait()

    def put(name: str, text: str) -> None:
        field = desk.named(name, QLineEdit, dialog)
        assert isinstance(field, QLineEdit)
        field.setText(text)

    def told(name: str) -> str:
        field = desk.named(name, QLabel, dialog)
        assert isinstance(field, QLabel)
        return field.text()

    _enter_a_bar_with_its_certificate(dialog, tmp_path, Means(desk, click, put, told))
    _enter_the_own_scanner(desk, dialog, tmp_path)
    click("Close")
    assert set(desk.window.hub.shop.owned.instruments) == {"wh-3", "wt-2", "wp-24", "wb-1", "shop-1"}
    desk.go(Key.PLAN)
    desk.wait()
    scanner = desk.named("Scanner", QComboBox)
    assert isinstance(scanner, QComboBox)
    scanner.setCurrentText("Our scanner")
    scanner.activated.emit(scanner.currentIndex())
    desk.wait()
    plan = desk.window.session.job.plan
    assert plan is not None and plan.instrument.id == "shop-1"
    close(desk.window)
