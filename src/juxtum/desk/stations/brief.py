"""Brief: what is to be measured, against what, for whom and by which rule."""

from __future__ import annotations

from juxtum.desk.action import Action
from juxtum.desk.briefing.characteristics import CharacteristicsPanel
from juxtum.desk.briefing.cover import CoverPanel
from juxtum.desk.briefing.model_lines import ModelLines, take_model
from juxtum.desk.stations.base import Station
from juxtum.desk.widgets import Facts, button, line, row
from juxtum.evaluate.kinds import Profile
from juxtum.guide.facts import short, thousands
from juxtum.guide.findings import Key
from juxtum.job.joins import measured_title
from juxtum.scene.actors import Shown
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.picking import Hit


class BriefStation(Station):
    """The worksheet of Brief."""

    key = Key.BRIEF

    def build(self) -> None:
        """Files, characteristics, cover fields, instrument and room."""
        self._characteristics, self._cover = CharacteristicsPanel(self), CoverPanel(self)
        self._files = Facts("Files")
        self.body.addWidget(self._files)
        self.body.addLayout(
            row(
                button("Import CAD model\u2026", lambda: self.desk.perform("bring nominal")),
                button("Import scan\u2026", lambda: self.desk.perform("bring scan")),
            )
        )
        self.body.addWidget(line())
        self._model = ModelLines(self)
        self.body.addWidget(self._model)
        self.body.addWidget(self._characteristics)
        self.body.addWidget(line())
        self.body.addWidget(self._cover)

    def leave(self) -> None:
        """Stop picking."""
        super().leave()
        self._characteristics.leave()

    def picked(self, hit: Hit) -> None:
        """Choose a face or let it go."""
        if self._characteristics.is_picking:
            self._characteristics.picked(hit)

    def own_actions(self) -> tuple[Action, ...]:
        """First characteristics."""
        return (
            Action("add whole profile", "Add the profile of the whole part", "Job/Brief/1", self.add_whole_profile, "", "plus", "",
                   lambda: self.derived.nominal is not None),
            Action("take model tolerances", "Take the model's tolerances", "Job/Brief/2", lambda: take_model(self.desk), "",
                   "scroll-text", "Sizes and tolerances that a STEP AP242 file states for its faces",
                   lambda: self.derived.nominal is not None and bool(self.derived.nominal.lines)),
        )  # fmt: skip

    def add_whole_profile(self) -> None:
        """The profile of the whole part as a characteristic."""
        step = Profile(id=self.session.job.procedure.next_number, title="Profile, whole part")
        self.session.add(step, "add the profile of the whole part")

    def show_results(self) -> None:
        """Files, characteristics, fields."""
        d = self.derived
        job = d.job
        facts = []
        if d.nominal is not None and job.nominal is not None:
            size = " \u00d7 ".join(f"{v:.0f}" for v in d.nominal.mesh.bounds[1] - d.nominal.mesh.bounds[0])
            exact = "exact" if d.nominal.is_exact else "from the mesh"
            facts += [
                ("nominal", short(job.nominal.name)),
                ("faces", f"{len(d.nominal.faces)} {exact}"),
                ("size", f"{size} mm"),
            ]
        if d.scan is not None and job.measured and d.loaded is not None:
            facts += [
                ("scan", short(measured_title(job))),
                ("as scanned", f"{thousands(len(d.loaded.scan.points))} points"),
            ]
        self._files.show_facts(facts)
        self._cover.show_job(job)
        self._model.show_job()
        self._characteristics.show_job()

    def dress(self) -> None:
        """The nominal alone."""
        d, view = self.derived, self.view
        for name in (*MAP_LAYERS, "scan"):
            view.put(name, None)
        view.put("nominal", d.nominal_surface)
        view.put("edges", d.nominal_edges)
        view.show_layer("nominal", Shown.SOLID)
        view.set_legend(None, None)
        view.set_readings(())
