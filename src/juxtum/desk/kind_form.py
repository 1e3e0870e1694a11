"""The form of a characteristic: its kind, and a field for each parameter that the kind has of its own."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QVBoxLayout, QWidget

from juxtum.desk.widgets import LengthField, form
from juxtum.evaluate.kinds import KINDS, Characteristic, Kind, kind_of


class KindForm(QWidget):
    """A kind and its own parameters; the fields follow from the kind's model."""

    changed = pyqtSignal()
    """Another kind was chosen."""

    def __init__(self) -> None:
        super().__init__()
        self._choice = QComboBox()
        self._choice.setAccessibleName("Kind of characteristic")
        self._choice.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self._choice.setMinimumContentsLength(16)
        for kind in KINDS:
            self._choice.addItem(kind.name[:1].upper() + kind.name[1:], kind.tag)
        self._fields: dict[str, LengthField] = {}
        self._rows = QWidget()
        self._body = QVBoxLayout(self)
        self._body.setContentsMargins(0, 0, 0, 0)
        self._body.addWidget(self._choice)
        self._body.addWidget(self._rows)
        self._choice.currentIndexChanged.connect(self._build)
        self._build()

    @property
    def kind(self) -> type[Kind]:
        """The chosen kind."""
        return kind_of(self._choice.currentData())

    @property
    def values(self) -> dict[str, Any]:
        """What is typed for the kind's own parameters."""
        return {name: field.value for name, field in self._fields.items()}

    def show_characteristic(self, characteristic: Characteristic) -> None:
        """Put one into the fields."""
        row = self._choice.findData(characteristic.tag)
        if row < 0:
            # A line that was not taken is none that can be chosen: what it asks for is chosen here.
            return
        self._choice.setCurrentIndex(row)
        for name, field in self._fields.items():
            field.set_value(getattr(characteristic, name))

    def _build(self) -> None:
        self._fields = {}
        for name, field in self.kind.own_fields().items():
            title = field.title or name.replace("_", " ").capitalize()
            self._fields[name] = LengthField(title, float(field.default))
        before, self._rows = self._rows, QWidget()
        self._rows.setLayout(form([(field.accessibleName(), field) for field in self._fields.values()]))
        self._body.replaceWidget(before, self._rows)
        before.hide()
        before.deleteLater()
        self._choice.setToolTip(self.kind.method)
        self.changed.emit()
