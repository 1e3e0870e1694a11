"""Selecting on the stage what is to go: with an outline, a box or a brush, through the part or only what is in sight."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QWidget

from juxtum.desk.cleaning.picturing import picture_of, together
from juxtum.desk.stage_pointer import BRUSH_WIDTH, Mode
from juxtum.desk.widgets import Choice, LengthField, button, column, form, label, line, row
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.guide.facts import thousands
from juxtum.job.steps import CleaningStep, Selection
from juxtum.progress import Progress
from juxtum.scene.drawables import Surface

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

TOOLS = {
    "outline": ("an outline", "Draw outline", Mode.OUTLINE, "Draw round what you want to select; Esc ends"),
    "box": ("a box", "Draw box", Mode.BOX, "Draw from corner to corner; Esc ends"),
    "brush": ("a brush", "Draw stroke", Mode.BRUSH, "Stroke over what you want to select; Esc ends"),
}
SIDES = [("through", "right through the part"), ("visible", "only what is in sight")]
WHERE = [("one", "in the chosen scan"), ("all", "in every scan that is shown")]
NOTHING = "Draw round what does not belong."


@dataclass(frozen=True, eq=False)
class Worked:
    """A scan that is worked on, and where it is shown."""

    name: str
    scan: Scan
    placement: RigidTransform


class SelectionPanel(QWidget):
    """Selects points of the scan that is worked on, shows them, and has them deleted.

    Parameters
    ----------
    desk : Desk
    clean : callable
        Takes the steps that delete them, one for each scan of which something goes.
    begun : callable
        Told when drawing begins, so that other modes of the stage end.
    """

    def __init__(
        self, desk: Desk, clean: Callable[[tuple[CleaningStep, ...]], None], begun: Callable[[], None]
    ) -> None:
        super().__init__()
        self._desk, self._clean, self._begun = desk, clean, begun
        self._target: Worked | None = None
        self._shown: tuple[Worked, ...] = ()
        self.selection: Selection | None = None
        """As it is drawn on the stage, whose coordinates every scan is shown in."""
        self._goes: tuple[str, ...] = ()
        """Scans of which something goes."""
        lines = column(self, 8)
        lines.addWidget(line())
        lines.addWidget(label("Selection", "heading"))
        self._words = label(NOTHING, "soft", wrap=True)
        self._words.setAccessibleName("Selection")
        lines.addWidget(self._words)
        self._tool = Choice("Select with")
        self._tool.show_options([(name, words[0]) for name, words in TOOLS.items()], "outline")
        self._tool.picked.connect(lambda _: self._show_tool())
        self._side = Choice("How deep")
        self._side.show_options(SIDES, "through")
        self._side.picked.connect(lambda side: self._change(side=side))
        self._where = Choice("In which scans")
        self._where.show_options(WHERE, "one")
        self._where.picked.connect(lambda _: self._show_where())
        lines.addWidget(self._where)
        lines.addLayout(form([("With", self._tool), ("Depth", self._side)]))
        self._grow = LengthField("Wider by", 0.0, "mm more round the selection; less with a minus")
        self._grow.chosen.connect(lambda value: self._change(grow=value))
        lines.addLayout(form([("Wider by, mm", self._grow)]))
        self._draw = button("Draw outline", self._toggle)
        self._draw.setCheckable(True)
        self._invert = button("Invert", self.invert)
        self._delete = button("Delete", self.delete)
        lines.addLayout(row(self._draw, self._invert, self._delete))
        self._enable(0)

    @property
    def is_drawing(self) -> bool:
        """Whether a stroke on the stage selects."""
        return self._draw.isChecked()

    def take_scans(self, target: Worked | None, shown: tuple[Worked, ...]) -> None:
        """Work on a scan, or on all that are shown, from now on; what was selected belonged to those before."""
        self._target, self._shown = target, shown
        self._where.setVisible(len(shown) > 1)
        self._show_where()

    @property
    def _worked(self) -> tuple[Worked, ...]:
        """The scans that a selection goes through."""
        if len(self._shown) > 1 and self._where.currentData() == "all":
            return self._shown
        return () if self._target is None else (self._target,)

    def _show_where(self) -> None:
        """What lies in sight of each scan alone need not be in sight of all: through several one selects right through."""
        several = len(self._worked) > 1
        if several:
            self._side.setCurrentIndex(self._side.findData("through"))
        self._side.setEnabled(not several)
        self._set(None)

    def _show_tool(self) -> None:
        text = TOOLS[self._tool.currentData()][1]
        self._draw.setText(text)
        self._draw.setAccessibleName(text)
        if self.is_drawing:
            self._toggle()

    def _toggle(self) -> None:
        self._begun()
        _, _, mode, caption = TOOLS[self._tool.currentData()]
        if self.is_drawing:
            self._desk.view.set_mode(mode, caption)
        else:
            self._desk.view.set_mode(Mode.LOOK)

    def stop(self) -> None:
        """Drawing ends."""
        self._draw.setChecked(False)

    def outlined(self, outline: Floats, matrix: Floats) -> None:
        """Something was drawn."""
        is_stroke = self._tool.currentData() == "brush"
        self._set(
            Selection(
                view=tuple(float(v) for v in matrix.ravel()),
                outline=tuple((float(x), float(y)) for x, y in outline),
                brush=self._brush if is_stroke else None,
                side=self._side.currentData(),
                grow=self._grow.value,
            )
        )

    @property
    def _brush(self) -> tuple[float, float]:
        """Half the width of a stroke across and up the screen, which reaches from -1 to 1."""
        view = self._desk.view
        return BRUSH_WIDTH / max(view.width(), 1), BRUSH_WIDTH / max(view.height(), 1)

    def _change(self, **what: object) -> None:
        if self.selection is not None:
            self._set(self.selection.model_copy(update=what))

    def invert(self) -> None:
        """Select all else."""
        if self.selection is not None:
            self._change(delete="outside" if self.selection.delete == "inside" else "inside")

    def delete(self) -> None:
        """Delete what is selected."""
        steps = tuple(self._step(worked) for worked in self._worked if worked.name in self._goes)
        if self.selection is not None and steps:
            self._clean(steps)

    def _step(self, worked: Worked) -> Selection:
        """The selection as one scan has it, in its own coordinates."""
        assert self.selection is not None
        return through(self.selection, worked)

    def _set(self, selection: Selection | None) -> None:
        """Show what is selected once it is found, away from the interface."""
        self.selection, worked = selection, self._worked
        if selection is None or not worked:
            self._desk.view.put("marked", None)
            self._words.setText(NOTHING)
            self._goes = ()
            self._enable(0)
            return

        def work(_: Progress) -> tuple[Selection, dict[str, int], Surface | None]:
            chosen = [through(selection, one).chosen(one.scan) for one in worked]
            counts = {one.name: int(points.sum()) for one, points in zip(worked, chosen, strict=True)}
            moved = [(one.scan.moved(one.placement), points) for one, points in zip(worked, chosen, strict=True)]
            return selection, counts, picture_of(*together(moved))

        self._desk.session.compute(work, self._found)

    def _found(self, answer: tuple[Selection, dict[str, int], Surface | None]) -> None:
        selection, counts, marked = answer
        if selection is not self.selection:
            return
        self._goes = tuple(name for name, count in counts.items() if count)
        self._desk.view.put("marked", marked)
        of = f" in {len(self._goes)} of {len(counts)} scans" if len(counts) > 1 else ""
        self._words.setText(f"{thousands(sum(counts.values()))} points selected{of}")
        self._enable(sum(counts.values()))

    def _enable(self, count: int) -> None:
        self._invert.setEnabled(self.selection is not None)
        self._delete.setEnabled(count > 0)


def through(selection: Selection, worked: Worked) -> Selection:
    """A selection of the stage as a scan has it, in its own coordinates."""
    view = np.array(selection.view).reshape(4, 4) @ worked.placement.matrix
    return selection.model_copy(update={"view": tuple(float(v) for v in view.ravel()), "scan": worked.name})
