"""Alignment by reference points: places of the drawing, each with the directions in which the part is held there."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from pydantic import ValidationError
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QPushButton, QWidget

from juxtum.desk.overlays import Pin
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.style import font
from juxtum.desk.widgets import button, column, label, row
from juxtum.errors import InputError
from juxtum.exchange.named_places import read_named_places
from juxtum.guide.aligning import held_words
from juxtum.job.steps import KnownTargets, ReferencePlace, ReferencePoints, read_reference_places
from juxtum.look import SMALL
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

LETTERS = ("N", "X", "Y", "Z")


class PointsPanel(QWidget):
    """Picks reference points on the nominal, or takes them from a list.

    Parameters
    ----------
    desk : Desk
    lay : callable
        Puts an alignment step into the job and in force.
    """

    def __init__(self, desk: Desk, lay: Callable[[KnownTargets | ReferencePoints], None]) -> None:
        super().__init__()
        self._desk, self._lay = desk, lay
        self.points: list[ReferencePlace] = []
        lines = column(self, 8)
        lines.addWidget(label("By reference points", "heading"))
        self.pick = button("Pick reference points", self._begin, tip="Click the nominal where the part is held")
        self.pick.setCheckable(True)
        self._load = button("From a list\u2026", self._from_list, tip="CSV: name, X, Y, Z, held (X Y Z N), weight")
        lines.addLayout(row(self.pick, self._load))
        self._targets = button(
            "Known targets\u2026",
            self._from_targets,
            tip="Two lists: targets as the scan has them, and in part coordinates",
        )
        lines.addLayout(row(self._targets))
        self.list = QListWidget()
        self.list.setAccessibleName("Reference points")
        self.list.currentRowChanged.connect(lambda _: self._show_held())
        lines.addWidget(self.list)
        self._held: dict[str, QPushButton] = {}
        for letter in LETTERS:
            made = button(letter, lambda letter=letter: self._toggle(letter), tip=_tip(letter))  # type: ignore[misc]
            made.setAccessibleName(f"Held in {letter}")
            made.setCheckable(True)
            made.setFixedWidth(40)
            self._held[letter] = made
        self._drop = button("Drop the point", self._remove)
        self._held_row = QWidget()
        inner = column(self._held_row, 4)
        inner.addLayout(row(label("held in", "soft"), *self._held.values()))
        lines.addWidget(self._held_row)
        self._said = label("", "soft", wrap=True)
        self._said.setAccessibleName("What the reference points hold")
        lines.addWidget(self._said)
        self._use = button("Lay it on them", self._finish, tip="Move the scan until it lies on the drawing there")
        lines.addLayout(row(self._use, self._drop))

    @property
    def is_picking(self) -> bool:
        """Whether a click on the nominal is for this panel."""
        return self.pick.isChecked()

    def _begin(self) -> None:
        mode = Mode.PICK if self.pick.isChecked() else Mode.LOOK
        self._desk.view.set_mode(mode, "Click the nominal where the part is held; Esc ends")

    def picked(self, hit: Hit) -> bool:
        """A click on the stage; whether it was for this panel."""
        nominal = self._desk.session.derived.nominal
        if not self.is_picking or nominal is None:
            return False
        foot = nominal.projector.project(hit.place[None], limit=5.0)
        if foot.faces[0] >= 0:
            x, y, z = (round(float(v), 3) for v in foot.feet[0])
            self.points.append(ReferencePlace(name=self._free_name(), place=(x, y, z)))
            self.list.setCurrentRow(-1)
            self.show_job(chosen=len(self.points) - 1)
        return True

    def _free_name(self) -> str:
        used = {point.name for point in self.points}
        return next(str(k) for k in range(1, len(used) + 2) if str(k) not in used)

    def _from_list(self) -> None:
        path = self._desk.asking.point_list()
        if path is None:
            return
        try:
            self.points = list(read_reference_places(path))
        except InputError as problem:
            self._desk.session.failed.emit(problem)
            return
        self.show_job(chosen=0)

    def _from_targets(self) -> None:
        """Lay targets of the scan onto those whose places are known; first the one list, then the other."""
        lists = []
        for words in ("First the targets as the scan has them.", "Now the targets in part coordinates."):
            self._desk.announce(words)
            path = self._desk.asking.point_list()
            if path is None:
                return
            try:
                lists.append(tuple(place.place for place in read_named_places(path, "targets")))
            except InputError as problem:
                self._desk.session.failed.emit(problem)
                return
        try:
            self._lay(KnownTargets(measured=lists[0], known=lists[1]))
        except ValidationError:
            self._desk.tell("four targets at least are needed in either list", "known targets", "Choose longer lists")

    def _toggle(self, letter: str) -> None:
        """Hold the chosen point in a direction, or let it go; one that is held in none is not kept so."""
        at = self.list.currentRow()
        if not 0 <= at < len(self.points):
            return
        point = self.points[at]
        held = "".join(k for k in LETTERS if (k in point.held) != (k == letter)) or point.held
        self.points[at] = point.model_copy(update={"held": held})
        self.show_job(chosen=at)

    def _remove(self) -> None:
        at = self.list.currentRow()
        if 0 <= at < len(self.points):
            del self.points[at]
            self.show_job(chosen=min(at, len(self.points) - 1))

    def _finish(self) -> None:
        self._lay(ReferencePoints(points=tuple(self.points)))

    def show_job(self, chosen: int | None = None) -> None:
        """The list, what is held, and the places on the stage."""
        job = self._desk.session.job
        if not self.points and chosen is None:
            known = job.procedure.of(ReferencePoints)
            self.points = list(known[-1].points) if known else []
        now = self.list.currentRow() if chosen is None else chosen
        self.list.blockSignals(True)
        self.list.clear()
        for point in self.points:
            place = ", ".join(f"{v:.2f}" for v in point.place)
            item = QListWidgetItem(f"{point.name}   ({place})   {' '.join(point.held)}")
            item.setData(Qt.ItemDataRole.UserRole, point.name)
            item.setFont(font(SMALL + 1, mono=True))
            self.list.addItem(item)
        self.list.setCurrentRow(min(now, len(self.points) - 1))
        self.list.blockSignals(False)
        self.list.setFixedHeight(min(len(self.points), 6) * max(self.list.sizeHintForRow(0), 20) + 4)
        for widget in (self.list, self._said, self._use):
            widget.setVisible(bool(self.points))
        self._said.setText(held_words(tuple(self.points)))
        has_both = self._desk.session.derived.scan is not None and self._desk.session.derived.nominal is not None
        self._use.setEnabled(has_both)
        self.pick.setEnabled(self._desk.session.derived.nominal is not None)
        self._show_held()

    def _show_held(self) -> None:
        at = self.list.currentRow()
        self._held_row.setVisible(0 <= at < len(self.points))
        self._drop.setVisible(0 <= at < len(self.points))
        if 0 <= at < len(self.points):
            for letter, made in self._held.items():
                made.setChecked(letter in self.points[at].held)
        if self.is_picking:
            self._desk.view.set_pins(self.pins)

    @property
    def pins(self) -> list[Pin]:
        """Names at the places."""
        from numpy import array

        chosen = self.list.currentRow()
        return [
            Pin(array(p.place), f"{p.name} {p.held}", "accent" if k == chosen else "ink")
            for k, p in enumerate(self.points)
        ]

    def leave(self) -> None:
        """End picking."""
        self.pick.setChecked(False)


def _tip(letter: str) -> str:
    return "Along the drawn surface's own normal" if letter == "N" else f"Along {letter} of the part"
