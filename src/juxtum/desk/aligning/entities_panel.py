"""Alignment by entities: a plane of the scan becomes XY, a direction X, a point the origin; Z and X can be turned round."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QCheckBox, QPushButton, QWidget

from juxtum.desk.overlays import Pin
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.widgets import button, column, label, row
from juxtum.geometry import RigidTransform
from juxtum.job.steps import ByEntities, Spot
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

ROLES = {
    "level": ("Plane for XY", "Click a flat face of the scan: it becomes XY; Esc ends"),
    "towards": ("Direction of X", "Click a face or a bore of the scan: its normal or axis becomes X; Esc ends"),
    "origin": ("Origin", "Click a ball or a bore of the scan: there the origin lies; Esc ends"),
}


class EntitiesPanel(QWidget):
    """Picks three features of the scan and lays it by them.

    Parameters
    ----------
    desk : Desk
    lay : callable
        Puts an alignment step into the job and in force.
    begin : callable
        Shows the scan alone to be picked on, with a sentence.
    placement : callable
        How the scan lies on the stage just now.
    """

    def __init__(
        self,
        desk: Desk,
        lay: Callable[[ByEntities], None],
        begin: Callable[[], None],
        placement: Callable[[], RigidTransform],
    ) -> None:
        super().__init__()
        self._desk, self._lay, self._begin, self._placement = desk, lay, begin, placement
        self.spots: dict[str, Spot] = {}
        self._role, self._scan = "", ""
        lines = column(self, 8)
        lines.addWidget(label("By features of the scan", "heading"))
        self._buttons: dict[str, QPushButton] = {}
        for role, (words, tip) in ROLES.items():
            made = button(words, lambda role=role: self._pick(role), tip=tip)  # type: ignore[misc]
            made.setCheckable(True)
            self._buttons[role] = made
        lines.addLayout(row(*self._buttons.values()))
        self._down, self._back = QCheckBox("Z into the material"), QCheckBox("X the other way")
        for box in (self._down, self._back):
            box.setAccessibleName(box.text())
        lines.addLayout(row(self._down, self._back))
        self._said = label("", "soft", wrap=True)
        self._said.setAccessibleName("What makes the frame")
        lines.addWidget(self._said)
        self._use = button("Lay it by these", self.use, tip="No nominal has a part in it")
        lines.addLayout(row(self._use))
        self.show_job()

    @property
    def is_picking(self) -> bool:
        """Whether a click on the scan is for this panel."""
        return bool(self._role)

    def _pick(self, role: str) -> None:
        wanted = self._buttons[role].isChecked()
        self._role = role if wanted else ""
        for name, made in self._buttons.items():
            made.setChecked(name == self._role)
        if wanted:
            self._begin()
            self._desk.view.set_mode(Mode.PICK, ROLES[role][1])
            self._show_pins()
        else:
            self._desk.view.set_mode(Mode.LOOK)

    def picked(self, hit: Hit) -> bool:
        """A click on the stage; whether it was for this panel."""
        if not self._role:
            return False
        if hit.layer == "scan":
            x, y, z = (round(float(v), 4) for v in self._placement().inverse.apply(hit.place[None])[0])
            self.spots[self._role] = Spot(place=(x, y, z))
            # On to the next one that is missing.
            left = [name for name in ROLES if name not in self.spots]
            self._role = left[0] if left else ""
            for name, made in self._buttons.items():
                made.setChecked(name == self._role)
            mode = Mode.PICK if left else Mode.LOOK
            self._desk.view.set_mode(mode, ROLES[left[0]][1] if left else "")
            self.show_job()
            self._show_pins()
        return True

    def _show_pins(self) -> None:
        letters = {"level": "Z", "towards": "X", "origin": "O"}
        there = self._placement()
        pins = [Pin(there.apply(np.array([spot.place]))[0], letters[role]) for role, spot in self.spots.items()]
        self._desk.view.set_pins(pins)

    def show_job(self) -> None:
        """What is picked, and what is left free; places on another scan are none on this one."""
        scan = self._desk.session.job.scan_in_force
        if scan != self._scan:
            self._scan, self.spots = scan, {}
        names = {"level": "plane", "towards": "direction", "origin": "origin"}
        there = [names[role] for role in ROLES if role in self.spots]
        free = [] if "level" not in self.spots else [
            words for role, words in (("towards", "it may turn about Z"), ("origin", "it may slide in X and Y")) if role not in self.spots
        ]  # fmt: skip
        said = f"Picked: {', '.join(there)}." if there else "A plane first; direction and origin where they matter."
        self._said.setText(f"{said} Without more {' and '.join(free)}." if there and free else said)
        self._use.setEnabled("level" in self.spots)

    def use(self) -> None:
        """Lay the scan by what is picked."""
        if "level" not in self.spots:
            return
        step = ByEntities.model_validate({**self.spots, "down": self._down.isChecked(), "back": self._back.isChecked()})
        self._lay(step)

    def leave(self) -> None:
        """End picking; what was picked stays until another scan is in force."""
        self._role = ""
        for made in self._buttons.values():
            made.setChecked(False)
