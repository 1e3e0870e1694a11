"""Assemble: cut off the table, drop what hangs loose, delete what does not belong."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from juxtum.desk.action import Action
from juxtum.desk.cleaning.selecting import SelectionPanel, Worked
from juxtum.desk.cleaning.trimming import TrimPanel
from juxtum.desk.finishing.panel import SurfacePanel
from juxtum.desk.joining.panel import JoinPanel
from juxtum.desk.lot.panel import LotPanel
from juxtum.desk.stations.base import Station
from juxtum.desk.widgets import Choice, Facts, LengthField, button, form, label, line, row
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.guide.facts import facts_of, loose_pieces, scan_facts, thousands
from juxtum.guide.findings import Key
from juxtum.job import Job
from juxtum.job.steps import CleaningStep, Fragments, Strays, Trim
from juxtum.scene.actors import Shown
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.picking import Hit


def carried_over_words(kinds: tuple[str, ...]) -> str:
    """What has to be seen to when a procedure goes from one scan to another.

    Examples
    --------
    >>> carried_over_words(("trim", "pairs"))
    'Carried over, but picked on the other scan: trim, pairs. See whether they hold here, or pick anew.'
    """
    return f"Carried over, but picked on the other scan: {', '.join(kinds)}. See whether they hold here, or pick anew."


class AssembleStation(Station):
    """The worksheet of Assemble."""

    key = Key.ASSEMBLE

    def build(self) -> None:
        """Trim, pieces, selection, facts."""
        self._facts = Facts("Scan")
        self.panel = JoinPanel(self.desk, self.dress)
        self.panel.scans.chosen.connect(self._follow_target)
        self.panel.scans.shown_changed.connect(self._select_in)
        self._scans = Choice("Scan in force")
        self._scans.setToolTip("Which scan the procedure is carried out on; all aligning goes to it")
        self._scans.picked.connect(self.take_scan)
        self._in_force = QWidget()
        lines = QVBoxLayout(self._in_force)
        lines.setContentsMargins(0, 0, 0, 0)
        lines.addLayout(form([("Scan in force", self._scans)]))
        self.lot = LotPanel(self.desk, self.desk.look_home)
        self.body.addWidget(self.panel)
        self.body.addWidget(self._facts)
        self.body.addWidget(self._in_force)
        self.body.addWidget(self.lot)
        self._build_cleaning()
        self.selecting = SelectionPanel(self.desk, self._delete, self._drawing_begins)
        self.body.addWidget(self.selecting)
        self.surface = SurfacePanel(self.desk, self._clean, self.dress)
        self.body.addWidget(self.surface)

    def _build_cleaning(self) -> None:
        self.trimming = TrimPanel(self.desk, self._clean, self._trimming_begins)
        self.body.addWidget(self.trimming)
        self._build_fragments()

    def _build_fragments(self) -> None:
        self.body.addWidget(line())
        self.body.addWidget(label("Loose fragments", "heading"))
        self._smallest = LengthField("Smallest area", 500.0, "Pieces with less area than this go, mm\u00b2")
        self._count = LengthField("Pieces to keep", 1.0, "How many of the largest pieces stay")
        self._apart = LengthField(
            "Spacings away", 20.0, "Pieces farther from the largest than so many distances between points go"
        )
        self.body.addLayout(
            form(
                [
                    ("Smaller than, mm\u00b2", self._smallest),
                    ("Keep the largest", self._count),
                    ("Farther than, spacings", self._apart),
                ]
            )
        )
        self.body.addLayout(
            row(button("Remove small ones", self._drop_small), button("Keep the largest", self._keep_some))
        )
        self.body.addLayout(
            row(
                button("Remove far ones", self._drop_far),
                button(
                    "Remove stray points",
                    self._drop_strays,
                    tip="Single points that are alone or stick out of their neighbours",
                ),
            )
        )

    def own_actions(self) -> tuple[Action, ...]:
        """Cleaning that needs no choice."""
        return (
            Action("trim table", "Trim off the table", "Job/Assemble/1", self.trim_table, "Ctrl+T", "scissors", "", lambda: self.derived.table is not None),
            Action("join scans", "Join the scans", "Job/Assemble/2", self.panel.join, "Ctrl+J", "", "Several scans become one surface",
                   lambda: len(self.derived.brought) > 1, at=self.key),
            Action("separate parts", "Tell the parts in the scan apart", "Job/Assemble/2", self.lot.separate, "", "", "Each becomes a scan of its own",
                   lambda: self.derived.scan is not None and self.derived.job.procedure.separation is None and len(self.derived.brought) < 2, at=self.key),
            Action("clean scans", "Clean all scans", "Job/Assemble/2", self.panel.clean_all, "", "", "Table and loose fragments of each",
                   lambda: len(self.derived.brought) > 1, at=self.key),
            Action("drop pieces", "Remove loose fragments", "Job/Assemble/1", self.drop_pieces, "Ctrl+D", "sparkles", "",
                   lambda: loose_pieces(self.derived) > 0),
        )  # fmt: skip

    def show_results(self) -> None:
        """Facts of the scan; the selection belonged to the scan as it was."""
        job = self.derived.job
        self.panel.show_job()
        self.lot.show_job()
        self._scans.show_options(
            [(held.name, f"{held.name}: {held.file.name}") for held in job.scans], job.scan_in_force
        )
        self._in_force.setVisible(len(job.scans) > 1 and not job.procedure.joins)
        self._follow_target()

    def _follow_target(self) -> None:
        """Facts of the scan that is worked on; the selection belonged to the scan as it was."""
        d, scan = self.derived, self._scan
        self._facts.show_facts(scan_facts(d) if scan is d.scan or scan is None else facts_of(scan))
        self._select_in()
        self.trimming.take_scan(scan, self.panel.placement)
        self.surface.show_scan(scan, self.panel.placement)

    @property
    def _scan(self) -> Scan | None:
        """The scan that is worked on, as its cleaning left it."""
        return self.panel.scan_of(self.panel.target) or self.derived.scan

    def _clean(self, step: CleaningStep) -> None:
        """Clean the scan that is worked on."""
        name, before = self.panel.target, self._scan
        made = step.model_copy(update={"scan": name})

        def told() -> None:
            after = self.panel.scan_of(name)
            if before is not None and after is not None and len(self.derived.brought) > 1:
                gone = len(before.points) - len(after.points)
                self.desk.announce(f"{thousands(gone)} points of {name} went." if gone else f"Nothing of {name} went.")

        self.session.edit(step.title, lambda job: job.with_step(made), then=told)

    def take_scan(self, name: str) -> None:
        """Carry the procedure out on another scan of the job."""
        job = self.session.job
        if name and name != job.scan_in_force:
            picked = job.picked_for(name)
            self.session.edit(f"measure {name}", lambda job: job.on_scan(name), then=lambda: self._tell_picked(picked))

    def _tell_picked(self, kinds: tuple[str, ...]) -> None:
        if kinds:
            self.desk.announce(carried_over_words(kinds))

    def trim_table(self) -> None:
        """Trim along the largest flat region under the part."""
        if self.derived.table is None and self._scan is self.derived.scan:
            self.desk.tell("no table was found in the scan", "trim", "Pick three points on the plane instead")
            return
        self._clean(Trim())

    def drop_pieces(self) -> None:
        """Drop everything but the largest piece."""
        self.keep_largest()

    def keep_largest(self) -> None:
        """Keep the largest connected piece."""
        self._clean(Fragments())

    def _keep_some(self) -> None:
        count = int(self._count.value)
        self._clean(Fragments() if count <= 1 else Fragments(keep=count))

    def _drop_far(self) -> None:
        self._clean(Fragments(apart=max(self._apart.value, 0.1)))

    def _drop_strays(self) -> None:
        self._clean(Strays())

    def _drop_small(self) -> None:
        self._clean(Fragments(smallest=max(self._smallest.value, 0.0)))

    def picked(self, hit: Hit) -> None:
        """A click on the scan, for pairs or for the plane that trims."""
        if not self.panel.pairs.picked(hit):
            self.trimming.picked(hit, self.panel.layer)

    def _trimming_begins(self) -> None:
        """A plane is laid: nothing else is drawn or picked meanwhile."""
        self.panel.pairs.leave()
        self.trimming.stop()
        self._select_in()
        self.selecting.stop()

    def _drawing_begins(self) -> None:
        self.trimming.put_away()

    def outlined(self, outline: Floats, matrix: Floats) -> None:
        """Select what was drawn round."""
        self.selecting.outlined(outline, matrix)

    def _select_in(self) -> None:
        """Select in the scan that is worked on, or in all that are shown."""
        scan = self._scan
        target = None if scan is None else Worked(self.panel.target, scan, self.panel.placement)
        self.selecting.take_scans(target, self.panel.shown)

    def _delete(self, steps: tuple[CleaningStep, ...]) -> None:
        self.leave()
        if len(steps) == 1 and steps[0].scan == self.panel.target:
            self._clean(steps[0])
            return
        before = {b.name: len(b.scan.points) for b in self.derived.brought}

        def told() -> None:
            gone = [before[b.name] - len(b.scan.points) for b in self.derived.brought if b.name in before]
            self.desk.announce(f"{thousands(sum(gone))} points of {sum(n > 0 for n in gone)} scans went.")

        def change(job: Job) -> Job:
            for step in steps:
                job = job.with_step(step)
            return job

        self.session.edit(steps[0].title, change, then=told)

    def escape(self) -> None:
        """End picking and show the stage as it was."""
        self.leave()
        self.dress()

    def leave(self) -> None:
        """Let picks and outlines go."""
        super().leave()
        self.panel.pairs.leave()
        self.panel.take_off()
        self.surface.take_off()
        self.trimming.put_away()
        self.selecting.stop()
        self._select_in()

    def dress(self) -> None:
        """The scan alone, standing on its table; or several, each in a colour of its own."""
        if self.panel.dress():
            self.surface.dress()
            return
        d, view = self.derived, self.view
        self.panel.take_off()
        for name in (*MAP_LAYERS, "nominal", "edges"):
            view.put(name, None)
        view.put("scan", d.scan_surface, d.upright)
        view.show_layer("scan", Shown.SOLID)
        view.set_legend(None, None)
        view.set_readings(())
        self.lot.dress()
        self.surface.dress()
