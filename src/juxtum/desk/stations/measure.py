"""Measure: the map, readings, and how each verdict came to be."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QListWidget, QListWidgetItem, QWidget

from juxtum.desk.action import Action
from juxtum.desk.detail import Detail
from juxtum.desk.featuring.panel import FeaturePanel
from juxtum.desk.mapping.checking import CheckPanel
from juxtum.desk.mapping.held import HeldPanel
from juxtum.desk.mapping.limits import LimitsPanel
from juxtum.desk.mapping.reading_list import bring_readings
from juxtum.desk.mapping.walls import WallPanel
from juxtum.desk.mapping.worst import WorstPanel
from juxtum.desk.overlays import Pin
from juxtum.desk.sectioning.panel import SectionPanel
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.stations.base import Station
from juxtum.desk.style import font
from juxtum.desk.widgets import LengthField, button, label, line, row
from juxtum.errors import InputError
from juxtum.evaluate import LineResult, Reading
from juxtum.geometry.arrays import Floats
from juxtum.guide.facts import doubtful_places, numbered_warnings
from juxtum.guide.findings import Key
from juxtum.guide.next_actions import worst_result
from juxtum.guide.readings import grid_of, grid_words
from juxtum.job import Job
from juxtum.job.steps import GridStep, ReadingStep
from juxtum.look import SMALL
from juxtum.scene.picking import Hit
from juxtum.units import parse_length
from juxtum.wording import measured, uncertainty


class MeasureStation(Station):
    """The worksheet of Measure."""

    key = Key.MEASURE

    def build(self) -> None:
        """The selected value with its budget, readings, limits of the map, statistics."""
        self.line, self.reading = "", ""
        self._detail = Detail()
        self.body.addWidget(self._detail)
        self.check = CheckPanel(self.desk)
        self.body.addWidget(self.check)
        self._against = label("", "warning", wrap=True)
        self._against.setAccessibleName("What stands against it")
        self._against.setTextFormat(Qt.TextFormat.PlainText)
        self.body.addWidget(self._against)
        self.body.addWidget(line())
        self._build_readings()
        self.worst = WorstPanel(self.desk, self.pin)
        self.sections = SectionPanel(self.desk, self.dress, self.pin)
        self.features = FeaturePanel(self.desk, self.dress)
        self.walls, self.limits = WallPanel(self.desk, self.dress), LimitsPanel(self.desk)
        self.held = HeldPanel(self.desk, self.dress)
        for panel in (self.worst, self.sections, self.features, self.walls, self.held, self.limits):
            self.body.addWidget(line())
            self.body.addWidget(panel)

    def _build_readings(self) -> None:
        self.body.addWidget(label("Readings", "heading"))
        self._pin = button("Pin readings", self.toggle_pin, tip="Click places of the part (P)")
        self._pin.setCheckable(True)
        self._place = QLineEdit()
        self._place.setAccessibleName("Place of a reading")
        self._place.setPlaceholderText("X Y Z in mm")
        self._place.returnPressed.connect(self._typed)
        self.body.addLayout(_side(self._pin, self._place))
        self._grid = button("Grid on face\u2026", self.toggle_grid, tip="Click a face to spread readings over it")
        self._grid.setCheckable(True)
        self._spacing = LengthField("Grid spacing", 20.0)
        self.body.addLayout(row(self._grid, label("every", "soft"), self._spacing, label("mm", "soft")))
        self._list = QListWidget()
        self._list.setAccessibleName("Readings")
        self._list.setMinimumHeight(60)
        self._list.currentItemChanged.connect(lambda now, _: self._choose(now))
        self.body.addWidget(self._list)
        self._remove = button("Remove", self.remove_selected)
        bring = button(
            "Readings from a list\u2026", lambda: bring_readings(self.desk), tip="CSV: name, X, Y, Z in mm, and a group"
        )
        self.body.addLayout(row(bring, self._remove))
        self._group = label("", "soft", wrap=True)
        self._group.setAccessibleName("About the grid")
        self.body.addWidget(self._group)

    def toggle_pin(self) -> None:
        """Begin to pin readings, or stop."""
        self._grid.setChecked(False)
        mode = Mode.PICK if self._pin.isChecked() else Mode.LOOK
        self.view.set_mode(mode, "Click where you want to know the deviation; Esc ends")

    def begin_pinning(self) -> None:
        """As if the button had been pressed."""
        self._pin.setChecked(not self._pin.isChecked())
        self.toggle_pin()

    def toggle_grid(self) -> None:
        """Choose a face for a grid, or stop."""
        self._pin.setChecked(False)
        self.view.set_mode(
            Mode.PICK if self._grid.isChecked() else Mode.LOOK, "Click a face for a grid of readings; Esc ends"
        )

    def picked(self, hit: Hit) -> None:
        """Pin a reading, spread a grid, or select what was clicked."""
        nominal = self.derived.nominal
        if nominal is None or self.derived.evaluation is None or self.sections.picked(hit) or self.features.picked(hit):
            return
        if self._grid.isChecked():
            foot = nominal.projector.project(hit.place[None], limit=20.0)
            if foot.faces[0] >= 0:
                face = int(foot.faces[0]) + 1
                self.escape()
                step = GridStep(label=f"face {face}", face=face, spacing=max(self._spacing.value, 1e-3))
                self.session.add(step, f"grid of readings on face {face}")
        elif self._pin.isChecked():
            self.pin(hit.place)

    def pin(self, place: Floats) -> None:
        """Pin a reading at a place."""
        x, y, z = (round(float(v), 3) for v in place)
        step = ReadingStep(label=self._free_label(), place=(x, y, z))
        self.session.add(step, f"pin reading {step.label}")

    def _free_label(self) -> str:
        used = {r.label for r in self.session.job.procedure.readings}
        number = 1
        while f"R{number}" in used:
            number += 1
        return f"R{number}"

    def pin_worst(self) -> None:
        """Pin a reading where the worst characteristic has its extreme."""
        worst = worst_result(self.derived)
        if worst is not None and worst.place is not None:
            self.pin(worst.place)

    def _typed(self) -> None:
        words = self._place.text().replace(";", " ").split()
        try:
            if len(words) != 3:
                raise InputError("a place has three numbers", "reading", "Type X Y Z, for example 90 46 48")
            place = np.array([parse_length(word) for word in words])
        except InputError as problem:
            self.session.failed.emit(problem)
            return
        self._place.clear()
        self.pin(place)

    def remove_selected(self) -> None:
        """Remove the selected reading, or the grid that it belongs to."""
        item = self._list.currentItem()
        name = self._label_of(item)
        for step in self.session.job.procedure.readings:
            if name == step.label or (isinstance(step, GridStep) and name.startswith(f"{step.label}.")):
                self.look_at_reading("")
                self.session.edit(f"remove reading {step.label}", partial(Job.without, step=step))
                return

    @staticmethod
    def _label_of(item: QListWidgetItem | None) -> str:
        return "" if item is None else str(item.data(256))

    def _choose(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self.look_at_reading(self._label_of(item))

    def look_at_line(self, name: str) -> None:
        """Show how the number of a characteristic came to be; "" for the worst one."""
        self.line, self.reading = name, ""

    def look_at_reading(self, label: str) -> None:
        """Show a reading in the worksheet, the list and on the stage; "" for none."""
        self.reading = label
        self.view.cards.selected = label
        self.view.update()
        self.show_results()

    def set_limits(self, lower: float, upper: float) -> None:
        """Other limits for the map."""
        self.limits.set_limits(lower, upper)

    def own_actions(self) -> tuple[Action, ...]:
        """What can be done here."""
        return _actions(self)

    def show_results(self) -> None:
        """The selected value, the list, limits and statistics."""
        d = self.derived
        self.limits.show_job()
        words = numbered_warnings(d)
        self._against.setText("\n".join(words))
        self._against.setVisible(bool(words))
        readings = d.evaluation.readings if d.evaluation else ()
        self._show_list(readings)
        self.worst.show_job()
        self.sections.show_job()
        self.features.show_job()
        self.walls.show_job()
        self.held.show_job()
        result, pinned = self._selected_result(), self._selected_reading()
        self._detail.show_item(result, pinned)
        self.check.show_line(None if pinned is not None else result)

    def _selected_result(self) -> LineResult | None:
        if self.reading:
            return None
        ledger = self.derived.evaluation.ledger if self.derived.evaluation else ()
        chosen = [c for c in ledger if c.line.id == self.line]
        return chosen[0] if chosen else worst_result(self.derived)

    def _selected_reading(self) -> Reading | None:
        readings = self.derived.evaluation.readings if self.derived.evaluation else ()
        return next((r for r in readings if r.label == self.reading), None)

    def _show_list(self, readings: tuple[Reading, ...]) -> None:
        self._list.blockSignals(True)
        self._list.clear()
        for r in readings:
            value = measured(r.deviation, r.expanded) if r.is_seen else "not seen"
            item = QListWidgetItem(f"{r.label}   {value}  \u00b1{uncertainty(r.expanded)}")
            item.setData(256, r.label)
            item.setFont(font(SMALL + 1, mono=True))
            self._list.addItem(item)
            if r.label == self.reading:
                self._list.setCurrentItem(item)
        self._list.setFixedHeight(min(len(readings), 5) * max(self._list.sizeHintForRow(0), 20) + 4)
        self._list.setVisible(bool(readings))
        self._remove.setVisible(bool(readings))
        self._list.blockSignals(False)
        grid = grid_of(self.reading, self.session.job.procedure.readings)
        self._group.setText("" if grid is None else grid_words(grid, readings))
        self._group.setVisible(grid is not None)

    def leave(self) -> None:
        """Stop pinning, and give the stage back."""
        super().leave()
        self._stop()
        self.sections.go_away()
        self.features.take_off()
        self.walls.take_off()
        self.held.take_off()

    def escape(self) -> None:
        """Stop pinning, or choosing a face."""
        super().leave()
        self._stop()

    def _stop(self) -> None:
        self._pin.setChecked(False)
        self._grid.setChecked(False)
        self.sections.leave()
        self.features.leave()

    def enter(self) -> None:
        """Readings and sections on the map; the drawer where a section is chosen."""
        super().enter()
        self.sections.show_job()

    def dress(self) -> None:
        """The map with its readings and sections."""
        self.dress_map()
        self.sections.dress()
        self.features.dress()
        self.walls.dress()
        self.held.dress()
        self.view.set_readings(self.derived.evaluation.readings if self.derived.evaluation else (), self.reading)
        doubtful = enumerate(doubtful_places(self.derived), 1)
        self.view.set_pins([*(Pin(place, str(number), "undecided") for number, place in doubtful), *self.worst.pins])


def _actions(station: MeasureStation) -> tuple[Action, ...]:
    """Readings and sections."""

    def has_map() -> bool:
        return station.derived.evaluation is not None

    return (
        Action("pin readings", "Pin readings", "Job/Measure/1", station.begin_pinning, "P", "map-pin-plus", "", has_map, at=station.key),
        Action("pin worst", "Pin a reading at the worst place", "Job/Measure/1", station.pin_worst, "Shift+P", "pin", "", has_map, at=station.key),
        Action("next worst", "Go to the next worst place", "Job/Measure/1", lambda: station.worst.step(1), "W", "", "", has_map, at=station.key),
        Action("worst before", "Go back to the place before", "Job/Measure/1", lambda: station.worst.step(-1), "Shift+W", "", "", has_map, at=station.key),
        Action("check by simulation", "Check by simulation", "Job/Measure/1", station.check.check, "", "", "", has_map, at=station.key),
        Action("cut section", "Cut a section", "Job/Measure/2", station.sections.begin, "Shift+X", "slice", "", has_map, at=station.key),
        Action("click feature", "Click a feature", "Job/Measure/2", station.features.begin_or_stop, "Shift+F", "", "Of the scan", has_map, at=station.key),
    )  # fmt: skip


def _side(left: QWidget, right: QWidget) -> QHBoxLayout:
    made = QHBoxLayout()
    made.addWidget(left)
    made.addWidget(right, 1)
    return made
