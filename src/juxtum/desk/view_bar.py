"""The floating bar over the stage: views, what is shown, the section plane."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QSlider, QToolButton, QWidget

from juxtum.desk.widgets import Choice, label
from juxtum.geometry import Plane
from juxtum.geometry.arrays import Floats
from juxtum.scene.actors import Shown

SHORT = (
    ("fit", "Zoom to fit"),
    ("view corner", "Corner"),
    ("view front", "Front"),
    ("view left", "Left"),
    ("view top", "Top"),
)
LAYERS = (("section", "Section"), ("nominal", "Nominal"), ("data", "Scan"))


class ViewBar(QFrame):
    """Buttons that run actions."""

    wanted = pyqtSignal(str)

    def __init__(self, parent: QWidget, tips: dict[str, str]) -> None:
        super().__init__(parent)
        self.setObjectName("stageBar")
        self.setAccessibleName("Stage bar")
        layout = QHBoxLayout(self)
        layout.setContentsMargins(4, 3, 4, 3)
        layout.setSpacing(0)
        self._buttons: dict[str, QToolButton] = {}
        for name, text in (*SHORT, *LAYERS):
            button = QToolButton()
            button.setText(text)
            button.setAccessibleName(text)
            button.setToolTip(tips[name])
            button.setCheckable(name in dict(LAYERS))
            button.clicked.connect(lambda _, n=name: self.wanted.emit(n))
            layout.addWidget(button)
            self._buttons[name] = button

    def show_states(self, section: bool, nominal: Shown, data: Shown, has_map: bool) -> None:
        """What is on, what is see-through, what can be chosen."""
        self._buttons["section"].setChecked(section)
        for name, shown in (("nominal", nominal), ("data", data)):
            button = self._buttons[name]
            button.setEnabled(has_map)
            button.setChecked(shown is not Shown.HIDDEN and has_map)
            base = dict(LAYERS)[name]
            button.setText(f"{base} (see-through)" if shown is Shown.SEE_THROUGH and has_map else base)
        self.adjustSize()


class SectionBar(QFrame):
    """Direction and place of the section plane."""

    changed = pyqtSignal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("stageBar")
        self.setAccessibleName("Section plane")
        self._bounds = np.array([[-1.0, -1, -1], [1, 1, 1]])
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 4, 10, 4)
        layout.addWidget(label("Section across", "soft"))
        self._axis = Choice("Section direction")
        self._axis.show_options([("0", "X"), ("1", "Y"), ("2", "Z")], "1")
        self._axis.picked.connect(lambda _: self._other_axis())
        layout.addWidget(self._axis)
        self._slider = QSlider(Qt.Orientation.Horizontal)
        self._slider.setAccessibleName("Section place")
        self._slider.setRange(0, 1000)
        self._slider.setValue(500)
        self._slider.setFixedWidth(180)
        self._slider.valueChanged.connect(lambda _: self._moved())
        layout.addWidget(self._slider)
        self._place = label("", "mono")
        self._place.setMinimumWidth(76)
        layout.addWidget(self._place)
        self.hide()

    def begin(self, bounds: Floats) -> None:
        """Range over some bounds (2, 3)."""
        self._bounds = bounds
        self._moved()
        self.adjustSize()
        self.show()
        self.raise_()

    def _other_axis(self) -> None:
        self._slider.blockSignals(True)
        self._slider.setValue(500)
        self._slider.blockSignals(False)
        self._moved()

    def _moved(self) -> None:
        self._place.setText(f"{self.offset:+.1f} mm".replace("-", "\u2212"))
        self.changed.emit()

    @property
    def axis(self) -> int:
        """0, 1 or 2."""
        return int(self._axis.currentData())

    @property
    def offset(self) -> float:
        """Along the axis, mm."""
        low, high = self._bounds[:, self.axis]
        return float(low + self._slider.value() / 1000 * (high - low))

    def plane(self, towards: Floats) -> Plane:
        """The plane; the half nearer to the eye is taken away."""
        normal = np.zeros(3)
        normal[self.axis] = 1.0 if towards[self.axis] >= 0 else -1.0
        point = self._bounds.mean(0)
        point[self.axis] = self.offset
        return Plane(point, normal)
