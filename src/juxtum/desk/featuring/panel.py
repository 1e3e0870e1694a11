"""Features at Measure: clicked on the scan, or of faces of the nominal; the card of the one that is chosen."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractItemView, QListWidget, QListWidgetItem, QWidget

from juxtum.desk.featuring.card import FeatureCard
from juxtum.desk.featuring.drawing import strokes_of
from juxtum.desk.featuring.making import MakePanel, free_label
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.widgets import Choice, button, column, form, label, row
from juxtum.errors import JuxtumError
from juxtum.evaluate.features import TakenFeature, ready_for_clicks
from juxtum.evaluate.features.partners import walls_about
from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.geometry.features import OPENINGS
from juxtum.geometry.mesh import TriangleMesh
from juxtum.guide.features import short_words
from juxtum.job import Job
from juxtum.job.steps import ConstructStep, FeatureStep
from juxtum.scene.drawables import moved_surface, plain_surface, spread_of
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.palette import MapScale
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.derived import Derived
    from juxtum.desk.desk import Desk

KINDS = [
    ("", "as the surface tells"),
    ("plane", "a plane"),
    ("cylinder", "a cylinder"),
    ("sphere", "a sphere"),
    ("cone", "a cone"),
    ("torus", "a torus"),
    ("slot", "a slot"),
    ("rectangle", "a rectangle"),
    ("freeform", "a free form"),
]
SOURCES = [("scan", "round the click"), ("face", "of the clicked face")]
USED, LEFT, MADE = "feature", "strays", "made"


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
        self.list = QListWidget()
        self.list.setAccessibleName("Features")
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.currentItemChanged.connect(lambda now, _: self._chose(now))
        self.list.itemSelectionChanged.connect(lambda: self.making.show_choice())
        lines.addWidget(self.list)
        self.making = MakePanel(self._edit, self._selected)
        lines.addWidget(self.making)
        self.card = FeatureCard(self._change, dress)
        lines.addWidget(self.card)

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

    def _step_of(self, name: str) -> FeatureStep | ConstructStep | None:
        return next((s for s in self._derived.job.procedure.features if s.label == name), None)

    def _selected(self) -> tuple[str, ...]:
        rows = sorted(self.list.row(item) for item in self.list.selectedItems())
        return tuple(self.taken[k].label for k in rows if k < len(self.taken))

    def _edit(self, title: str, change: Callable[[Job], Job]) -> None:
        """Add a feature, and show its card."""
        made: list[str] = []

        def changed(job: Job) -> Job:
            made.append(free_label(job))
            return change(job)

        self._desk.session.edit(title, changed, then=lambda: self.look_at(made[-1]))

    def look_at(self, name: str) -> None:
        """Choose a feature and show its card."""
        self.chosen = name
        self.show_job()
        self._dress()

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
        self.list.setFixedHeight(max(1, min(len(names), 5)) * max(self.list.sizeHintForRow(0), 22) + 8)
        self.list.blockSignals(False)
        self.list.setVisible(bool(names))
        self.making.setVisible(bool(names))
        self.making.show_choice()
        self._add.setEnabled(self._derived.evaluation is not None)
        self._show_card()

    def _show_card(self) -> None:
        now = self._now
        self._remove.setEnabled(now is not None)
        before = self.taken[: self.taken.index(now)] if now is not None else ()
        self.card.show_feature(now, self._step_of(self.chosen), before)

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
            source = {"faces": self._walls(int(foot.faces[0]) + 1, kind)}

        def change(job: Job) -> Job:
            return job.with_step(FeatureStep.model_validate({"label": free_label(job), "element": kind} | source))

        self._edit("measure a feature", change)
        return True

    def _walls(self, face: int, kind: str | None) -> tuple[int, ...]:
        """The clicked face, or of a slot or a rectangle all that go round with it."""
        nominal = self._derived.nominal
        if kind in OPENINGS and nominal is not None:
            with suppress(JuxtumError):
                return walls_about(nominal, face, kind)
        return (face,)

    def _change(self, what: dict[str, object]) -> None:
        name = self.chosen

        def change(job: Job) -> Job:
            step = next((s for s in job.procedure.features if s.label == name), None)
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
        for layer in (USED, LEFT, MADE):
            self._desk.view.put(layer, None)

    def dress(self) -> None:
        """The points that are used and those that are left out; or, asked for, how far off each lies in place of the map."""
        self.take_off()
        now, d, view = self._now, self._derived, self._desk.view
        made = None if now is None else now.measured
        scan = d.measured
        if made is not None and made.origin and d.nominal is not None:
            view.put(MADE, strokes_of(made.feature, d.nominal.diagonal, made.ends))
        if made is None or d.evaluation is None or not isinstance(scan, TriangleMesh) or not len(made.rows):
            return
        mesh = TriangleMesh(d.evaluation.deviation.points, scan.triangles)
        patch, off = _patch(mesh, made.rows, made.off)
        left, _ = _patch(mesh, made.strays, np.zeros(len(made.strays)), touching=True)
        view.put(LEFT, None if left is None else plain_surface(left))
        if patch is None:
            return
        if not self.card.residuals.isChecked():
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
