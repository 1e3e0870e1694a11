"""Where to cut: planes across the axes, beside a clicked face, or turned about the axis of one."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QWidget

from juxtum.desk.sectioning.drawer import SectionDrawer, suggested
from juxtum.desk.sectioning.moving import AXES, exchanged, free_label, moved_to, where_of
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.widgets import Choice, LengthField, button, column, label, row
from juxtum.errors import InputError
from juxtum.evaluate.sections import Section
from juxtum.geometry.arrays import Floats
from juxtum.job import Job
from juxtum.job.steps import SectionStep
from juxtum.report.sections import write_sections
from juxtum.scene.drawables import segments
from juxtum.scene.palette import MapScale
from juxtum.scene.picking import Hit
from juxtum.wording import signed

if TYPE_CHECKING:
    from juxtum.desk.derived import Derived
    from juxtum.desk.desk import Desk

WHERE = [
    ("z", "across Z"), ("x", "across X"), ("y", "across Y"),
    ("face", "beside a clicked face"), ("axis", "through a clicked axis"),
]  # fmt: skip
PLANES = [(1, "one plane"), *((n, f"{n} planes") for n in (2, 3, 4, 5, 6, 8, 10, 12, 18, 24, 36))]
LAYERS = ("cut drawn", "cut measured")


class SectionPanel(QWidget):
    """Adds, chooses and removes sections.

    Parameters
    ----------
    desk : Desk
    dress : callable
        Puts the station's layers on the stage anew.
    pin : callable
        Pins a reading at a place (3,).
    """

    def __init__(self, desk: Desk, dress: Callable[[], None], pin: Callable[[Floats], None]) -> None:
        super().__init__()
        self._desk, self._dress = desk, dress
        self.chosen = ""
        lines = column(self, 8)
        lines.addWidget(label("Sections", "heading"))
        self._where = Choice("Cut")
        self._where.show_options(WHERE, "z")
        self._where.picked.connect(lambda _: self._show_fields())
        self._at = LengthField("At", 0.0, "mm along the axis, or out of the face; changing it moves the chosen section")
        self._at.chosen.connect(self._move)
        self._count = Choice("Planes")
        self._count.show_options([(str(n), words) for n, words in PLANES], "1")
        self._count.picked.connect(lambda _: self._show_fields())
        self._apart = LengthField("Apart", 10.0, "mm from plane to plane")
        self._apart_words = label("mm apart", "soft")
        lines.addLayout(row(self._where, label("at", "soft"), self._at))
        lines.addLayout(row(self._count, self._apart, self._apart_words))
        self._add = button("Cut here", self.begin, tip="Cut nominal and scan, and hold one against the other there")
        self._remove = button("Remove the section", self.remove, tip="The chosen one, with its series")
        lines.addLayout(row(self._add, self._remove))
        self.list = QListWidget()
        self.list.setAccessibleName("Sections")
        self.list.currentItemChanged.connect(lambda now, _: self._chose(now))
        lines.addWidget(self.list)
        self.drawer = SectionDrawer()
        self.drawer.closed.connect(self.close_drawer)
        self.drawer.wanted.connect(self._export)
        self.drawer.pinned.connect(pin)
        self._show_fields()

    @property
    def derived(self) -> Derived:
        """What is known of the job."""
        return self._desk.session.derived

    @property
    def sections(self) -> tuple[Section, ...]:
        """All sections of the job, in the alignment in force."""
        return self.derived.evaluation.sections if self.derived.evaluation else ()

    @property
    def _steps(self) -> tuple[SectionStep, ...]:
        return self.derived.job.procedure.sections

    def _step_of(self, name: str) -> SectionStep | None:
        """The step of a section: its own name, or the beginning of it in a series."""
        whole = [s for s in self._steps if s.label == name]
        begun = [s for s in self._steps if name.startswith(f"{s.label} ")]
        return next(iter((*whole, *begun)), None)

    def _show_fields(self) -> None:
        is_radial = self._where.currentData() == "axis"
        self._at.setEnabled(not is_radial)
        has_spacing = not is_radial and self._count.currentData() != "1"
        self._apart.setVisible(has_spacing)
        self._apart_words.setVisible(has_spacing)
        words = "Cut here" if self._where.currentData() in AXES else "Cut at a clicked face"
        self._add.setText(words)
        self._add.setAccessibleName(words)
        self._add.setEnabled(self.derived.evaluation is not None)

    # -- adding, moving, removing -----------------------------------------------------------------------------

    @property
    def is_picking(self) -> bool:
        """Whether the next click on the part gives the face."""
        return self._add.isCheckable() and self._add.isChecked()

    def begin(self) -> None:
        """Cut across an axis at once; else wait for a click on the part."""
        if self._where.currentData() in AXES:
            self._add.setCheckable(False)
            self._cut({"normal": AXES[self._where.currentData()]})
            return
        if not self._add.isCheckable():
            self._add.setCheckable(True)
            self._add.setChecked(True)
        mode = Mode.PICK if self._add.isChecked() else Mode.LOOK
        self._desk.view.set_mode(mode, "Click the face; Esc ends")

    def picked(self, hit: Hit) -> bool:
        """A click on the stage; whether it was for this panel."""
        nominal = self.derived.nominal
        if not self.is_picking or nominal is None:
            return False
        foot = nominal.projector.project(hit.place[None], limit=20.0)
        if foot.faces[0] >= 0:
            self.leave()
            self._desk.view.set_mode(Mode.LOOK)
            series = "radial" if self._where.currentData() == "axis" else "parallel"
            self._cut({"face": int(foot.faces[0]) + 1, "series": series})
        return True

    def _cut(self, given: dict[str, object]) -> None:
        nominal, at, count = self.derived.nominal, self._at.value, int(self._count.currentData())
        if nominal is None:
            return
        if "face" in given:
            stem = f"face {given['face']}" + (" axis" if given["series"] == "radial" else f" {at:+g}" if at else "")
            given["offset"] = at
        else:
            axis = str(self._where.currentData())
            stem, given["point"] = f"{axis} = {at:g}", tuple(at * a for a in AXES[axis])
        try:
            step = SectionStep(
                label=free_label(stem, self._desk.session.job),
                count=count,
                spacing=self._apart.value or 10.0,
                **given,
            )
            step.planes(nominal)
        except InputError as problem:
            self._desk.session.failed.emit(problem)
            return
        first = step.planes(nominal)[0].name
        self._desk.session.add(step, f"section {step.label}", then=lambda: self.choose(first))

    def _move(self, value: float) -> None:
        """Another place for the chosen section."""
        step, job = self._step_of(self.chosen), self._desk.session.job
        if step is None:
            return
        moved = moved_to(step, value, job)
        planes = () if self.derived.nominal is None else moved.planes(self.derived.nominal)
        self._desk.session.edit(
            f"move section {step.label}",
            partial(exchanged, old=step, new=moved),
            then=lambda: self.choose(planes[0].name) if planes else None,
        )

    def remove(self) -> None:
        """Take the chosen section out of the job, with its series."""
        step = self._step_of(self.chosen)
        if step is not None:
            self.chosen = ""
            self._desk.session.edit(f"remove section {step.label}", partial(Job.without, step=step))

    # -- showing ----------------------------------------------------------------------------------------------

    def show_job(self) -> None:
        """The list, and the drawer where a section is chosen."""
        sections = self.sections
        self._show_fields()
        if self.chosen not in [s.plane.name for s in sections]:
            self.chosen = ""
        self.list.blockSignals(True)
        self.list.clear()
        for section in sections:
            found = section.found
            worst = float(found[np.argmax(np.abs(found))]) if len(found) else float("nan")
            words = f"{signed(worst, 3)} mm" if len(found) else "nothing seen"
            item = QListWidgetItem(f"{section.plane.name}   {words}")
            item.setData(Qt.ItemDataRole.UserRole, section.plane.name)
            self.list.addItem(item)
            if section.plane.name == self.chosen:
                self.list.setCurrentItem(item)
        self.list.setFixedHeight(min(len(sections), 5) * max(self.list.sizeHintForRow(0), 20) + 4)
        self.list.setVisible(bool(sections))
        self._remove.setVisible(bool(sections))
        self._remove.setEnabled(bool(self.chosen))
        self.list.blockSignals(False)
        self._show_drawer()

    def choose(self, name: str) -> None:
        """Show a section in the drawer and on the stage; "" for none."""
        self.chosen = name
        step = self._step_of(name)
        if step is not None:
            normal = np.array(step.normal) / np.linalg.norm(step.normal)
            self._at.set_value(step.offset if step.face is not None else float(np.array(step.point) @ normal))
            self._where.show_options(WHERE, where_of(step))
        self.show_job()
        self._dress()

    def _chose(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self.choose(str(item.data(Qt.ItemDataRole.UserRole)))

    @property
    def _section(self) -> Section | None:
        return next((s for s in self.sections if s.plane.name == self.chosen), None)

    def _show_drawer(self) -> None:
        section, measure = self._section, self.derived.job.procedure.measure
        readings = self.derived.evaluation.readings if self.derived.evaluation else ()
        self.drawer.show_section(section, MapScale(measure.lower, measure.upper), readings)
        shown = section is not None and self.isVisible()
        if shown and self.drawer.isHidden():
            self._desk.cover_ledger()
            self.drawer.show()
        elif not shown and not self.drawer.isHidden():
            self.drawer.hide()
            self._desk.uncover_ledger()

    def close_drawer(self) -> None:
        """Show the ledger again."""
        self.list.setCurrentItem(None)
        self.choose("")

    def dress(self) -> None:
        """Curves of the sections on the stage: of all of them thin, of the chosen one alone where one is chosen."""
        chosen = self._section
        shown = (chosen,) if chosen is not None else self.sections
        drawn = [_segments(s, s.drawn.pieces[0], s.drawn.pieces[1]) for s in shown]
        measured = []
        for s in shown:
            for curve in s.measured:
                measured.append(_segments(s, *curve.ends))
        for layer, parts in zip(LAYERS, (drawn, measured), strict=True):
            ends = np.concatenate(parts) if parts else np.zeros((0, 2, 3))
            self._desk.view.put(layer, segments(ends) if len(ends) else None)

    def leave(self) -> None:
        """Let go of what was begun."""
        self._add.setChecked(False)

    def go_away(self) -> None:
        """Leave the station: stage and ledger as they were."""
        self.leave()
        for layer in LAYERS:
            self._desk.view.put(layer, None)
        if not self.drawer.isHidden():
            self.drawer.hide()
            self._desk.uncover_ledger()

    def _export(self, section: Section) -> None:
        path = self._desk.asking.section(suggested(section))
        if path is None:
            return
        measure = self.derived.job.procedure.measure
        scale = MapScale(measure.lower, measure.upper)
        readings = self.derived.evaluation.readings if self.derived.evaluation else ()
        self._desk.session.compute(
            lambda _: write_sections(path, [section], scale, readings=readings),
            lambda _: self._desk.announce(f"The section is in {path.name}."),
        )


def _segments(section: Section, starts: object, ends: object) -> np.ndarray:
    return np.stack([section.plane.space(starts), section.plane.space(ends)], axis=1)  # type: ignore[arg-type]
