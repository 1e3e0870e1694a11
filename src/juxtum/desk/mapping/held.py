"""Other maps on the stage: the nominal against the scan, and the scan against another one of the job."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QWidget

from juxtum.desk.mapping.values import Values, show_values
from juxtum.desk.mapping.walls import LAYER as WALLS
from juxtum.desk.widgets import Choice, Facts, column, label
from juxtum.errors import JuxtumError
from juxtum.evaluate import SearchRule
from juxtum.evaluate.bodies import Clearance, clearance
from juxtum.evaluate.held import HeldMap, nominal_against, scan_against
from juxtum.geometry import TriangleMesh
from juxtum.guide.bodies import gap_facts
from juxtum.job import Job
from juxtum.progress import Progress
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.palette import MapScale
from juxtum.wording import percent

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

LAYER = "held"
LEAST_SHOWN = 0.01
"""A gap of nothing all over needs a scale as well, mm."""
USUAL, NOMINAL, SCAN, GAP = "usual", "nominal", "scan ", "gap "


class HeldPanel(QWidget):
    """Chooses what is held against what, and shows that map in place of the usual one.

    Parameters
    ----------
    desk : Desk
    dress : callable
        Puts the station's layers on the stage anew.
    """

    def __init__(self, desk: Desk, dress: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._dress = desk, dress
        self.found: HeldMap | None = None
        self.gap: Clearance | None = None
        self._of: tuple[object, str] | None = None
        """The evaluation and the choice for which a map was found or is being looked for."""
        lines = column(self, 8)
        lines.addWidget(label("What is held against what", "heading"))
        self._what = Choice("What is held against what")
        self._what.picked.connect(lambda _: self._ask())
        lines.addWidget(self._what)
        self._facts = Facts("Other map")
        lines.addWidget(self._facts)

    @property
    def chosen(self) -> str:
        """What is chosen."""
        return str(self._what.currentData() or USUAL)

    def show_job(self) -> None:
        """The scans that can be held against; a map of another state of the job is made anew."""
        d = self._desk.session.derived
        others = [s.scan for s in d.job.procedure.alignments if s.scan != d.job.scan_in_force]
        options = [(USUAL, "the scan, against the nominal"), (NOMINAL, "the nominal, against the scan")]
        for name in dict.fromkeys(others):
            options += [(SCAN + name, f"the scan, against {name}"), (GAP + name, f"the gap from the scan to {name}")]
        before = self.chosen
        self._what.show_options(options, before if before in dict(options) else USUAL)
        self.setVisible(d.evaluation is not None and isinstance(d.measured, TriangleMesh))
        self._ask()

    def _ask(self) -> None:
        d = self._desk.session.derived
        wanted = (d.evaluation, self.chosen)
        if wanted == self._of:
            return
        self._of, self.found, self.gap = wanted, None, None
        self._show()
        if self.chosen == USUAL or d.evaluation is None:
            return
        job, what, evaluation = d.job, self.chosen, d.evaluation
        measured = d.measured

        def work(progress: Progress) -> tuple[object, HeldMap | Clearance]:
            assert isinstance(measured, TriangleMesh)
            scan = TriangleMesh(evaluation.deviation.points, measured.triangles)
            rule = SearchRule(job.procedure.measure.limit, job.procedure.measure.angle)
            if what == NOMINAL:
                return wanted, nominal_against(evaluation.deviation.nominal, scan, rule, progress)
            if what.startswith(GAP):
                return wanted, clearance(scan, self._other(job, what.removeprefix(GAP), progress), rule.limit, progress)
            return wanted, scan_against(scan, self._other(job, what.removeprefix(SCAN), progress), rule, progress)

        self._desk.session.compute(work, self._found)

    def _other(self, job: Job, name: str, progress: Progress) -> TriangleMesh:
        """Another scan where its own alignment lays it."""
        runner = self._desk.session.runner
        there = job.on_scan(name)
        scan = runner.measured(there, progress)
        if not isinstance(scan, TriangleMesh):
            raise JuxtumError(
                f"'{name}' is a list of points, and has no surface", "map", "Choose a scan with a surface"
            )
        step = next(s for s in reversed(there.procedure.alignments) if s.scan == name)
        return scan.moved(runner.alignment(there, step.name, progress).transform)

    def _found(self, answer: tuple[object, HeldMap | Clearance]) -> None:
        wanted, found = answer
        if wanted == self._of:
            self.gap = found if isinstance(found, Clearance) else None
            self.found = found.map if isinstance(found, Clearance) else found
            self._show()

    def _show(self) -> None:
        numbers = None if self.found is None else self.found.numbers
        self._facts.setVisible(numbers is not None)
        if self.gap is not None:
            self._facts.show_facts(gap_facts(self.gap))
        elif numbers is not None:
            self._facts.show_facts(
                [
                    *(
                        (name, f"{numbers[name]:+.3f} mm".replace("-", "\u2212"))
                        for name in ("least", "largest", "mean")
                    ),
                    ("standard deviation", f"{numbers['sd']:.3f} mm"),
                    ("area with a value", percent(numbers["seen"])),
                ]
            )
        if self.isVisible():
            # What is not in sight is dressed when its station is entered.
            self._dress()
            self._desk.view.redraw()

    def take_off(self) -> None:
        """Take the map off the stage."""
        self._desk.view.put(LAYER, None)

    def dress(self) -> None:
        """This map in place of the usual one, where one is chosen."""
        self.take_off()
        view, found = self._desk.view, self.found
        if found is None:
            return
        for name in (*MAP_LAYERS, WALLS):
            view.put(name, None)
        measure = self._desk.session.job.procedure.measure
        usual = MapScale(measure.lower, measure.upper, measure.colours)
        scale, words = (usual, "nothing over it") if self.gap is None else (about_nothing(found), "faces nothing")
        show_values(view, LAYER, Values(found.mesh, found.values), scale, f"grey: {words}")


def about_nothing(found: HeldMap) -> MapScale:
    """From reaching in to a gap, as far as all but few values go: a fit of hundredths shows as well as a joint of millimetres."""
    most = float(np.percentile(np.abs(found.values[found.known]), 98)) if found.known.any() else 1.0
    most = float(np.format_float_positional(max(most, LEAST_SHOWN), precision=1, fractional=False))
    return MapScale(-0.1 * most, 0.1 * most, "steps", (-1.1 * most, 1.1 * most))
