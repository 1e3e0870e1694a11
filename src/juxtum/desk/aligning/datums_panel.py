"""Alignment to the drawing's datum system: faces of the nominal in the order A, B, C."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QCheckBox, QWidget

from juxtum.desk.overlays import Pin
from juxtum.desk.widgets import button, column, label, row
from juxtum.job.steps import DatumChoice, Datums
from juxtum.scene.drawables import face_surface
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

LETTERS = "ABCDEF"


class DatumsPanel(QWidget):
    """Picks the datums.

    Parameters
    ----------
    desk : Desk
    lay : callable
        Puts an alignment step into the job and in force.
    begin : callable
        Shows the nominal alone while datums are picked.
    """

    def __init__(self, desk: Desk, lay: Callable[[Datums], None], begin: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._lay = desk, lay
        self.faces: list[int] = []
        """Picked so far, in their order."""
        self._joined: set[int] = set()
        """Those that belong to the datum of the face before them."""
        lines = column(self)
        lines.addWidget(label("By datums", "heading"))
        self._said = label("", "soft", wrap=True)
        self._said.setAccessibleName("Picked datums")
        lines.addWidget(self._said)
        self.pick = button("Pick datums", begin, tip="Click faces of the nominal in the order A, B, C")
        self.pick.setCheckable(True)
        self._use = button("Lock to them", self._finish)
        lines.addLayout(row(self.pick, self._use))
        self._same = QCheckBox("Next face belongs to the same datum")
        self._same.setAccessibleName("Next face belongs to the same datum")
        self._same.setToolTip("Two bearings about one axis, two feet in one plane, two halves of a hole")
        lines.addWidget(self._same)

    def picked(self, hit: Hit) -> bool:
        """A click on the stage; whether it was for this panel."""
        nominal = self._desk.session.derived.nominal
        if not self.pick.isChecked() or nominal is None:
            return False
        if hit.layer == "nominal":
            number = int(nominal.triangle_faces[hit.triangle]) + 1
            joins = self._same.isChecked() and bool(self.faces)
            if number in self.faces:
                self._leave_out(number)
            elif joins or len(self.groups) < len(LETTERS):
                self.faces.append(number)
                self._joined |= {number} if joins else set()
            self._same.setChecked(False)
            self.show_job()
        return True

    @property
    def groups(self) -> list[tuple[int, ...]]:
        """The faces of each datum."""
        made: list[tuple[int, ...]] = []
        for number in self.faces:
            if number in self._joined and made:
                made[-1] = (*made[-1], number)
            else:
                made.append((number,))
        return made

    def _leave_out(self, number: int) -> None:
        """The next face of its datum stands for the datum then."""
        at = self.faces.index(number)
        if number not in self._joined and at + 1 < len(self.faces):
            self._joined.discard(self.faces[at + 1])
        self.faces.remove(number)
        self._joined.discard(number)

    def show_job(self) -> None:
        """The datums in words, and on the stage while they are picked."""
        nominal = self._desk.session.derived.nominal
        if nominal is None:
            return
        if self.pick.isChecked():
            self._desk.view.put("marked", face_surface(nominal, tuple(self.faces)) if self.faces else None)
            picked = [(LETTERS[k], n) for k, faces in enumerate(self.groups) for n in faces]
            self._desk.view.set_pins([Pin(nominal.face(n).centre, letter) for letter, n in picked])
        chosen = "; ".join(
            f"{LETTERS[k]} {' and '.join(nominal.face(n).title for n in faces)}" for k, faces in enumerate(self.groups)
        )
        words = "Pick faces of the nominal: a plane, then a cylinder or a plane, then a plane."
        self._said.setText(chosen + "." if chosen else words)
        self._use.setEnabled(bool(self.faces))
        self._same.setVisible(self.pick.isChecked() and bool(self.faces))

    def _finish(self) -> None:
        datums = tuple(DatumChoice(letter=LETTERS[k], faces=faces) for k, faces in enumerate(self.groups))
        self._lay(Datums(name="datums " + "|".join(d.letter for d in datums), datums=datums))

    def leave(self) -> None:
        """Let picks go."""
        self.pick.setChecked(False)
        self.faces, self._joined = [], set()
        self._same.setChecked(False)
        self.show_job()
