"""The floor view: dial, coverage, targets in view and the part, legible at four metres."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from juxtum.capture.live.patch import State
from juxtum.capture.live.snapshot import SIMULATED, Snapshot
from juxtum.desk.capturing.dial import StandOffDial
from juxtum.desk.stage_view import StageView
from juxtum.desk.style import colour, font


class Tile(QWidget):
    """One large value with what it is."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.value, self.beside, self.below = "\u2013", "", name
        self._alert = False

    def show_value(self, value: str, beside: str, below: str, *, alert: bool = False) -> None:
        """Show another value."""
        self.value, self.beside, self.below, self._alert = value, beside, below, alert
        self.setAccessibleDescription(f"{value} {beside}".strip())
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Value large, the rest small."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("floor_tile"))
        painter.drawRoundedRect(QRectF(self.rect()), 8, 8)
        size = min(self.height() * 0.46, 60.0)
        inner = QRectF(self.rect()).adjusted(20, 8, -18, -10)
        painter.setPen(colour("floor_soft"))
        painter.setFont(font(18))
        beside = painter.fontMetrics().horizontalAdvance(self.beside)
        painter.drawText(
            inner.adjusted(0, size * 0.35, 0, 0), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, self.beside
        )
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, self.below)
        painter.setPen(colour("floor_alert" if self._alert else "floor_ink"))
        painter.setFont(font(size, bold=True))
        while size > 18 and painter.fontMetrics().horizontalAdvance(self.value) > inner.width() - beside - 10:
            size -= 2
            painter.setFont(font(size, bold=True))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, self.value)
        painter.end()


class FloorView(QWidget):
    """Covers the desk while the scanner is in the hand; the stage moves into it and back."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Floor view")
        self.head = _Head()
        self.dial = StandOffDial(is_floor=True)
        self.targets, self.share = Tile("targets in view"), Tile("of what is measured")
        self.missing, self.light = Tile("missing next"), Tile("exposure")
        self._middle = QHBoxLayout()
        self._middle.setSpacing(20)
        self._middle.addWidget(self.dial, 4)
        tiles = QHBoxLayout()
        tiles.setSpacing(16)
        for tile, stretch in ((self.targets, 4), (self.share, 5), (self.missing, 6), (self.light, 5)):
            tile.setFixedHeight(112)
            tiles.addWidget(tile, stretch)
        down = QVBoxLayout(self)
        down.setContentsMargins(24, 14, 24, 22)
        down.setSpacing(18)
        down.addWidget(self.head)
        down.addLayout(self._middle, 1)
        down.addLayout(tiles)
        self.hide()

    def take(self, stage: StageView) -> None:
        """Show the stage here."""
        self._middle.addWidget(stage, 6)
        stage.show()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """A dark ground."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("floor"))
        painter.end()

    def show_snapshot(self, snapshot: Snapshot, title: str) -> None:
        """Show a moment."""
        running = next((p for p in snapshot.patches if p.is_running), None)
        where = ", turned over" if snapshot.position else ""
        number = str(running.number) if running else "\u2013"
        simulated = " \u00b7 simulated" if snapshot.device.endswith(SIMULATED) else ""
        self.head.show_words(
            f"{title} \u00b7 patch {number}{where}{simulated}", snapshot.seconds, snapshot.expected_seconds
        )
        self.dial.show_snapshot(snapshot)
        few = snapshot.targets < snapshot.needed
        self.targets.show_value(str(snapshot.targets), f"needs {snapshot.needed}", "targets in view", alert=few)
        self.share.show_value(
            f"{100 * snapshot.coverage:.0f} %", f"of {100 * snapshot.goal:.0f} %", "of what is measured"
        )
        if snapshot.state in (State.GONE, State.FULL, State.JUMP, State.LOST, State.HIDDEN, State.MOVED):
            self.missing.show_value(snapshot.state.value, "", snapshot.why[:46], alert=True)
        else:
            name = snapshot.view.name if snapshot.view is not None else "nothing"
            turn = (
                "turn the part over for it"
                if snapshot.view is not None and snapshot.view.turns_over
                else "missing next"
            )
            self.missing.show_value(name, "", turn, alert=snapshot.view is not None)
        bad = snapshot.exposure_words != "light is good"
        self.light.show_value(f"light {snapshot.exposure}", "", snapshot.exposure_words, alert=bad)


class _Head(QWidget):
    """Part and patch on the left, time on the right."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(40)
        self._words, self._time, self._of = "", "00:00", ""

    def show_words(self, words: str, seconds: float, expected: float) -> None:
        self._words, self._time = words, clock(seconds)
        self._of = f"of about {clock(expected)}" if expected > 0 else ""
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(colour("floor_ink"))
        painter.setFont(font(20))
        painter.drawText(QRectF(self.rect()), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, self._words)
        painter.setPen(colour("floor_soft"))
        wide = painter.fontMetrics().horizontalAdvance(self._of)
        painter.drawText(QRectF(self.rect()), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self._of)
        painter.setPen(colour("floor_ink"))
        painter.setFont(font(20, bold=True, mono=True))
        painter.drawText(
            QRectF(self.rect()).adjusted(0, 0, -wide - 12, 0),
            Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
            self._time,
        )
        painter.end()


def clock(seconds: float) -> str:
    """Minutes and seconds.

    Examples
    --------
    >>> clock(252.4)
    '04:12'
    """
    whole = int(seconds)
    return f"{whole // 60:02d}:{whole % 60:02d}"
