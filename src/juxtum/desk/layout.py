"""Where everything lies: strip on top, route at the left, stage and ledger in the middle, worksheets at the right."""

from __future__ import annotations

from collections.abc import Iterable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from juxtum.desk.action import Action
from juxtum.desk.derived import Derived
from juxtum.desk.ledger import Ledger
from juxtum.desk.route import Route
from juxtum.desk.stage_view import StageView
from juxtum.desk.status import StatusStrip
from juxtum.desk.strip import Strip
from juxtum.desk.style import THEME
from juxtum.guide.findings import Key, finding

ROOMY = 1600
"""Below this width floor-readable sizes leave only the marks of the route."""


class Layout:
    """The parts of the window round the stage."""

    def __init__(self, view: StageView) -> None:
        self.view = view
        self.strip, self.route, self.ledger, self.status = Strip(), Route(), Ledger(), StatusStrip()
        self.sheets = QStackedWidget()
        self.sheets.setObjectName("worksheet")
        self.sheets.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.middle = QSplitter(Qt.Orientation.Vertical)
        self.central = QWidget()
        self.down = QVBoxLayout(self.central)
        self._ledger_was_shown = True

    def own_actions(self) -> tuple[Action, ...]:
        """What is shown beside the stage."""
        return (
            Action(
                "ledger", "Ledger", "View/4", self.toggle_ledger, "F9", "panel-bottom", checked=self.ledger.isVisible
            ),
            Action(
                "marks only",
                "Route as marks only",
                "View/4",
                self.toggle_route,
                "F8",
                "panel-left",
                checked=lambda: self.route.is_narrow,
            ),
        )

    def arrange(self, worksheets: Iterable[QWidget], covers: Iterable[QWidget]) -> None:
        """Lay everything out; some widgets may take the ledger's place."""
        for sheet in worksheets:
            self.sheets.addWidget(sheet)
        for widget in (self.view, self.ledger, *covers):
            self.middle.addWidget(widget)
        self.middle.setStretchFactor(0, 1)
        self.middle.setCollapsible(0, False)
        self.middle.setSizes([560, 150, 150, 280])
        across = QHBoxLayout()
        across.setSpacing(0)
        for widget, stretch in ((self.route, 0), (self.middle, 1), (self.sheets, 0)):
            across.addWidget(widget, stretch)
        self.down.setContentsMargins(0, 0, 0, 0)
        self.down.setSpacing(0)
        self.down.addWidget(self.strip)
        self.down.addLayout(across, 1)
        self.down.addWidget(self.status)

    def resize_to_scale(self, width: int) -> None:
        """Widths and heights that follow the text, in a window of a width."""
        self.sheets.setFixedWidth(round(340 * (1 + (THEME.scale - 1) * 0.7)))
        self.strip.setFixedHeight(THEME.px(46))
        self.route.set_narrow(THEME.scale > 1 and width < ROOMY)

    def show_job(self, d: Derived, is_saved: bool) -> None:
        """What strip, route and status say of a job."""
        self.strip.show_job(d, is_saved)
        self.route.show_findings({key: finding(key, d) for key in Key})
        self.status.show_counts(d, is_saved)

    def show_ledger(self, d: Derived, methods: dict[str, str], selected: str) -> None:
        """The lines of the drawing, with what was measured."""
        measured = {c.line.id: c for c in d.evaluation.ledger} if d.evaluation else {}
        self.ledger.set_methods(methods)
        self.ledger.set_rows([(p.line, measured.get(p.id)) for p in d.job.procedure.characteristics], selected)

    def toggle_ledger(self) -> None:
        """Show or hide the ledger."""
        self.ledger.setVisible(not self.ledger.isVisible())

    def toggle_route(self) -> None:
        """Only the marks of the route, or its words too."""
        self.route.set_narrow(not self.route.is_narrow)

    def cover_ledger(self) -> None:
        """Hide the ledger and remember whether it was shown."""
        self._ledger_was_shown = self.ledger.isVisible()
        self.ledger.hide()

    def uncover_ledger(self) -> None:
        """Show it again if it was shown."""
        self.ledger.setVisible(self._ledger_was_shown)
