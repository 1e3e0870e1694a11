"""Align: rough, pairs, best fit and the datum system, side by side."""

from __future__ import annotations

import numpy as np

from juxtum.desk.action import Action
from juxtum.desk.aligning.datums_panel import DatumsPanel
from juxtum.desk.aligning.entities_panel import EntitiesPanel
from juxtum.desk.aligning.fit_panel import FitPanel
from juxtum.desk.aligning.in_force import InForcePanel
from juxtum.desk.aligning.points_panel import PointsPanel
from juxtum.desk.aligning.side_by_side import SideBySide
from juxtum.desk.overlays import Pin
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.stations.base import Station
from juxtum.desk.widgets import button, label, line, row
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.guide.findings import Key
from juxtum.job import Job
from juxtum.job.document import usual_alignment
from juxtum.job.steps import BestFit, ByEntities, Datums, KnownTargets, Pairs, ReferencePoints, Rough
from juxtum.scene.actors import Shown
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.picking import Hit


class AlignStation(Station):
    """The worksheet of Align."""

    key = Key.ALIGN

    def build(self) -> None:
        """Ways to align, datum picking, the lock matrix, what changed between two alignments."""
        self._measured: list[Floats] = []
        self._nominal: list[Floats] = []
        self.body.addWidget(label("By the shape", "heading"))
        self.body.addLayout(row(button("Align automatically", self.automatic), button("Best fit", self.best_fit)))
        self._pairs = button(
            "Pick pairs",
            self.pick_pairs,
            tip="Click the same place on the scan and on the nominal, three times or more",
        )
        self._pairs.setCheckable(True)
        self._use_pairs = button("Use the pairs", self._finish_pairs)
        self.body.addLayout(row(self._pairs, self._use_pairs))
        self.body.addWidget(line())
        self.datums = DatumsPanel(self.desk, self._lay, self.pick_datums)
        self.body.addWidget(self.datums)
        self.body.addWidget(line())
        self.points = PointsPanel(self.desk, self._lay)
        self.body.addWidget(self.points)
        self.body.addWidget(line())
        self.entities = EntitiesPanel(self.desk, self._lay, self.dress_apart, self._apart)
        self.body.addWidget(self.entities)
        self.body.addWidget(line())
        self.fit = FitPanel(self.desk, self._lay)
        self.body.addWidget(self.fit)
        self.body.addWidget(line())
        self._in_force = InForcePanel(self.desk.choose_alignment)
        self.body.addWidget(self._in_force)
        self.beside = SideBySide(self.desk)
        self._compare = button(
            "Side by side", self.beside.toggle, tip="Both maps on two stages under one camera (Shift+C)"
        )
        self.body.addLayout(row(self._compare))

    def own_actions(self) -> tuple[Action, ...]:
        """Ways to align."""

        def has_both() -> bool:
            return self.derived.scan is not None and self.derived.nominal is not None

        def has_other_poses() -> bool:
            evaluation = self.derived.evaluation
            return evaluation is not None and bool(evaluation.alignment.alternatives)

        return (
            Action("next pose", "Take the next pose that fits", "Job/Align/1", self.next_pose, "", "", "Where the shape fits in several", has_other_poses),
            Action("align automatically", "Align automatically", "Job/Align/1", self.automatic, "Ctrl+L", "move-3d", "Rough, then best fit", has_both),
            Action("pick pairs", "Pick pairs", "Job/Align/1", self._pairs.click, "", "crosshair", "", has_both, at=self.key),
            Action("pick datums", "Pick datums", "Job/Align/1", self.datums.pick.click, "Ctrl+Shift+D", "anchor", "", has_both, at=self.key),
            Action("compare", "Compare alignments side by side", "Job/Align/2", self.beside.toggle, "Shift+C", "git-compare-arrows",
                   "Two stages under one camera", lambda: self.derived.comparison is not None, at=self.key),
        )  # fmt: skip

    def automatic(self) -> None:
        """Rough, then best fit from there."""

        def change(job: Job) -> Job:
            job = _with_usual_alignment(job)
            return _in_force(job, "best fit")

        self.session.edit("align automatically", change, then=self._show_all)

    def next_pose(self) -> None:
        """Of poses that fit equally well take the next one."""

        def change(job: Job) -> Job:
            for step in job.procedure.of(Rough):
                job = job.with_step(step.model_copy(update={"choice": step.choice + 1}))
            return job

        self.session.edit("another pose", change, then=self._show_all)

    def best_fit(self) -> None:
        """Best fit from the alignment in force, or from a rough one."""
        name = self.derived.in_force
        if not name:
            self.automatic()
            return
        start = name if name != "best fit" else "rough"
        names = [s.name for s in self.session.job.procedure.alignments]
        step = BestFit(start=start if start in names else None)
        self.session.edit("best fit", lambda job: _in_force(job.with_step_here(step), "best fit"))

    def pick_pairs(self) -> None:
        """Begin to pick pairs, or stop."""
        wanted = self._pairs.isChecked()
        self.leave()
        self._pairs.setChecked(wanted)
        if wanted:
            self.dress_apart()
            self.view.set_mode(Mode.PICK, "Click a place on the scan and the same place on the nominal; Esc ends")
        else:
            self.dress()

    def pick_datums(self) -> None:
        """Begin to pick datums, or stop."""
        wanted = self.datums.pick.isChecked()
        self.leave()
        self.datums.pick.setChecked(wanted)
        if wanted:
            self.view.show_layer("nominal", Shown.SOLID)
            for name in (*MAP_LAYERS, "scan"):
                self.view.show_layer(name, Shown.HIDDEN)
            self.view.set_legend(None, None)
            self.view.set_mode(Mode.PICK, "Click faces in the order A, B, C: a plane first; Esc ends")
        else:
            self.dress()

    def picked(self, hit: Hit) -> None:
        """Gather pairs, datums, reference points or faces."""
        if self.entities.picked(hit) or self.points.picked(hit) or self.fit.picked(hit) or self.datums.picked(hit):
            return
        if self._pairs.isChecked():
            if hit.layer == "scan":
                self._measured.append(self._apart().inverse.apply(hit.place[None])[0])
            elif hit.layer == "nominal":
                self._nominal.append(hit.place)
            self._show_pairs()

    def _show_pairs(self) -> None:
        apart = self._apart()
        pins = [Pin(apart.apply(p[None])[0], str(k + 1)) for k, p in enumerate(self._measured)]
        pins += [Pin(p, str(k + 1), "ink") for k, p in enumerate(self._nominal)]
        self.view.set_pins(pins)
        self._use_pairs.setEnabled(self._pair_count() >= 3)
        self._use_pairs.setText(f"Use {self._pair_count()} pairs" if self._pair_count() else "Use the pairs")

    def _pair_count(self) -> int:
        return min(len(self._measured), len(self._nominal))

    def _finish_pairs(self) -> None:
        count = self._pair_count()
        step = Pairs(
            measured=tuple(_triple(p) for p in self._measured[:count]),
            nominal=tuple(_triple(p) for p in self._nominal[:count]),
        )
        self.leave()

        def change(job: Job) -> Job:
            return _in_force(job.with_step_here(step).with_step_here(BestFit(start="pairs")), "best fit")

        self.session.edit(f"align by {count} pairs", change, then=self._show_all)

    def leave(self) -> None:
        """Let picks go."""
        super().leave()
        self.beside.close_view()
        self._pairs.setChecked(False)
        self._measured, self._nominal = [], []
        self.datums.leave()
        self.points.leave()
        self.entities.leave()
        self.fit.leave()
        self.view.put("marked", None)
        self._show_pairs()

    def escape(self) -> None:
        """End picking and show the stage as it was."""
        self.leave()
        self.dress()

    def show_results(self) -> None:
        """Picks, and the alignment in force."""
        self.datums.show_job()
        self._show_pairs()
        self.points.show_job()
        self.entities.show_job()
        self.fit.show_job()
        self._in_force.show_job(self.derived)
        self._compare.setVisible(self.derived.comparison is not None)
        self.beside.show_job()

    def _lay(self, step: BestFit | ByEntities | Datums | KnownTargets | ReferencePoints) -> None:
        """Put an alignment beside the others, from the one in force or the usual one, and in force."""
        names = [s.name for s in self.session.job.procedure.alignments]
        first = "best fit" if isinstance(step, Datums) else self.derived.in_force
        start = next((n for n in (first, "best fit", *names) if n in names and n != step.name), None)
        self.leave()
        if isinstance(step, ByEntities):
            # By the scan's own features: it starts from nothing.
            name = step.name
            self.session.edit(
                f"align: {name}", lambda job: _in_force(job.with_step_here(step), name), then=self._show_all
            )
            return

        def change(job: Job) -> Job:
            if start is None:
                job = _with_usual_alignment(job)
            laid = step.model_copy(update={"start": start or "best fit"})
            return _in_force(job.with_step_here(laid), step.name)

        self.session.edit(f"align: {step.name}", change, then=self._show_here)

    def dress(self) -> None:
        """The map in the alignment in force; before there is one, nominal and scan side by side."""
        if self.derived.has_map:
            self.dress_map()
            self.view.set_readings(())
        else:
            self.dress_apart()

    def _apart(self) -> RigidTransform:
        """Where the scan is shown beside the nominal."""
        d = self.derived
        if d.nominal is None or d.scan is None:
            return d.upright
        upright = d.upright.apply(d.scan.bounds).mean(0)
        width = float(np.linalg.norm(np.ptp(d.scan.bounds, axis=0)) + d.nominal.diagonal) / 2
        return RigidTransform.translation(d.nominal.centre + np.array([0.9 * width, 0, 0]) - upright) @ d.upright

    def dress_apart(self) -> None:
        """Nominal and scan beside each other."""
        d, view = self.derived, self.view
        for name in MAP_LAYERS:
            view.put(name, None)
        view.put("nominal", d.nominal_surface)
        view.put("edges", d.nominal_edges)
        view.put("scan", d.scan_surface, self._apart())
        for name in ("nominal", "scan"):
            view.show_layer(name, Shown.SOLID)
        view.set_legend(None, None)
        view.set_readings(())
        view.fit()

    def _show_all(self) -> None:
        self._show_here()
        if self.is_here:
            self.desk.look_home()

    def _show_here(self) -> None:
        """Elsewhere the stage is not ours: the user may have asked from there, or gone on meanwhile."""
        if self.is_here:
            self.dress()


def _with_usual_alignment(job: Job) -> Job:
    for step in usual_alignment(job.scan_in_force):
        job = job.with_step(step)
    return job


def _in_force(job: Job, name: str) -> Job:
    decide = job.procedure.decide
    return job.with_step(decide.model_copy(update={"alignment": name}))


def _triple(values: Floats) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z
