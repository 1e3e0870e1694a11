"""The section drawer under the stage: the drawing of the chosen section beside its lines and arcs."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QEvent, Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from juxtum.desk.sectioning.canvas import SectionCanvas
from juxtum.desk.style import THEME, font
from juxtum.desk.widgets import Choice, button, label, row
from juxtum.evaluate.readings import Reading
from juxtum.evaluate.sections import Section, between
from juxtum.geometry.arrays import Floats
from juxtum.guide.sections import dimension_words, feature_words, section_words
from juxtum.look import SMALL
from juxtum.scene.palette import MapScale
from juxtum.scene.section_picture import NICE, section_picture, usual_enlargement


class SectionDrawer(QWidget):
    """Shows one section; two chosen features make a dimension."""

    closed = pyqtSignal()
    wanted = pyqtSignal(object)
    """Write it: the section."""
    pinned = pyqtSignal(object)
    """Read the deviation at a place of the part (3,), mm."""

    def __init__(self) -> None:
        super().__init__()
        self._readings: tuple[Reading, ...] = ()
        self.setAccessibleName("Section drawer")
        self.section: Section | None = None
        self._scale = MapScale(-0.2, 0.2)
        across = QHBoxLayout(self)
        across.setContentsMargins(12, 8, 12, 8)
        across.setSpacing(12)
        self.canvas = SectionCanvas()
        self.canvas.picked.connect(self._pick)
        self.canvas.placed.connect(self._place)
        across.addWidget(self.canvas, 3)
        side = QVBoxLayout()
        side.setSpacing(6)
        self._title = label("", "heading", wrap=True)
        self._title.setAccessibleName("Name of the section")
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("What the section shows")
        self.features = QListWidget()
        self.features.setAccessibleName("Features of the section")
        self.features.setSelectionMode(QAbstractItemView.SelectionMode.MultiSelection)
        self.features.setWordWrap(True)
        self.features.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.features.itemSelectionChanged.connect(self._choose)
        self._between = label("", "", wrap=True)
        self._between.setAccessibleName("Dimension")
        self._enlarge = Choice("Enlarge deviations")
        self._enlarge.setMinimumContentsLength(17)
        self._enlarge.picked.connect(lambda _: self._draw(False))
        self._pin = button(
            "Pin readings in it", self._want_places, tip="Click the measured curve where you want its deviation"
        )
        self._pin.setCheckable(True)
        self._close = button("Back to the ledger", self.closed.emit, tip="Close the drawing")
        self._write = button("Export section\u2026", self._want, tip="DXF for CAD, SVG for documents, CSV for tables")
        side.addLayout(row(self._title, stretch=False))
        side.addWidget(self._words)
        side.addWidget(self.features, 1)
        side.addWidget(self._between)
        side.addLayout(row(self._enlarge, self._pin))
        side.addLayout(row(self._write, self._close))
        across.addLayout(side, 2)
        self.hide()

    def show_section(self, section: Section | None, scale: MapScale, readings: tuple[Reading, ...] = ()) -> None:
        """Show a section with the readings that lie in it, or nothing."""
        is_another = section is None or self.section is None or self.section.plane.name != section.plane.name
        chosen = self.canvas.chosen
        self.section, self._scale, self._readings = section, scale, readings
        if section is None:
            return
        usual = usual_enlargement([section])
        now = self._enlarge.currentData() or "0"
        options = [("0", f"enlarged \u00d7 {usual}, as fits"), *((str(n), f"enlarged \u00d7 {n}") for n in NICE)]
        self._enlarge.show_options(options, now)
        self._title.setText(section.plane.name)
        self._words.setText(section_words(section))
        self.features.blockSignals(True)
        self.features.clear()
        for feature in section.features:
            item = QListWidgetItem(feature_words(feature))
            item.setData(Qt.ItemDataRole.UserRole, feature.name.split()[-1])
            item.setFont(font(SMALL + 1))
            self.features.addItem(item)
            item.setSelected(not is_another and feature.name.split()[-1] in chosen)
        self.features.blockSignals(False)
        self._draw(is_another)
        self._choose()

    def _draw(self, is_another: bool) -> None:
        if self.section is None:
            return
        times = int(self._enlarge.currentData() or 0) or usual_enlargement([self.section])
        picture = section_picture(self.section, self._scale, times, THEME.look, self._readings)
        self.canvas.show_picture(picture, is_another)

    def _want_places(self) -> None:
        """A click reads a deviation from now on, or chooses again."""
        self.canvas.wants_places = self._pin.isChecked()
        self.canvas.setCursor(Qt.CursorShape.CrossCursor if self._pin.isChecked() else Qt.CursorShape.ArrowCursor)

    def _place(self, flat: Floats) -> None:
        if self.section is not None:
            self.pinned.emit(self.section.plane.space(flat[None])[0])

    def changeEvent(self, event: QEvent | None) -> None:
        """Another look."""
        super().changeEvent(event)
        if event is not None and event.type() == QEvent.Type.StyleChange:
            self._draw(False)

    def _pick(self, number: str) -> None:
        """Choose or let go of a feature by its number; of two the older one gives way to a third."""
        for index in range(self.features.count()):
            item = self.features.item(index)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == number:
                if not item.isSelected() and len(self.features.selectedItems()) > 1:
                    self.features.clearSelection()
                item.setSelected(not item.isSelected())
                self.features.scrollToItem(item)

    def _choose(self) -> None:
        """Mark what is chosen; with two of them say what lies between them."""
        assert self.section is not None
        numbers = tuple(item.data(Qt.ItemDataRole.UserRole) for item in self.features.selectedItems())
        self.canvas.choose(numbers)
        if len(numbers) == 2:
            known = {feature.name.split()[-1]: feature for feature in self.section.features}
            one, two = known[numbers[0]], known[numbers[1]]
            self._between.setText(dimension_words(one.name, two.name, between(one, two)))
        else:
            self._between.setText("Choose two of them for the dimension between them.")

    def _want(self) -> None:
        if self.section is not None:
            self.wanted.emit(self.section)


def suggested(section: Section) -> str:
    """A file name for a section."""
    stem = "".join(c if c.isalnum() or c in " -_.=" else "-" for c in section.plane.name).strip() or "section"
    return str(Path(f"section {stem}.dxf"))
