"""Small widgets that all stations use."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from juxtum.errors import InputError
from juxtum.guide.next_actions import NextAction
from juxtum.units import Unit, parse_length


def label(text: str, name: str = "", wrap: bool = False) -> QLabel:
    """A label of one of the stylesheet's kinds."""
    made = QLabel(text)
    made.setObjectName(name)
    made.setWordWrap(wrap)
    return made


def button(text: str, clicked: Callable[[], None], name: str = "", tip: str = "") -> QPushButton:
    """A push button."""
    made = QPushButton(text)
    made.setObjectName(name)
    made.setAccessibleName(text)
    made.setToolTip(tip)
    made.clicked.connect(lambda: clicked())
    return made


def combo(name: str) -> QComboBox:
    """A drop-down list that is no wider than its worksheet, whatever stands in it."""
    made = QComboBox()
    made.setAccessibleName(name)
    made.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    made.setMinimumContentsLength(12)
    return made


def line() -> QFrame:
    """A hairline between parts of a worksheet."""
    made = QFrame()
    made.setFixedHeight(1)
    made.setStyleSheet("background: palette(mid);")
    made.setFrameShape(QFrame.Shape.NoFrame)
    return made


def row(*widgets: QWidget, stretch: bool = True) -> QHBoxLayout:
    """Widgets side by side."""
    made = QHBoxLayout()
    made.setSpacing(8)
    for widget in widgets:
        made.addWidget(widget)
    if stretch:
        made.addStretch(1)
    return made


class NextBox(QFrame):
    """The next sensible action with its reason and one button."""

    wanted = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("next")
        self.setAccessibleName("Next action")
        self._action = ""
        self._text, self._reason = label("", "heading", wrap=True), label("", "soft", wrap=True)
        self._text.setAccessibleName("Next")
        self._button = button("Do it", lambda: self.wanted.emit(self._action), "primary")
        self._button.setAccessibleName("Do the next action")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 12, 12)
        layout.setSpacing(4)
        layout.addWidget(self._text)
        layout.addWidget(self._reason)
        layout.addSpacing(4)
        layout.addLayout(row(self._button))

    @property
    def text(self) -> str:
        """What it proposes, as read."""
        return self._text.text()

    def show_action(self, action: NextAction) -> None:
        """Propose something."""
        self._action = action.action
        self._text.setText(f"Next: {action.text}")
        self._reason.setText(action.reason[:1].upper() + action.reason[1:] + ".")
        self._button.setText(action.button)


class Facts(QWidget):
    """Names on the left, numbers on the right."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setVerticalSpacing(3)
        self._grid.setColumnStretch(0, 1)
        self._labels: list[tuple[QLabel, QLabel]] = []

    def show_facts(self, facts: list[tuple[str, str]]) -> None:
        """Show other facts."""
        while len(self._labels) < len(facts):
            pair = (label("", "soft"), label("", "mono"))
            pair[1].setAlignment(Qt.AlignmentFlag.AlignRight)
            pair[1].setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            at = len(self._labels)
            self._grid.addWidget(pair[0], at, 0)
            self._grid.addWidget(pair[1], at, 1)
            self._labels.append(pair)
        for index, (name, value) in enumerate(self._labels):
            shown = index < len(facts)
            name.setVisible(shown)
            value.setVisible(shown)
            if shown:
                name.setText(facts[index][0])
                value.setText(facts[index][1])
        self.setVisible(bool(facts))

    @property
    def facts(self) -> dict[str, str]:
        """What is shown."""
        return {name.text(): value.text() for name, value in self._labels if not name.isHidden()}


class LengthField(QLineEdit):
    """A length: takes units and decimal commas, shows millimetres."""

    chosen = pyqtSignal(float)
    missing = "unknown"
    """What is shown where no value is stated."""

    def __init__(self, name: str, value: float, tip: str = "") -> None:
        super().__init__()
        self.setObjectName("number")
        self.setAccessibleName(name)
        self.setToolTip(tip or f"{name} in mm; 0,2 or 1/64 in work too")
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setFixedWidth(92)
        self.value = value
        self.set_value(value)
        self.editingFinished.connect(self._finished)

    def set_value(self, value: float | None) -> None:
        """Show a value; None is shown as missing."""
        self.value = 0.0 if value is None else value
        self.setPlaceholderText(self.missing if value is None else "")
        self.setText("" if value is None else f"{value:g}")
        self._mark(False)

    @property
    def stated(self) -> float | None:
        """The value, or None while nothing is stated."""
        return None if self.placeholderText() and not self.text() else self.value

    def _mark(self, bad: bool) -> None:
        self.setProperty("bad", "true" if bad else "false")
        style = self.style()
        if style is not None:
            style.unpolish(self)
            style.polish(self)

    def _finished(self) -> None:
        if self.placeholderText() and not self.text().strip():
            return
        try:
            value = parse_length(self.text(), Unit.MILLIMETRE)
        except InputError as problem:
            self._mark(True)
            self.setToolTip(problem.sentence)
            return
        self._mark(False)
        if value != self.value or self.placeholderText():
            self.value = value
            self.setPlaceholderText("")
            self.chosen.emit(value)


class RowTable(QTableWidget):
    """A table of which whole rows are chosen and nothing is typed into."""

    ROW = 24

    def __init__(self, name: str, columns: tuple[str, ...], *, many: bool = False) -> None:
        super().__init__(0, len(columns))
        modes = QAbstractItemView.SelectionMode
        self.setAccessibleName(name)
        self.setHorizontalHeaderLabels(columns)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(modes.ExtendedSelection if many else modes.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        rows = self.verticalHeader()
        assert rows is not None
        rows.hide()
        rows.setDefaultSectionSize(self.ROW)

    def stretch(self, column: int) -> None:
        """Give one column what room the others leave."""
        heads = self.horizontalHeader()
        assert heads is not None
        heads.setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)

    def fit_height(self, most: int) -> None:
        """As tall as its rows, up to so many."""
        self.setFixedHeight(min(self.rowCount(), most) * self.ROW + 34)

    def write(self, row: int, column: int, text: str, tip: str = "", *, right: bool = False) -> None:
        """A text in a cell."""
        item = QTableWidgetItem(text)
        item.setToolTip(tip)
        if right:
            item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.setItem(row, column, item)

    @property
    def rows_chosen(self) -> list[int]:
        """The rows that are chosen, in order."""
        model = self.selectionModel()
        return sorted(index.row() for index in model.selectedRows()) if model is not None else []


class Choice(QComboBox):
    """A drop-down list with a prefix in front of what is chosen."""

    picked = pyqtSignal(str)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.activated.connect(lambda index: self.picked.emit(self.itemData(index)))

    def show_options(self, options: list[tuple[str, str]], chosen: str) -> None:
        """Show (value, text) pairs and choose one."""
        self.blockSignals(True)
        self.clear()
        for value, text in options:
            self.addItem(text, str(value))
        values = [str(value) for value, _ in options]
        self.setCurrentIndex(values.index(str(chosen)) if str(chosen) in values else 0 if options else -1)
        if not options:
            self.setPlaceholderText("none yet")
        self.blockSignals(False)
        self.setEnabled(len(options) > 0)


def column(panel: QWidget, spacing: int = 10) -> QVBoxLayout:
    """Lines of a panel, one below the other, without an edge of its own."""
    lines = QVBoxLayout(panel)
    lines.setContentsMargins(0, 0, 0, 0)
    lines.setSpacing(spacing)
    return lines


def form(rows: list[tuple[str, QWidget]]) -> QGridLayout:
    """Names on the left, fields on the right."""
    grid = QGridLayout()
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setHorizontalSpacing(10)
    grid.setVerticalSpacing(6)
    grid.setColumnStretch(1, 1)
    for index, (name, field) in enumerate(rows):
        words = label(name, "soft")
        words.setBuddy(field)
        grid.addWidget(words, index, 0)
        grid.addWidget(field, index, 1)
    return grid
