"""The job strip: which part this is, the alignment in force, the decision rule, and the way to every action."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from juxtum.desk.derived import Derived
from juxtum.desk.style import colour
from juxtum.desk.widgets import Choice, label
from juxtum.evaluate import DecisionRule


class Emblem(QWidget):
    """Our sign: two outlines laid side by side, one of them measured."""

    def sizeHint(self) -> QSize:
        """Small."""
        return QSize(30, 30)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Two leaning sheets that share an edge."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour("accent"), 2))
        painter.drawPolygon(QPolygonF([QPointF(4, 8), QPointF(14, 4), QPointF(14, 22), QPointF(4, 26)]))
        painter.setBrush(colour("accent"))
        painter.drawPolygon(QPolygonF([QPointF(17, 8), QPointF(27, 4), QPointF(27, 22), QPointF(17, 26)]))
        painter.end()


class Strip(QWidget):
    """44 pixels under the menus."""

    alignment_chosen = pyqtSignal(str)
    rule_chosen = pyqtSignal(str)
    palette_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 4, 12, 4)
        layout.setSpacing(8)
        sign = Emblem()
        sign.setFixedSize(30, 30)
        layout.addWidget(sign)
        words = QVBoxLayout()
        words.setSpacing(0)
        self._name, self._under = label("", "partName"), label("", "soft")
        self._name.setAccessibleName("Part")
        words.addWidget(self._name)
        words.addWidget(self._under)
        layout.addLayout(words)
        layout.addStretch(1)
        self.alignment = Choice("Alignment in force")
        self.alignment.setMinimumWidth(190)
        self.alignment.setToolTip("Which alignment counts; switching recolours map and ledger (Ctrl+Tab)")
        self.alignment.picked.connect(self.alignment_chosen)
        self.rule = Choice("Decision rule")
        self.rule.setToolTip("Simple: on which side of the limit. Guarded: by more than the uncertainty")
        self.rule.picked.connect(self.rule_chosen)
        layout.addWidget(self.alignment)
        layout.addWidget(self.rule)
        layout.addWidget(label("mm", "soft"))
        find = QPushButton("Find an action    Ctrl+K")
        find.setAccessibleName("Find an action")
        find.clicked.connect(self.palette_wanted)
        layout.addWidget(find)

    def show_job(self, d: Derived, saved: bool) -> None:
        """Part, alignment and rule of the job."""
        brief = d.job.brief
        self._name.setText(d.job.title + ("" if saved else "  \u2022"))
        self._name.setToolTip("saved" if saved else "changed since it was saved; Ctrl+S saves")
        parts = [f"serial {brief.serial}" if brief.serial else "", brief.customer, brief.operator]
        self._under.setText("  \u00b7  ".join(p for p in parts if p) or "no serial yet")
        # What a procedure would do to a scan is no alignment before there is a scan.
        names = [s.name for s in d.job.procedure.alignments] if d.scan is not None else []
        options = [(n, f"alignment  {n}") for n in names] or [("", "no alignment yet")]
        self.alignment.show_options(options, d.in_force)
        self.alignment.setEnabled(bool(names))
        self.rule.show_options([(r.value, f"rule  {r.value}") for r in DecisionRule], d.job.procedure.decide.rule)
