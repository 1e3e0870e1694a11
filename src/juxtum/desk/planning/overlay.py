"""What floats over the stage at Plan: the topics, and the legend of targets in view."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QButtonGroup, QFrame, QGridLayout, QToolButton, QWidget

from juxtum.desk.planning.topics import Topic
from juxtum.desk.style import THEME, colour, font
from juxtum.look import SMALL
from juxtum.scene.plan_layers import BANDS


class TopicBar(QFrame):
    """One button a topic."""

    chosen = pyqtSignal(object)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("stageBar")
        self.setAccessibleName("Topics of the plan")
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(4, 3, 4, 3)
        self._grid.setSpacing(0)
        self._group = QButtonGroup(self)
        self._group.setExclusive(True)
        self.buttons: dict[Topic, QToolButton] = {}
        for topic in Topic:
            button = QToolButton()
            button.setText(topic.value)
            button.setAccessibleName(f"Topic {topic.value}")
            button.setCheckable(True)
            button.clicked.connect(lambda _, t=topic: self.chosen.emit(t))
            self._group.addButton(button)
            self.buttons[topic] = button
        self.hide()

    def fit(self, width: float) -> None:
        """One row where there is room, two where there is not."""
        wide = sum(button.sizeHint().width() for button in self.buttons.values()) + 10
        in_row = len(self.buttons) if wide <= width else (len(self.buttons) + 1) // 2
        for index, button in enumerate(self.buttons.values()):
            self._grid.addWidget(button, index // in_row, index % in_row)
        self._grid.activate()
        self.adjustSize()

    def show_topic(self, topic: Topic) -> None:
        """Mark the topic at hand."""
        self.buttons[topic].setChecked(True)


class BandLegend(QWidget):
    """The colours of how well places are seen while tracking."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAccessibleName("Seen while tracking")
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hide()

    def sizeHint(self) -> QSize:
        """A narrow column."""
        return QSize(THEME.px(112), THEME.px(58 + 22 * len(BANDS)))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Title and one swatch a band."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        k = THEME.scale
        painter.setPen(QPen(colour("rule"), 1))
        painter.setBrush(colour("panel"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)
        painter.setFont(font(SMALL))
        painter.setPen(colour("ink_soft"))
        for line, text in enumerate(("seen while", "tracking")):
            painter.drawText(QPointF(10 * k, (17 + 14 * line) * k), text)
        for index, (name, caption) in enumerate(BANDS):
            top = (40 + 22 * index) * k
            painter.fillRect(QRectF(10 * k, top, 20 * k, 22 * k), colour(f"band_{name}"))
            painter.setPen(colour("ink"))
            painter.setFont(font(SMALL + 1))
            painter.drawText(QRectF(38 * k, top, 70 * k, 22 * k), Qt.AlignmentFlag.AlignVCenter, caption)
        painter.end()
