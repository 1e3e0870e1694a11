"""Plan: what can be computed before anyone touches the part, shown on it."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QTimer

from juxtum.desk.action import Action
from juxtum.desk.planning import topics
from juxtum.desk.planning.actions import plan_actions
from juxtum.desk.planning.answers import Answers
from juxtum.desk.planning.dressing import dress_topic, gear_bounds
from juxtum.desk.planning.editing import TargetEdits
from juxtum.desk.planning.handles import TargetHandles
from juxtum.desk.planning.overlay import BandLegend, TopicBar
from juxtum.desk.planning.panel import Panel
from juxtum.desk.planning.panels import PANELS, FitPanel, PhotosPanel
from juxtum.desk.planning.papers import Papers
from juxtum.desk.planning.picking import PlanPicking
from juxtum.desk.planning.rows import rays_table, table_of
from juxtum.desk.planning.shop import PlanningShop
from juxtum.desk.planning.table import PlanTable
from juxtum.desk.planning.target_panel import TargetsPanel
from juxtum.desk.planning.topics import TargetsAnswer, Topic
from juxtum.desk.stations.base import Station
from juxtum.errors import JuxtumError
from juxtum.geometry.arrays import Floats
from juxtum.guide.findings import Key
from juxtum.job import Job
from juxtum.nominal import Nominal
from juxtum.plan.document import Plan
from juxtum.plan.grounds import Grounds
from juxtum.plan.photos.photos import PhotoPlan
from juxtum.plan.planner import Planner
from juxtum.plan.targets.assess import weakest_place
from juxtum.plan.targets.targets import Target
from juxtum.progress import Progress
from juxtum.scene.picking import Hit

ON_TARGETS = {"instrument", "mode", "stance", "spacing"}
"""Choices that change what the targets promise."""
OWN_LAYERS = ("ghost", "shadow", "rays", "gear", "marked")


def weak_note(made: TargetsAnswer) -> tuple[Floats, str] | None:
    """The largest stretch that is seen too seldom and why; None where every place is seen well enough."""
    a = made.assessment
    place = weakest_place(made.ground, a)
    return None if place is None or not (a.targets or made.ground.gear) else (place, a.weakest_words)


class PlanStation(Station):
    """The worksheet of Plan with its topics."""

    key = Key.PLAN

    def build(self) -> None:
        """One panel a topic; the bars over the stage; the table under it."""
        self.topic = Topic.FIT
        self.shop = PlanningShop(self)
        self.grounds = Grounds()
        self.bar, self.legend = TopicBar(self.view), BandLegend(self.view)
        self.bar.chosen.connect(self.show_topic)
        self.table = PlanTable()
        self.table.chosen.connect(self._choose_row)
        self.handles = TargetHandles(self.view, self._choose_target, lambda index, place: self.edits.move(index, place))
        self.answers = Answers(self.session, self._arrived)
        self.edits = TargetEdits(self)
        self.papers = Papers(self)
        self.picking = PlanPicking(self)
        self._framed, self._comes_in = "", False
        self._planner: tuple[Job, Nominal, Planner] | None = None
        self.panels: dict[Topic, Panel] = {topic: make(self) for topic, make in PANELS.items()}
        for topic, panel in self.panels.items():
            panel.setVisible(topic is self.topic)
            self.body.addWidget(panel)

    def own_actions(self) -> tuple[Action, ...]:
        """What can be done here."""
        return plan_actions(self)

    # -- what is planned --------------------------------------------------------------------------------------

    @property
    def planner(self) -> Planner | None:
        """The planner of the job as it is now; None without a nominal."""
        job, nominal = self.derived.job, self.derived.part
        if nominal is None:
            return None
        held, owned = self._planner, self.shop.owned
        # Every action asks whether it makes sense now: for one job there is one planner.
        if held is None or held[0] is not job or held[1] is not nominal or held[2].owned != owned:
            held = self._planner = job, nominal, topics.planner_for(job, nominal, self.grounds, owned)
        return held[2]

    @property
    def plan(self) -> Plan:
        """The plan in force."""
        planner = self.planner
        return planner.plan if planner is not None else Plan()

    @property
    def made(self) -> Any:
        """The answer to the topic at hand, if it is there and still right."""
        return self.answers.get(self.topic, self.planner)

    def methods(self) -> dict[str, str]:
        """How each characteristic is to be measured: as Blind spots says, or as far as the drawing alone tells."""
        made = self.answers.get(Topic.BLIND, self.planner)
        return topics.methods_of(made, self.planner) or self.derived.methods

    @property
    def selected_target(self) -> Target | None:
        """The target that is chosen on the stage."""
        index = self.handles.selected
        return self.plan.placed[index] if self.topic is Topic.TARGETS and 0 <= index < len(self.plan.targets) else None

    def plan_on_scan(self) -> None:
        """Begin a plan on the scan, where there is no nominal."""
        self.show_topic(Topic.TARGETS)
        self.session.edit("plan on the scan", lambda job: job.model_copy(update={"plan": job.plan or Plan()}))

    def change(self, title: str, update: dict[str, object]) -> None:
        """Change choices of the plan, as one step that can be undone."""
        nominal = self.derived.part
        if nominal is None:
            return

        def edit(job: Job, progress: Progress) -> Job:
            plan = topics.plan_for(job, nominal).model_copy(update=update)
            plan = Plan.model_validate_json(plan.model_dump_json(by_alias=True))
            if plan.is_tracked and ON_TARGETS & set(update):
                planner = topics.planner_for(
                    job.model_copy(update={"plan": plan}), nominal, self.grounds, self.shop.owned
                )
                planner.ground(progress)
                plan = planner.edited(plan.placed)
            return job.model_copy(update={"plan": plan})

        self.session.edit_slowly(title, edit)

    def use_best_chain(self) -> None:
        """The chain of this instrument that is good for most characteristics."""
        made, planner = self.made, self.planner
        if planner is not None and isinstance(made, topics.FitAnswer):
            best = topics.best_chain(made, planner)
            self.change(f"method {best}", {"chain": best})

    # -- topics -----------------------------------------------------------------------------------------------

    def show_topic(self, topic: Topic) -> None:
        """Turn to another topic."""
        self.picking.stop()
        self.topic = topic
        self.answers.forget_stopped(topic)
        for panel in self.panels.values():
            panel.setVisible(panel is self.panels[topic])
        self.refresh()
        self.dress()
        self.scroll_to_top()

    def next_topic(self) -> None:
        """The topic after this one."""
        order = list(Topic)
        self.show_topic(order[(order.index(self.topic) + 1) % len(order)])

    def refresh(self) -> None:
        """Show the job as it is now; ask for what is not known yet."""
        self.show_results()
        if self.is_here and self.planner is not None:
            self.answers.ask(self.topic, self.planner)

    def _arrived(self, topic: Topic) -> None:
        if topic is self.topic and self.is_here:
            self.refresh()
            self.dress()

    def show_results(self) -> None:
        """Next action, panel, table."""
        planner, made, panel = self.planner, self.made, self.panels[self.topic]
        self.bar.show_topic(self.topic)
        self.next.show_action(
            topics.next_step(self.topic, planner, made) if planner is not None else topics.first_step(self.derived)
        )
        panel.setEnabled(planner is not None)
        if planner is None:
            self.table.show_rows((), (), 0)
            return
        panel.show_plan(planner)
        if isinstance(made, JuxtumError):
            panel.facts.show_facts([])
            panel.words.setText(made.sentence)
        elif made is not None:
            panel.show_answer(planner, made)
        else:
            panel.words.setText("Computing\u2026")
        if isinstance(panel, TargetsPanel) and isinstance(made, TargetsAnswer):
            panel.show_ways(planner, made, self.answers.ways(planner))
        table = None if made is None or isinstance(made, JuxtumError) else table_of(made, planner)
        if isinstance(panel, PhotosPanel) and isinstance(made, PhotoPlan) and panel.by_target.isChecked():
            table = rays_table(made)
        if table is not None:
            self.table.show_rows(*table, self.handles.selected if self.topic is Topic.TARGETS else -1)
        self._show_table(table is not None)

    def _show_table(self, shown: bool) -> None:
        self.table.setVisible(shown and self.is_here)

    # -- on the stage -----------------------------------------------------------------------------------------

    def enter(self) -> None:
        """Show topics and table instead of the ledger."""
        self._comes_in = True
        self.desk.cover_ledger()
        self.bar.show()
        self.place()
        self.view.top_cover = self.bar.height() + 16.0
        self.show_topic(self.topic)
        self.shop.ask()

    def leave(self) -> None:
        """Give stage and ledger back."""
        super().leave()
        self.picking.stop()
        self.bar.hide()
        self.legend.hide()
        self.table.hide()
        self.desk.uncover_ledger()
        self.view.handles, self.view.right_cover, self.view.top_cover = None, 0.0, 0.0
        self._framed = ""
        for name in (*OWN_LAYERS, *(n for n in self.view.stage._held if n.startswith("band "))):
            self.view.put(name, None)

    def place(self) -> None:
        """Topics below the view bar, the legend at the right edge."""
        self.bar.fit(self.view.width() - 24.0)
        self.bar.move(12, self.desk.controls.bar.height() + 20)
        self.handles.top = self.bar.y() + self.bar.height() + 10.0
        self.legend.resize(self.legend.sizeHint())
        left = self.view.width() - self.legend.width() - 12
        beside = self.bar.x() + self.bar.width() + 8 < left
        self.legend.move(left, self.bar.y() if beside else self.bar.y() + self.bar.height() + 8)

    def dress(self) -> None:
        """The part with what the topic shows on it."""
        if not self.is_here:
            return
        made = self.made
        if made is None and self.topic is Topic.TARGETS and self.derived.part is not None:
            # While an edit is scored the picture stays as it was.
            last = self.answers.last(Topic.TARGETS)
            made = last if isinstance(last, TargetsAnswer) and last.ground.nominal is self.derived.part else None
        shows_targets = self.topic is Topic.TARGETS and isinstance(made, TargetsAnswer)
        self.handles.show(self.derived.part, made.assessment if shows_targets else None)
        self.handles.note = weak_note(made) if shows_targets else None
        self.view.handles = self.handles if shows_targets else None
        self.legend.show_answer(made, is_tracked=shows_targets and self.plan.is_tracked)
        self.view.right_cover = self.legend.width() + 20.0 if self.legend.isVisible() else 0.0
        self.place()
        made = None if isinstance(made, JuxtumError) else made
        dress_topic(self.view, self.derived, self.topic, made)
        self._frame_gear(made)

    def _frame_gear(self, made: Any) -> None:
        """Bars, photos and trackers stand about the part: step back when they come, and come near again after them."""
        bounds = gear_bounds(self.derived, self.topic, made)
        shown = f"{self.topic.value} {bounds is not None}" if bounds is not None or self.legend.isVisible() else ""
        if shown != self._framed or self._comes_in:
            self._comes_in = False
            self._framed = shown
            # Table and legend come and go with the topic: look once they have settled.
            QTimer.singleShot(0, lambda: self.desk.look_home() if bounds is None else self.view.frame_all(bounds))

    def picked(self, hit: Hit) -> None:
        """A click on the part: a target, an allowed face or a finish."""
        self.picking.picked(hit)

    def escape(self) -> None:
        """Stop picking; the station stays as it is."""
        self.picking.stop()
        self.dress()

    def _choose_row(self, row: int) -> None:
        if self.topic is Topic.TARGETS:
            self.handles.selected = row
            self.view.update()
            self._show_choice()
        panel, planner = self.panels[self.topic], self.planner
        if isinstance(panel, FitPanel) and isinstance(self.made, topics.FitAnswer) and planner is not None:
            panel.show_aim(self.made, planner, row)

    def _choose_target(self, index: int) -> None:
        self.table.select(index)
        self._show_choice()

    def _show_choice(self) -> None:
        planner = self.planner
        if planner is not None:
            self.panels[Topic.TARGETS].show_plan(planner)
        self.desk.enable_actions()
