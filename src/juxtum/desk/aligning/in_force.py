"""The alignment in force: what locks it, its figures, and what it changes against another."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QGridLayout, QLabel, QWidget

from juxtum.align.result import AXES
from juxtum.desk.derived import Derived
from juxtum.desk.widgets import Choice, Facts, column, label, line
from juxtum.guide.facts import alignment_facts
from juxtum.job.runner import Comparison
from juxtum.wording import sentence, signed


class InForcePanel(QWidget):
    """Choose it, read it, compare it.

    Parameters
    ----------
    chosen : callable
        Told the name of the alignment to be put in force.
    """

    def __init__(self, chosen: Callable[[str], None]) -> None:
        super().__init__()
        lines = column(self)
        lines.addWidget(label("The alignment in force", "heading"))
        self._frame = Choice("Frame")
        self._frame.picked.connect(chosen)
        lines.addWidget(self._frame)
        self._locks = LockMatrix()
        lines.addWidget(self._locks)
        self._facts = Facts("Alignment")
        lines.addWidget(self._facts)
        self._note = label("", "soft", wrap=True)
        lines.addWidget(self._note)
        lines.addWidget(line())
        self._compare_title = label("", "heading", wrap=True)
        lines.addWidget(self._compare_title)
        self._moved = Facts("Movement between alignments")
        lines.addWidget(self._moved)
        self._changes = label("", "soft", wrap=True)
        self._changes.setAccessibleName("Verdicts that change")
        lines.addWidget(self._changes)

    def show_job(self, d: Derived) -> None:
        """The alignments of the job, the one in force, and how it differs from the newest other."""
        names = [s.name for s in d.job.procedure.alignments]
        self._frame.show_options([(n, n) for n in names], d.in_force)
        self._locks.show_locks(d.evaluation.alignment.locked if d.evaluation else {})
        self._facts.show_facts(alignment_facts(d))
        self._note.setText(
            "\n".join(map(sentence, d.evaluation.alignment.notes)) if d.evaluation else "No alignment yet."
        )
        self._note.setVisible(bool(self._note.text()))
        self._show_comparison(d.comparison, d.uncompared)

    def _show_comparison(self, c: Comparison | None, why_not: str) -> None:
        if c is None:
            self._compare_title.setText(why_not or "With a second alignment, what it changes is told here")
            self._moved.show_facts([])
            self._changes.setText("")
            return
        self._compare_title.setText(f"From '{c.first}' to '{c.second}'")
        shift = "  ".join(signed(float(v)) for v in c.motion.shift)
        self._moved.show_facts(
            [
                ("centre moves, X Y Z", shift),
                ("turns", f"{c.motion.angle:.4f}\u00b0"),
                ("largest movement", f"{c.motion.largest:.3f} mm"),
            ]
        )
        lines = [
            f"{x.before.line.id} {x.before.line.title}: {x.before.verdict} \u2192 {x.after.verdict}" for x in c.changes
        ]
        self._changes.setText("\n".join(lines) if lines else "No verdict changes.")


class LockMatrix(QWidget):
    """Six cells, each with the letter of what locks that motion."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Lock matrix")
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        self._cells: dict[str, QLabel] = {}
        for index, axis in enumerate(AXES):
            cell = label("", "card")
            cell.setMinimumHeight(36)
            cell.setAccessibleName(f"Lock {axis}")
            grid.addWidget(cell, index // 3, index % 3)
            self._cells[axis] = cell

    def show_locks(self, locked: dict[str, str]) -> None:
        """Show what locks each motion; an open cell names the motion left free."""
        for axis, cell in self._cells.items():
            by = locked.get(axis, "").replace("free", "")
            short = by if len(by) == 1 else {"best fit": "fit"}.get(by, by)
            cell.setText(f"  {axis}   <b>{short}</b>" if by else f"  {axis}   free")
            cell.setToolTip(f"{axis} is locked by {by}" if by else f"nothing locks {axis}")

    def texts(self) -> dict[str, str]:
        """What the cells say."""
        return {axis: cell.toolTip() for axis, cell in self._cells.items()}
