"""The route: the stations as stops on a line, each with one computed finding."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QSizePolicy, QVBoxLayout, QWidget

from juxtum.desk.marks import paint_mark
from juxtum.desk.style import THEME, colour, font
from juxtum.guide.findings import Finding, Key, State
from juxtum.look import BODY, SMALL

WIDE, NARROW = 196, 52


class Stop(QAbstractButton):
    """One station on the route."""

    def __init__(self, number: int, key: Key) -> None:
        super().__init__()
        self.number, self.key = number, key
        self.finding = Finding("", State.OPEN)
        self.is_first = number == 1
        self.is_last = number == len(Key)
        self.narrow = False
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setText(key.caption)
        self.setAccessibleName(f"Station {key.caption}")
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_finding(self, finding: Finding) -> None:
        """Another finding."""
        self.finding = finding
        self.setAccessibleDescription(finding.text)
        self.setToolTip(f"{self.key.caption}: {finding.text} (Ctrl+{self.number})")
        self.update()

    def sizeHint(self) -> QSize:
        """Room for two lines."""
        return QSize(NARROW if self.narrow else WIDE, THEME.px(56))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Line, stop, name, finding, mark."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        here, tall = self.isChecked(), self.height()
        if here:
            painter.setPen(QPen(colour("rule"), 1))
            painter.setBrush(colour("panel"))
            painter.drawRoundedRect(QRectF(8, 3, self.width() - 14, tall - 6), 5, 5)
            painter.fillRect(QRectF(8, 5, 3, tall - 10), colour("accent"))
        centre = QPointF(27, tall / 2)
        painter.setPen(QPen(colour("rule"), 2))
        painter.drawLine(QPointF(27, tall / 2 if self.is_first else 0), QPointF(27, tall / 2 if self.is_last else tall))
        done = self.finding.state is State.DONE
        painter.setPen(QPen(colour("accent" if here or done else "rule"), 1.8))
        painter.setBrush(colour("accent") if here else colour("panel"))
        painter.drawEllipse(centre, 11, 11)
        painter.setPen(colour("on_accent" if here else "ink_soft"))
        painter.setFont(font(SMALL, bold=True))
        painter.drawText(
            QRectF(centre.x() - 11, centre.y() - 11, 22, 22), Qt.AlignmentFlag.AlignCenter, str(self.number)
        )
        if not self.narrow:
            self._paint_words(painter, here)
        if self.hasFocus():
            painter.setPen(QPen(colour("accent"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(9, 4, self.width() - 16, tall - 8), 5, 5)
        painter.end()

    def _paint_words(self, painter: QPainter, here: bool) -> None:
        room = self.width() - 54 - (18 if self.finding.verdict else 4)
        painter.setPen(colour("ink"))
        painter.setFont(font(BODY, bold=here or self.finding.state is State.DONE))
        painter.drawText(
            QRectF(48, 9 * THEME.scale, room, 18 * THEME.scale), Qt.AlignmentFlag.AlignVCenter, self.key.caption
        )
        painter.setPen(colour("ink_soft"))
        painter.setFont(font(SMALL))
        text = QFontMetricsF(painter.font()).elidedText(self.finding.text, Qt.TextElideMode.ElideRight, room + 8)
        painter.drawText(QRectF(48, 28 * THEME.scale, room + 8, 16 * THEME.scale), Qt.AlignmentFlag.AlignVCenter, text)
        if self.finding.verdict is not None:
            paint_mark(painter, QPointF(self.width() - 20, 18 * THEME.scale), self.finding.verdict, 10)


class Route(QWidget):
    """All stations that work, in the order of the work."""

    chosen = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("route")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setAccessibleName("Route")
        self.is_narrow = False
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 10, 0, 10)
        layout.setSpacing(0)
        self.stops: dict[Key, Stop] = {}
        for number, key in enumerate(Key, 1):
            stop = Stop(number, key)
            stop.clicked.connect(lambda _, k=key: self.chosen.emit(k))
            layout.addWidget(stop)
            self.stops[key] = stop
        layout.addStretch(1)
        self.resize_to_scale()

    def show_station(self, key: Key) -> None:
        """Mark where the user is."""
        self.stops[key].setChecked(True)

    def show_findings(self, findings: dict[Key, Finding]) -> None:
        """Other findings."""
        for key, finding in findings.items():
            self.stops[key].show_finding(finding)

    def set_narrow(self, narrow: bool) -> None:
        """Only the marks, or marks and words."""
        self.is_narrow = narrow
        self.resize_to_scale()

    def resize_to_scale(self) -> None:
        """Width at the text scale."""
        for stop in self.stops.values():
            stop.narrow = self.is_narrow
            stop.updateGeometry()
        self.setFixedWidth(NARROW if self.is_narrow else THEME.px(WIDE))
        self.update()
