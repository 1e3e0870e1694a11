"""How thick the walls are, as a map on the stage."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QWidget

from juxtum.desk.mapping.values import Values, show_values
from juxtum.desk.widgets import Choice, Facts, LengthField, button, column, form, label, row
from juxtum.evaluate.walls import WallMap
from juxtum.geometry import TriangleMesh
from juxtum.guide.walls import BECAUSE, WAYS, wall_facts
from juxtum.job import Job
from juxtum.job.steps import WallsStep
from juxtum.job.wall_map import TakenWalls
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.palette import MapScale
from juxtum.wording import sentence

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

LAYER = "walls"
COMMON = (1.0, 99.0)
"""Of what was found, per cent: the map reaches over so much of it."""


class WallPanel(QWidget):
    """Has the walls measured, and shows them in place of the map.

    Parameters
    ----------
    desk : Desk
    dress : callable
        Puts the station's layers on the stage anew.
    """

    def __init__(self, desk: Desk, dress: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._dress = desk, dress
        lines = column(self, 8)
        lines.addWidget(label("Walls", "heading"))
        self._way = Choice("How walls are measured")
        self._way.show_options(list(WAYS.items()), "ray")
        self._way.picked.connect(lambda _: self._again())
        self._least = LengthField("Least thickness", 0.0, "mm; a thinner wall does not conform; 0 for any")
        self._most = LengthField("Most thickness", 0.0, "mm; a thicker wall does not conform; 0 for any")
        for field in (self._least, self._most):
            field.missing = "any"
            field.set_value(None)
            field.chosen.connect(lambda _: self._again())
        lines.addWidget(self._way)
        lines.addLayout(form([("At least, mm", self._least), ("At most, mm", self._most)]))
        self._measure = button(
            "Measure the walls", self.measure, tip="How thick the part is, all over what was scanned of it"
        )
        self._forget = button("No more", self.forget, tip="Measure walls no more")
        self._show = button("Show the walls", dress, tip="Colours by thickness, in place of the map")
        self._show.setCheckable(True)
        lines.addLayout(row(self._measure, self._show, self._forget))
        self._facts = Facts("Thickness of walls")
        lines.addWidget(self._facts)
        self._reason = label("", "soft", wrap=True)
        self._reason.setAccessibleName("About the walls")
        lines.addWidget(self._reason)

    @property
    def taken(self) -> TakenWalls | None:
        """What was measured, in the alignment in force."""
        evaluation = self._desk.session.derived.evaluation
        return None if evaluation is None else evaluation.walls

    @property
    def _step(self) -> WallsStep | None:
        return (self._desk.session.job.procedure.of(WallsStep) or (None,))[-1]

    def show_job(self) -> None:
        """Show the job as it is now."""
        step, taken = self._step, self.taken
        if step is not None:
            self._way.show_options(list(WAYS.items()), step.way)
            self._least.set_value(step.least)
            self._most.set_value(step.most)
        self._measure.setVisible(step is None)
        self._measure.setEnabled(self._desk.session.derived.evaluation is not None)
        self._forget.setVisible(step is not None)
        self._show.setVisible(taken is not None and taken.found is not None)
        if step is None:
            self._show.setChecked(False)
        self._facts.setVisible(taken is not None)
        facts = [] if taken is None or taken.found is None else wall_facts(taken)
        self._facts.show_facts([fact for fact in facts if fact[0] != BECAUSE])
        words = "" if taken is None else taken.problem or dict(facts).get(BECAUSE, "")
        self._reason.setText(sentence(words) if words else "")
        self._reason.setVisible(bool(words))

    def measure(self) -> None:
        """Measure the walls as it is chosen, and show them."""
        least, most = (field.value if field.value > 0 else None for field in (self._least, self._most))
        if least is not None and most is not None and least >= most:
            self._desk.tell("the least thickness is not below the most", "walls", "Choose others")
            return
        step = WallsStep.model_validate({"way": self._way.currentData(), "least": least, "most": most})
        self._show.setChecked(True)
        self._desk.session.edit("measure the walls", lambda job: job.with_step(step))

    def _again(self) -> None:
        if self._step is not None:
            self.measure()

    def forget(self) -> None:
        """Measure them no more."""
        step = self._step
        if step is not None:
            self._show.setChecked(False)
            self._desk.session.edit("walls no more", partial(Job.without, step=step))

    def take_off(self) -> None:
        """Take the walls off the stage."""
        self._desk.view.put(LAYER, None)

    def dress(self) -> None:
        """The walls in place of the map, where that is wanted."""
        self.take_off()
        d, view, taken = self._desk.session.derived, self._desk.view, self.taken
        scan = d.measured
        if not self._show.isChecked() or taken is None or taken.found is None or d.evaluation is None:
            return
        if not isinstance(scan, TriangleMesh):
            return
        found = taken.found
        for name in MAP_LAYERS:
            view.put(name, None)
        scale = wall_scale(found)
        mesh = TriangleMesh(d.evaluation.deviation.points, scan.triangles)
        show_values(view, LAYER, Values(mesh, found.values), scale, "grey: no thickness")


def wall_scale(found: WallMap) -> MapScale:
    """The colours of a wall map: limits where they are asked for, otherwise all that is common runs from colour to colour."""
    known = found.values[np.isfinite(found.values)]
    low, high = (float(np.percentile(known, share)) for share in COMMON)
    least, most = found.limits.least, found.limits.most
    lower, upper = (low if least is None else least), (high if most is None else most)
    if upper <= lower:
        lower, upper = (upper * 0.9, upper) if least is None else (lower, lower * 1.1)
    room = 0.5 * (upper - lower)
    span = (max(min(low, lower - room), 0.0), max(high, upper + room))
    style = {(False, False): "graded", (True, False): "below", (False, True): "above"}.get(
        (least is not None, most is not None), "steps"
    )
    return MapScale(lower, upper, style, span)
