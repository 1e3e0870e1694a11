"""The panel of targets: planning, improving, editing, the ways to go, the rules."""

from __future__ import annotations

from juxtum.desk.planning.panel import Panel
from juxtum.desk.planning.topics import TargetsAnswer
from juxtum.desk.planning.ways_box import WaysBox
from juxtum.desk.widgets import Choice, LengthField, button, form, label, line, row
from juxtum.errors import InputError
from juxtum.instruments.equipment import shipped_equipment
from juxtum.job.steps import Datums
from juxtum.plan.equipping import unsuited_for
from juxtum.plan.planner import Planner
from juxtum.plan.targets.views import Stance
from juxtum.plan.targets.ways import WayResult, way_result


class TargetsPanel(Panel):
    """Planning, improving and editing of targets; the ways to go."""

    def build(self) -> None:
        """Buttons, rules, ways."""
        perform = self.station.desk.perform
        self._plan = button(
            "Plan targets",
            lambda: perform("plan targets"),
            tip="As few as show every place from two directions; locked ones stay",
        )
        self._improve = button(
            "Improve the rest", lambda: perform("improve targets"), tip="Moves all but the locked ones"
        )
        self.body.addLayout(row(self._plan, self._improve))
        self.add = button("Add", lambda: self.station.picking.toggle_adding(), tip="Click the part on the stage")
        self.add.setCheckable(True)
        self.add.setAccessibleName("Add target")
        self._delete = button("Delete", lambda: perform("delete target"), tip="The chosen target (Del)")
        self._delete.setAccessibleName("Delete target")
        self._lock = button(
            "Lock", lambda: perform("lock target"), tip="The chosen target stays when the rest is improved (K)"
        )
        self._lock.setAccessibleName("Lock target")
        self.body.addLayout(row(self.add, self._delete, self._lock))
        self.body.addWidget(line())
        self.body.addWidget(label("Ways to go", "heading"))
        self.ways = WaysBox(self.station.edits.go)
        self.body.addWidget(self.ways)
        self._equipment = Choice("Equipment")
        self._equipment.picked.connect(self.station.edits.use_equipment)
        self._blocks = button(
            "Corner blocks",
            lambda: self.station.edits.use_equipment("blocks"),
            tip="Blocks with targets of their own beside the part: they show at the height of its sides",
        )
        self._blocks.setCheckable(True)
        self.body.addLayout(form([("Equipment", self._equipment)]))
        self.body.addLayout(row(self._blocks))
        self._why = label("", "soft", wrap=True)
        self._why.setAccessibleName("Why")
        self.body.addWidget(self._why)
        self._build_rules()

    def _build_rules(self) -> None:
        self.body.addWidget(line())
        self.body.addWidget(label("Rules", "heading"))
        self._stance = Choice("Stance")
        self._stance.picked.connect(lambda name: self.change(f"part {name}", stance=Stance(name)))
        self._size = Choice("Disc")
        self._size.picked.connect(lambda name: self.change(f"disc {name} mm", diameter=float(name)))
        self._near, self._far = LengthField("Nearest spacing", 30), LengthField("Farthest spacing", 100)
        for field in (self._near, self._far):
            field.chosen.connect(lambda _: self._band())
        self._goal = LengthField(
            "Area wanted", 98, "Share of the area to be seen from two directions while tracking, per cent"
        )
        self._goal.chosen.connect(lambda value: self.change("area wanted", goal=min(max(value, 1), 100) / 100))
        self.body.addLayout(form([("Part stands", self._stance), ("Disc, mm", self._size)]))
        self.body.addLayout(
            form([("Apart, at least", self._near), ("Apart, at most", self._far), ("Area wanted, %", self._goal)])
        )
        tip = "Measured and datum faces are kept clear unless allowed"
        self.allow = button(
            "Pick faces that may carry targets", lambda: self.station.picking.toggle_allowing(), tip=tip
        )
        self.allow.setCheckable(True)
        self.body.addLayout(row(self.allow))
        self.datum = button(
            "Pick datum faces",
            lambda: self.station.picking.toggle_datums(),
            tip="Where the job has no datum system yet",
        )
        self.datum.setCheckable(True)
        self.body.addLayout(row(self.datum))
        self._allowed = label("", "soft", wrap=True)
        self._allowed.setAccessibleName("Allowed faces")
        self.body.addWidget(self._allowed)
        self.body.addWidget(line())

    def _band(self) -> None:
        if self._near.value > 0 and self._far.value > 0:
            self.change("spacing of the targets", target_spacing=(self._near.value, self._far.value))

    def show_plan(self, planner: Planner) -> None:
        """Rules and what can be done."""
        plan, needs = planner.plan, planner.model.targets
        self._stance.show_options([(s.value, s.value) for s in Stance], plan.stance.value)
        sizes = needs.diameters if needs is not None else ()
        try:
            rules = planner.rules()
            self._size.show_options([(f"{s:g}", f"{s:g}") for s in sizes], f"{rules.diameter:g}")
            near, far = rules.spacing
        except InputError:
            self._size.show_options([(f"{s:g}", f"{s:g}") for s in sizes], f"{plan.diameter or 0:g}")
            near, far = plan.target_spacing or (needs.spacing if needs is not None else (30.0, 100.0))
        for field, value in ((self._near, near), (self._far, far), (self._goal, round(100 * plan.goal, 3))):
            if not field.hasFocus():
                field.set_value(value)
        faces = ", ".join(map(str, plan.allowed))
        words = [f"Allowed all the same: face {faces}" if faces else "Measured and datum faces are kept clear"]
        if planner.task.datums:
            words.insert(0, f"Datums: face {', '.join(map(str, planner.task.datums))}")
        self._allowed.setText(". ".join(words) + ".")
        self.datum.setVisible(not self.station.derived.job.procedure.of(Datums))
        self._show_equipment(planner)
        has = bool(plan.targets)
        self._improve.setEnabled(has)
        chosen = self.station.selected_target is not None
        self._delete.setEnabled(chosen)
        self._lock.setEnabled(chosen)
        target = self.station.selected_target
        self._lock.setText("Unlock" if target is not None and target.is_locked else "Lock")

    def _show_equipment(self, planner: Planner) -> None:
        under = next((e for e in planner.plan.equipment if e.is_under), None)
        known = planner.owned.offered_equipment(shipped_equipment())
        offered = [e for e in known if e.is_under and (e == under or not unsuited_for(planner, e))]
        offered += [under] if under is not None and under not in offered else []
        self._equipment.show_options(
            [("", "none"), *((e.id, e.name) for e in offered)], under.id if under is not None else ""
        )
        self._blocks.setChecked(any(not e.is_under for e in planner.plan.equipment))

    def show_ways(self, planner: Planner, made: TargetsAnswer, others: tuple[WayResult, ...]) -> None:
        """The ways side by side; the one that is gone by what is placed now."""
        now = way_result(made.ground, planner.plan.placed, planner.error)
        rows = tuple(now if planner.plan.is_tracked and way.way is now.way else way for way in others)
        if not any(way.way is now.way for way in rows) and planner.plan.is_tracked:
            rows = (*rows, now)
        self.ways.show_ways(rows, now.way)
        shown = next((way for way in rows if way.way is now.way), None)
        self._why.setText("" if shown is None or not shown.words else f"{shown.words[0].upper()}{shown.words[1:]}.")
