"""What floats over the stage at Plan: the topics, and the legend of targets in view."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QButtonGroup, QFrame, QGridLayout, QToolButton, QWidget

from juxtum.desk.planning.topics import EffortAnswer, Topic
from juxtum.desk.style import THEME, colour, font
from juxtum.look import SMALL
from juxtum.scene.plan_layers import BANDS

TRACKED = ("seen while", "tracking")
SCANNED = ("scanned by the", "schedule")


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
    """The colours of how well places are seen while tracking, or of when they are scanned."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._title: tuple[str, str] = TRACKED
        self._bands: tuple[tuple[str, str], ...] = BANDS
        self.setAccessibleName("Seen while tracking")
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hide()

    def sizeHint(self) -> QSize:
        """A narrow column."""
        return QSize(THEME.px(126), THEME.px(58 + 22 * len(self._bands)))

    def show_answer(self, made: object, *, is_tracked: bool) -> None:
        """The bands of an answer; away where it has none."""
        if isinstance(made, EffortAnswer):
            self.show_bands(SCANNED, made.captions)
        elif is_tracked:
            self.show_bands()
        self.setVisible(is_tracked or isinstance(made, EffortAnswer))

    def show_bands(self, title: tuple[str, str] = TRACKED, bands: tuple[tuple[str, str], ...] = BANDS) -> None:
        """Title, and the name and caption of each band."""
        self._title, self._bands = title, bands
        self.setAccessibleName(" ".join(title).capitalize())
        self.setAccessibleDescription(", ".join(caption for _, caption in bands))
        self.resize(self.sizeHint())
        self.update()

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
        for line, text in enumerate(self._title):
            painter.drawText(QPointF(10 * k, (17 + 14 * line) * k), text)
        for index, (name, caption) in enumerate(self._bands):
            top = (40 + 22 * index) * k
            painter.fillRect(QRectF(10 * k, top, 20 * k, 22 * k), colour(f"band_{name}"))
            painter.setPen(colour("ink"))
            painter.setFont(font(SMALL + 1))
            painter.drawText(QRectF(38 * k, top, 86 * k, 22 * k), Qt.AlignmentFlag.AlignVCenter, caption)
        painter.end()
