"""Features at Measure: clicked on the scan, or of faces of the nominal; the card of the one that is chosen."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from juxtum.desk.stage_pointer import Mode
from juxtum.desk.widgets import Choice, Facts, LengthField, button, column, form, label, row
from juxtum.evaluate.features import TakenFeature, ready_for_clicks
from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.geometry.mesh import TriangleMesh
from juxtum.guide.features import card_lines, short_words
from juxtum.job import Job
from juxtum.job.steps import FeatureStep
from juxtum.scene.drawables import moved_surface, plain_surface, spread_of
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.palette import MapScale
from juxtum.scene.picking import Hit
from juxtum.wording import sentence

if TYPE_CHECKING:
    from juxtum.desk.derived import Derived
    from juxtum.desk.desk import Desk

KINDS = [
    ("", "as the surface tells"),
    ("plane", "a plane"),
    ("cylinder", "a cylinder"),
    ("sphere", "a sphere"),
    ("cone", "a cone"),
]
SOURCES = [("scan", "round the click"), ("face", "of the clicked face")]
USED, LEFT = "feature", "strays"


class FeaturePanel(QWidget):
    """Adds, chooses, tunes and removes features.

    Parameters
    ----------
    desk : Desk
    dress : callable
        Puts the station's layers on the stage anew.
    """

    def __init__(self, desk: Desk, dress: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._dress = desk, dress
        self.chosen = ""
        lines = column(self, 8)
        lines.addWidget(label("Features", "heading"))
        self._kind = Choice("Kind of feature")
        self._kind.show_options(KINDS, "")
        self._source = Choice("Data")
        self._source.show_options(SOURCES, "scan")
        lines.addLayout(form([("Kind", self._kind), ("Data", self._source)]))
        self._add = button(
            "Click a feature", self.begin, tip="Click the scan: all that goes on as the place does is one feature"
        )
        self._add.setCheckable(True)
        self._remove = button("Remove it", self.remove)
        lines.addLayout(row(self._add, self._remove))
        self._residuals = button(
            "Show how far off", dress, tip="Colours by the distance from the feature, in place of the map"
        )
        self._residuals.setCheckable(True)
        self.list = QListWidget()
        self.list.setAccessibleName("Features")
        self.list.currentItemChanged.connect(lambda now, _: self._chose(now))
        lines.addWidget(self.list)
        self._build_card()

    def _build_card(self) -> None:
        """What is known of the chosen one, and how far it may reach."""
        lines = self.layout()
        assert isinstance(lines, QVBoxLayout)
        self._card = Facts("Feature")
        lines.addWidget(self._card)
        self._notes = label("", "soft", wrap=True)
        self._notes.setAccessibleName("About the feature")
        lines.addWidget(self._notes)
        lines.addLayout(row(self._residuals))
        self._tolerance = LengthField(
            "Grow within", 0.0, "How far points may lie off the feature, mm; the region follows"
        )
        self._tolerance.missing = "as rough"
        self._tolerance.chosen.connect(self._tune)
        self._tune_row = QWidget()
        inside = column(self._tune_row, 0)
        inside.addLayout(form([("Grow within, mm", self._tolerance)]))
        inside.addLayout(row(button("Narrower", lambda: self._scale(0.8)), button("Wider", lambda: self._scale(1.25))))
        lines.addWidget(self._tune_row)

    @property
    def _derived(self) -> Derived:
        return self._desk.session.derived

    @property
    def taken(self) -> tuple[TakenFeature, ...]:
        """All features of the job, in the alignment in force."""
        return self._derived.evaluation.features if self._derived.evaluation else ()

    @property
    def _now(self) -> TakenFeature | None:
        return next((one for one in self.taken if one.label == self.chosen), None)

    def _step_of(self, name: str) -> FeatureStep | None:
        return next((s for s in self._derived.job.procedure.of(FeatureStep) if s.label == name), None)

    def show_job(self) -> None:
        """Show the job as it is now."""
        names = [one.label for one in self.taken]
        if self.chosen not in names:
            self.chosen = names[-1] if names else ""
        self.list.blockSignals(True)
        self.list.clear()
        for one in self.taken:
            item = QListWidgetItem(short_words(one))
            item.setData(Qt.ItemDataRole.UserRole, one.label)
            self.list.addItem(item)
        if self.chosen:
            self.list.setCurrentRow(names.index(self.chosen))
        self.list.setFixedHeight(max(1, min(len(names), 5)) * 22 + 8)
        self.list.blockSignals(False)
        self.list.setVisible(bool(names))
        self._add.setEnabled(self._derived.evaluation is not None)
        self._show_card()

    def _show_card(self) -> None:
        now = self._now
        self._remove.setEnabled(now is not None)
        self._card.setVisible(now is not None)
        self._card.show_facts([] if now is None else card_lines(now))
        made = None if now is None else now.measured
        self._notes.setText(" ".join(sentence(note) for note in made.notes) if made is not None else "")
        self._notes.setVisible(bool(self._notes.text()))
        step = self._step_of(self.chosen)
        self._tune_row.setVisible(step is not None and step.seed is not None)
        if step is not None:
            self._tolerance.set_value(step.tolerance)
        self._residuals.setVisible(made is not None and len(made.rows) > 0)

    def _chose(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self.chosen = str(item.data(Qt.ItemDataRole.UserRole))
            self._show_card()
            self._dress()

    # -- adding, tuning, removing -----------------------------------------------------------------------------

    def begin(self) -> None:
        """The next clicks on the part each make a feature."""
        mode = Mode.PICK if self._add.isChecked() else Mode.LOOK
        self._desk.view.set_mode(mode, "Click a wall, a bore, a face; Esc ends")
        evaluation, scan = self._derived.evaluation, self._derived.measured
        if mode is Mode.PICK and evaluation is not None and scan is not None:
            self._desk.session.compute(lambda _: ready_for_clicks(evaluation.deviation, scan), lambda _: None)

    def begin_or_stop(self) -> None:
        """As if the button had been pressed."""
        self._add.setChecked(not self._add.isChecked())
        self.begin()

    def picked(self, hit: Hit) -> bool:
        """A click on the stage; whether it was for this panel."""
        if not self._add.isChecked() or self._derived.evaluation is None:
            return False
        kind = self._kind.currentData() or None
        source: dict[str, object] = {"seed": tuple(round(float(v), 4) for v in hit.place)}
        if self._source.currentData() == "face":
            nominal = self._derived.nominal
            foot = None if nominal is None else nominal.projector.project(hit.place[None], limit=20.0)
            if foot is None or foot.faces[0] < 0:
                return True
            source = {"faces": (int(foot.faces[0]) + 1,)}

        def change(job: Job) -> Job:
            used = {step.label for step in job.procedure.of(FeatureStep)}
            name = next(f"F{k}" for k in range(1, len(used) + 2) if f"F{k}" not in used)
            self.chosen = name
            return job.with_step(FeatureStep.model_validate({"label": name, "element": kind} | source))

        self._desk.session.edit("measure a feature", change)
        return True

    def _tune(self, value: float) -> None:
        self._change(tolerance=value if value > 0 else None)

    def _scale(self, factor: float) -> None:
        now = self._now
        made = None if now is None else now.measured
        if made is not None and np.isfinite(made.tolerance):
            self._change(tolerance=float(f"{min(made.tolerance * factor, 10.0):.3g}"))

    def _change(self, **what: object) -> None:
        name = self.chosen

        def change(job: Job) -> Job:
            step = next((s for s in job.procedure.of(FeatureStep) if s.label == name), None)
            return job if step is None else job.with_step(step.model_copy(update=what))

        self._desk.session.edit(f"tune {name}", change, merge=f"tune {name}")

    def remove(self) -> None:
        """Take the chosen feature out."""
        step = self._step_of(self.chosen)
        if step is not None:
            self._desk.session.edit(f"remove {step.label}", lambda job: job.without(step))

    def leave(self) -> None:
        """Picking ends."""
        self._add.setChecked(False)

    # -- the stage --------------------------------------------------------------------------------------------

    def take_off(self) -> None:
        """Take the chosen feature off the stage."""
        for layer in (USED, LEFT):
            self._desk.view.put(layer, None)

    def dress(self) -> None:
        """The points that are used and those that are left out; or, asked for, how far off each lies in place of the map."""
        self.take_off()
        now, d, view = self._now, self._derived, self._desk.view
        made = None if now is None else now.measured
        scan = d.measured
        if made is None or d.evaluation is None or not isinstance(scan, TriangleMesh) or not len(made.rows):
            return
        mesh = TriangleMesh(d.evaluation.deviation.points, scan.triangles)
        patch, off = _patch(mesh, made.rows, made.off)
        left, _ = _patch(mesh, made.strays, np.zeros(len(made.strays)), touching=True)
        view.put(LEFT, None if left is None else plain_surface(left))
        if patch is None:
            return
        if not self._residuals.isChecked():
            view.put(USED, plain_surface(patch))
            return
        for name in MAP_LAYERS:
            view.put(name, None)
        reach = max(float(np.abs(made.off).max()), 1e-6)
        scale = MapScale(-reach / 3, reach / 3)
        view.put(USED, moved_surface(patch, off))
        view.set_legend(scale, spread_of(patch, off, scale), "off it", is_fixed=True)


def _patch(
    mesh: TriangleMesh, rows: Ints, values: Floats, *, touching: bool = False
) -> tuple[TriangleMesh | None, Floats]:
    """The triangles of which all corners (or any) are among some points, with a value for each point that they have."""
    mine = np.zeros(len(mesh.points), dtype=bool)
    mine[rows] = True
    corners = mine[mesh.triangles]
    keep: Bools = np.asarray(corners.any(1) if touching else corners.all(1))
    if not keep.any():
        return None, np.empty(0)
    every = np.zeros(len(mesh.points))
    every[rows] = values
    return mesh.kept_triangles(keep), every[np.unique(mesh.triangles[keep])]
