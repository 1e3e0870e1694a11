"""How a best fit is made: what is made small, which faces count, and which motions are allowed."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from juxtum.align.result import AXES
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.widgets import Choice, LengthField, button, column, label, row
from juxtum.job.steps import BestFit, FaceWeight
from juxtum.scene.drawables import face_surface
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

CRITERIA = [
    ("squares", "least squares of all"),
    ("zone", "as far inside the limits as can be"),
    ("stock", "as much stock left as can be"),
]
MOST = 1e6
NAMES = {"squares": "best fit", "zone": "inside the limits", "stock": "stock"}


class FitPanel(QWidget):
    """Makes another best fit beside the usual one.

    Parameters
    ----------
    desk : Desk
    lay : callable
        Puts an alignment step into the job and in force.
    """

    def __init__(self, desk: Desk, lay: Callable[[BestFit], None]) -> None:
        super().__init__()
        self._desk, self._lay = desk, lay
        self.faces: list[int] = []
        outer = column(self, 8)
        self._open = button(
            "Another fit\u2026", self._toggle, tip="Inside limits, stock left, some faces, some motions only"
        )
        self._open.setCheckable(True)
        outer.addLayout(row(self._open))
        self._body = QWidget()
        lines = column(self._body, 8)
        outer.addWidget(self._body)
        self._body.hide()
        self._criterion = Choice("What the fit makes small")
        self._criterion.show_options(CRITERIA, "squares")
        self._criterion.picked.connect(lambda _: self.show_job())
        lines.addWidget(self._criterion)
        self._lower, self._upper = LengthField("Fit lower limit", -0.2), LengthField("Fit upper limit", 0.2)
        self._limits = QWidget()
        column(self._limits, 0).addLayout(
            row(label("limits", "soft"), self._lower, label("to", "soft"), self._upper, label("mm", "soft"))
        )
        lines.addWidget(self._limits)
        self._build_what_counts(lines)

    def _build_what_counts(self, lines: QVBoxLayout) -> None:
        """Motions, faces and their weight."""
        self._motions: dict[str, QPushButton] = {}
        for axis in AXES:
            self._motions[axis] = _allowing(axis, self.show_job)
        lines.addLayout(row(*self._motions.values()))
        self.pick = button(
            "Pick faces", self._begin, tip="Click faces of the nominal: they count alone, or more than the others"
        )
        self.pick.setCheckable(True)
        self._weight = LengthField(
            "Weight of the picked faces", 0.0, "How many times as much as the others; 0 or nothing: they alone"
        )
        self._weight.missing = "alone"
        self._weight.set_value(None)
        self._weight.chosen.connect(lambda _: self.show_job())
        self._fit = button("Fit so", self._finish)
        lines.addLayout(row(self.pick, label("count", "soft"), self._weight))
        lines.addLayout(row(self._fit))
        self._said = label("", "soft", wrap=True)
        self._said.setAccessibleName("What the fit counts")
        lines.addWidget(self._said)

    def _toggle(self) -> None:
        self._body.setVisible(self._open.isChecked())
        self.leave()
        self.show_job()

    @property
    def is_picking(self) -> bool:
        """Whether a click on the nominal is for this panel."""
        return self.pick.isChecked()

    def _begin(self) -> None:
        if not self.pick.isChecked():
            self.faces = []
        mode = Mode.PICK if self.pick.isChecked() else Mode.LOOK
        self._desk.view.set_mode(mode, "Click the faces that count; Esc ends")
        self.show_job()

    def picked(self, hit: Hit) -> bool:
        """A click on the stage; whether it was for this panel."""
        nominal = self._desk.session.derived.nominal
        if not self.is_picking or nominal is None:
            return False
        foot = nominal.projector.project(hit.place[None], limit=5.0)
        number = int(foot.faces[0]) + 1
        if number in self.faces:
            self.faces.remove(number)
        elif number > 0:
            self.faces.append(number)
        self.show_job()
        return True

    @property
    def motions(self) -> tuple[str, ...]:
        """Those that are allowed; empty for all."""
        allowed = tuple(axis for axis, made in self._motions.items() if made.isChecked())
        return () if len(allowed) == len(AXES) else allowed

    @property
    def weight(self) -> float:
        """How many times as much the picked faces count as the others; 0 when they count alone."""
        return min(self._weight.value, MOST) if self.faces and self._weight.value > 0 else 0.0

    def _finish(self) -> None:
        if not any(made.isChecked() for made in self._motions.values()):
            self._desk.tell("no motion is allowed", "fit", "Allow at least one of Tx to Rz")
            return
        criterion = self._criterion.currentData()
        if self.weight and criterion != "squares":
            self._desk.tell(
                "only a fit of least squares can weigh faces",
                "fit",
                "Let the faces count alone, or choose least squares",
            )
            return
        parts = [NAMES[criterion]]
        if self.faces:
            numbers = f"face{'s' if len(self.faces) > 1 else ''} {', '.join(map(str, sorted(self.faces)))}"
            parts.append(f"{numbers} times {self.weight:g}" if self.weight else numbers)
        if self.motions:
            parts.append(f"{' '.join(self.motions)} only")
        name = ", ".join(parts) if len(parts) > 1 or criterion != "squares" else "best fit"
        lower, upper = self._lower.value, self._upper.value
        if lower >= upper:
            self._desk.tell("the lower limit is not below the upper limit", "fit", "Choose others")
            return
        chosen = tuple(sorted(self.faces))
        made = BestFit(
            name=name[:100],
            faces=() if self.weight else chosen,
            weights=(FaceWeight(faces=chosen, weight=self.weight),) if self.weight else (),
            motions=self.motions,
            criterion=criterion,
            lower=lower,
            upper=upper,
        )
        self._lay(made)

    def show_job(self) -> None:
        """What is chosen, in words and on the stage."""
        d = self._desk.session.derived
        self._limits.setVisible(self._criterion.currentData() == "zone")
        self._fit.setEnabled(d.scan is not None and d.nominal is not None)
        words = []
        if self.faces:
            how = f"count {self.weight:g} times as much as the others" if self.weight else "count"
            words.append(f"Faces {', '.join(map(str, sorted(self.faces)))} {how}.")
        if self.motions:
            words.append(f"Only {', '.join(self.motions)} may move, from where the alignment in force has it.")
        self._said.setText(" ".join(words))
        self._said.setVisible(bool(words))
        if self.is_picking and d.nominal is not None:
            marked = face_surface(d.nominal, tuple(self.faces)) if self.faces else None
            self._desk.view.put("marked", marked)

    def leave(self) -> None:
        """End picking; the faces stay chosen."""
        self.pick.setChecked(False)


def _allowing(axis: str, changed: Callable[[], None]) -> QPushButton:
    """A button that allows a motion, which it does at first."""
    made = button(axis, changed, tip=f"{'Shift along' if axis[0] == 'T' else 'Turn about'} {axis[1].upper()}")
    made.setAccessibleName(f"May move {axis}")
    made.setCheckable(True)
    made.setChecked(True)
    made.setFixedWidth(40)
    return made
