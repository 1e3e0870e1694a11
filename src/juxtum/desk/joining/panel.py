"""Joining at Assemble: the list of scans, what ties them, and what can be done about it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QCheckBox, QPushButton, QVBoxLayout, QWidget

from juxtum.desk.cleaning.selecting import Worked
from juxtum.desk.derived import Derived
from juxtum.desk.joining.pair_panel import PairPanel
from juxtum.desk.joining.ring import ClosureRing
from juxtum.desk.joining.scan_list import ScanList
from juxtum.desk.widgets import LengthField, button, form, label, row
from juxtum.geometry import RigidTransform
from juxtum.geometry.mesh import Scan
from juxtum.guide.joining import about_words, joined_words, scan_rows, tie_rows
from juxtum.job import Job
from juxtum.job.document import usual_cleaning
from juxtum.job.joins import join_of_all, with_join
from juxtum.job.steps import Join, PickedPairs
from juxtum.scene.actors import Shown
from juxtum.scene.dress import piece
from juxtum.scene.map_layers import MAP_LAYERS

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk


class JoinPanel(QWidget):
    """What the station Assemble shows when a job has several scans.

    Parameters
    ----------
    desk : Desk
    dress : callable
        Puts the station's layers on the stage anew.
    """

    def __init__(self, desk: Desk, dress: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._dress = desk, dress
        lines = QVBoxLayout(self)
        lines.setContentsMargins(0, 0, 0, 0)
        lines.setSpacing(8)
        self.scans = ScanList()
        self.scans.chosen.connect(self._chose)
        self.scans.shown_changed.connect(dress)
        lines.addWidget(self.scans)
        self._doubt = label("", "soft", wrap=True)
        self._doubt.setAccessibleName("About the chosen scan")
        lines.addWidget(self._doubt)
        self._join = button(
            "Join the scans", self.join, tip="Lay all scans into one frame and make one surface of them"
        )
        self._leave_out = button(
            "Leave it out", self.toggle_left_out, tip="Join without the chosen scan, or with it again"
        )
        self._remove = button("Remove it", self.remove, tip="Take the chosen scan out of the job")
        self._clean = button(
            "Clean them all", self.clean_all, tip="Table and loose fragments of every scan that was not cleaned yet"
        )
        lines.addLayout(row(self._clean, self._join))
        self._by_shape = self._shape_box()
        lines.addWidget(self._by_shape)
        self._build_ties(lines)
        lines.addLayout(row(self._leave_out, self._remove))
        self.pairs = PairPanel(desk, dress)
        self.pairs.used.connect(self._use_pairs)
        lines.addWidget(self.pairs)
        self._spacing = LengthField("Spacing of the surface", 0.0, "mm; as fine as the scans where nothing is chosen")
        self._spacing.missing = "as scanned"
        self._spacing.chosen.connect(self._set_spacing)
        lines.addLayout(form([("Surface spacing, mm", self._spacing)]))

    def _shape_box(self) -> QCheckBox:
        box = QCheckBox("By shape where nothing else ties")
        box.setToolTip("Scans that lie anywhere are laid where their faces and edges fit; takes some minutes")
        box.setAccessibleName(box.text())
        box.setChecked(True)
        box.clicked.connect(self._set_by_shape)
        return box

    def _build_ties(self, lines: QVBoxLayout) -> None:
        self._ring = ClosureRing()
        self._ring.picked_scan.connect(self.scans.choose)
        self._ring.picked_tie.connect(self._chose_tie)
        lines.addWidget(self._ring)
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("What ties the scans")
        lines.addWidget(self._words)
        self._cut = button("Leave the tie out", self.toggle_cut)
        lines.addLayout(row(self._cut))

    @property
    def derived(self) -> Derived:
        """What is known of the job."""
        return self._desk.session.derived

    @property
    def target(self) -> str:
        """The scan that is cleaned: the chosen one, or the one in force."""
        return self.scans.target or self.derived.job.scan_in_force

    @property
    def join_step(self) -> Join | None:
        """What joins the scans, where they are joined."""
        return self.derived.job.join_in_force

    def scan_of(self, name: str) -> Scan | None:
        """A scan by its name; what is joined as well."""
        d = self.derived
        return d.scan if name == d.job.scan_in_force else next((b.scan for b in d.brought if b.name == name), None)

    @property
    def layer(self) -> str:
        """The layer of the stage on which the chosen scan is shown."""
        names = [b.name for b in self.derived.brought]
        return piece(names.index(self.target)) if self.target in names else "scan"

    @property
    def placement(self) -> RigidTransform:
        """Where the chosen scan is shown."""
        d = self.derived
        shown = next((b for b in d.brought if b.name == self.target), None)
        return d.upright if shown is None else d.upright @ (shown.pose or RigidTransform.identity())

    @property
    def shown(self) -> tuple[Worked, ...]:
        """The scans that are shown, and where; none where the job has only one."""
        d = self.derived
        if len(d.brought) < 2:
            return ()
        there = [b for b in d.brought if self.scans.is_shown(b.name)]
        return tuple(Worked(b.name, b.scan, d.upright @ (b.pose or RigidTransform.identity())) for b in there)

    def show_job(self) -> None:
        """Show the job as it is now."""
        d = self.derived
        self.setVisible(len(d.brought) > 1)
        self._clean.setVisible(any(not d.job.procedure.cleaning_of(held.name) for held in d.job.scans))
        if len(d.brought) < 2:
            return
        join = self.join_step
        self.scans.show_rows(tuple(scan_rows(d)), join.name if join else "")
        left = join_of_all(d.job) if join is not None else None
        _rename(self._join, "Join the scans" if join is None else "Join those too")
        self._join.setVisible(join is None or left != join)
        self._spacing.set_value(join.spacing if join else None)
        if join is not None:
            self._by_shape.setChecked(join.by_shape)
        for widget in (self._ring, self._words, self._cut, self._spacing):
            widget.setVisible(d.tied is not None)
        if d.tied is not None:
            names = tuple(brought.name for brought in d.tied.scans)
            self._ring.show_ring(names, tuple(tie_rows(d.tied)))
            self._words.setText(joined_words(d.tied))
        self._cut.setVisible(self._ring.tie is not None and d.tied is not None)
        self._chose(self.scans.target)

    def _chose(self, name: str) -> None:
        join, held = self.join_step, {b.name: b for b in self.derived.brought}
        is_scan = name in held
        chosen = self.scans.row_chosen
        self._doubt.setText(about_words(chosen) if chosen else "")
        self._leave_out.setVisible(join is not None)
        self._leave_out.setEnabled(is_scan and join is not None)
        _rename(self._leave_out, "Take it in" if join is not None and name in join.left_out else "Leave it out")
        self.pairs.offer(name if is_scan else "")
        self._ring.choose(name)

    def _chose_tie(self, first: str, second: str) -> None:
        tie, join = self._ring.tie, self.join_step
        if tie is None or join is None:
            return
        self._words.setText(f"{tie.words}.")
        is_cut = any({*pair} == {first, second} for pair in join.cut)
        _rename(self._cut, "Use the tie again" if is_cut else "Leave the tie out")
        self._cut.setVisible(True)

    def step_through_ties(self) -> None:
        """Choose the next tie of the ring."""
        self._ring.step(1)

    def join(self) -> None:
        """Join all scans."""
        by_shape = self._by_shape.isChecked()
        self._edit("join the scans", lambda step: step.model_copy(update={"by_shape": by_shape}))

    def clean_all(self) -> None:
        """Off with the table and loose fragments of every scan that was not cleaned yet."""

        def change(job: Job) -> Job:
            for held in job.scans:
                for step in usual_cleaning(held.name) if not job.procedure.cleaning_of(held.name) else ():
                    job = job.with_step(step)
            return job

        self._desk.session.edit("clean all scans", change)

    def toggle_left_out(self) -> None:
        """Join without the chosen scan, or with it again."""
        name, join = self.scans.target, self.join_step
        if join is not None and name in join.scans:
            words = "take in" if name in join.left_out else "leave out"
            self._edit(f"{words} {name}", lambda step: step.with_left_out(name))

    def toggle_cut(self) -> None:
        """Join without the chosen tie, or with it again."""
        tie = self._ring.tie
        if tie is not None:
            first, second = tie.first, tie.second
            self._edit(f"tie of {first} and {second}", lambda step: step.with_cut(first, second))

    def remove(self) -> None:
        """Take the chosen scan out of the job, or the scans apart again."""
        name = self.target
        self._desk.session.edit(f"remove {name}", lambda job: job.without_input(name))

    def _set_by_shape(self, by_shape: bool) -> None:
        if self.join_step is not None:
            self._edit("joining by shape", lambda step: step.model_copy(update={"by_shape": by_shape}))

    def _set_spacing(self, value: float) -> None:
        chosen = value if value > 0 else None
        self._edit("spacing of the surface", lambda step: step.model_copy(update={"spacing": chosen}))

    def _edit(self, label: str, change: Callable[[Join], Join]) -> None:
        self._desk.session.edit(label, lambda job: with_join(job, change(join_of_all(job))), then=self._desk.look_home)

    def _use_pairs(self, picked: object) -> None:
        assert isinstance(picked, PickedPairs)
        self._edit(f"pairs on {picked.first} and {picked.second}", lambda step: step.with_pairs(picked))

    # -- the stage --------------------------------------------------------------------------------------------

    def take_off(self) -> None:
        """Take the scans off the stage."""
        for layer in (*self._desk.view.pieces, "laid"):
            self._desk.view.put(layer, None)

    def dress(self) -> bool:
        """Put the scans on the stage; whether there are several."""
        d, view = self.derived, self._desk.view
        self.take_off()
        if len(d.brought) < 2:
            return False
        for name in (*MAP_LAYERS, "nominal", "edges"):
            view.put(name, None)
        view.set_legend(None, None)
        view.set_readings(())
        join = self.join_step
        if self.pairs.dress():
            return True
        shows_surface = join is not None and self.scans.is_shown(join.name)
        view.put("scan", d.scan_surface if shows_surface else None, d.upright)
        view.show_layer("scan", Shown.SOLID)
        for index, scan in enumerate(d.brought):
            if self.scans.is_shown(scan.name):
                view.put(piece(index), scan.surface, d.upright @ (scan.pose or RigidTransform.identity()))
        return True


def _rename(what: QPushButton, text: str) -> None:
    """Another text, for ears as well."""
    what.setText(text)
    what.setAccessibleName(text)
