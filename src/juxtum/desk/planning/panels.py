"""The worksheet's panels, one for each topic of Plan."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QCheckBox, QLineEdit, QVBoxLayout

from juxtum.desk.planning.chart import ChainChartView
from juxtum.desk.planning.panel import Panel
from juxtum.desk.planning.rows import every_chain, laid
from juxtum.desk.planning.target_panel import TargetsPanel
from juxtum.desk.planning.topics import Answer, FitAnswer, StationsAnswer, Topic, scanners
from juxtum.desk.widgets import Choice, Facts, LengthField, button, form, label, line, row
from juxtum.errors import InputError
from juxtum.instruments.coats import COATS
from juxtum.plan.blind import Finish
from juxtum.plan.cost.schedule import parse_clock
from juxtum.plan.photos.photos import PhotoPlan
from juxtum.plan.photos.worth import photo_words
from juxtum.plan.planner import HEAVY, EffortPlan, Planner
from juxtum.plan.tray import TrayPlan
from juxtum.plan.turntable import TurntablePlan
from juxtum.report.plan_result import notes

if TYPE_CHECKING:
    from juxtum.desk.stations.plan import PlanStation


class FitPanel(Panel):
    """Instrument, mode, chain; the chain chart; spacings and their price."""

    def build(self) -> None:
        """Choices, chart, prices."""
        self._instrument, self._mode, self._chain = Choice("Scanner"), Choice("Mode"), Choice("Method")
        self._instrument.picked.connect(self._pick_instrument)
        self._mode.picked.connect(lambda name: self.change(f"mode {name}", mode=name))
        self._chain.picked.connect(lambda name: self.change(f"method {name}", chain=name))
        self.body.addLayout(form([("Scanner", self._instrument), ("Mode", self._mode), ("Method", self._chain)]))
        perform = self.station.desk.perform
        load = button(
            "Load\u2026", lambda: perform("load instrument"), "plain", "An instrument document that you edited"
        )
        load.setAccessibleName("Load instrument")
        keep = button("Save a copy to edit\u2026", lambda: perform("save instrument"), "plain")
        self.body.addLayout(row(load, keep))
        self.body.addWidget(line())
        self.body.addWidget(label("Is the method good enough?", "heading"))
        self._all = QCheckBox("Also what the shop does not have")
        self._all.setAccessibleName("Also what the shop does not have")
        self._all.setToolTip("Instruments that ship with Juxtum and are not in the register")
        self._all.toggled.connect(self.station.shop.compare_all)
        self.body.addWidget(self._all)
        self.chart = ChainChartView()
        self.body.addWidget(self.chart)
        self._chart_words = label("", "soft", wrap=True)
        self._chart_words.setAccessibleName("Chart in words")
        self.body.addWidget(self._chart_words)
        self.body.addWidget(line())
        self._aim_title = label("", "heading", wrap=True)
        self._aim_title.setAccessibleName("Chosen characteristic")
        self._aim = Facts("Every method")
        self._need = label("", "soft", wrap=True)
        self._need.setAccessibleName("Spacing needed")
        for widget in (self._aim_title, self._aim, self._need):
            self.body.addWidget(widget)
        self.body.addWidget(line())
        self.body.addWidget(label("Spacing (not accuracy), and what it costs", "heading"))
        self._prices = QVBoxLayout()
        self._prices.setSpacing(2)
        self.body.addLayout(self._prices)

    def _pick_instrument(self, name: str) -> None:
        model = next((m for m in scanners(self.station.plan, self.station.shop.owned) if m.id == name), None)
        if model is not None:
            self.change(f"scanner {model.name}", instrument=model, mode="", chain="", spacing=None)

    def show_plan(self, planner: Planner) -> None:
        """The three choices."""
        self._all.setVisible(bool(self.station.desk.shop.owned.instruments))
        self._instrument.show_options([(m.id, m.name) for m in scanners(planner.plan, planner.owned)], planner.model.id)
        self._mode.show_options([(m.name, m.name) for m in planner.model.modes], planner.mode.name)
        self._chain.show_options(
            [(c.name, c.name) for c in planner.model.chains], planner.model.chain(planner.plan.chain).name
        )

    def show_answer(self, planner: Planner, made: Answer) -> None:
        """Chart, its words, prices."""
        super().show_answer(planner, made)
        if not isinstance(made, FitAnswer):
            return
        chain = planner.model.chain(planner.plan.chain).name
        self.chart.show_chart(made.chart, planner.model.name, chain)
        own = [s for s in made.chart.sentences(made.table) if planner.model.name in s]
        name = planner.model.name
        own = [s for s in own if s.count(name) != 1 or "beyond" not in s]
        words = [s.replace(f"{name}, ", "").replace(f"{name}: ", "") for s in own]
        self._chart_words.setText(". ".join(w[:1].upper() + w[1:] for w in words[-3:]) + ("." if words else ""))
        self.show_aim(made, planner, 0)
        self._show_prices(planner, made)

    def show_aim(self, made: FitAnswer, planner: Planner, row: int) -> None:
        """One characteristic with every chain, best first, and the spacing that its smallest feature needs."""
        aim = planner.task.aims[min(max(row, 0), len(planner.task.aims) - 1)]
        self._aim_title.setText(f"{aim.id} with every method")
        self._aim.show_facts([every_chain(r) for r in made.table.of_aim(aim.id)])
        need = next(n for n in made.needs if n.aim == aim.id)
        self._need.setText(f"Needs a point every {need.spacing:.2g} mm: {need.reason}.")

    def sentences(self, planner: Planner, made: Answer) -> str:
        """What is wrong with the nominal, as far as it matters here."""
        del made
        return ". ".join(words[:1].upper() + words[1:] for words in notes(planner))

    def _show_prices(self, planner: Planner, made: FitAnswer) -> None:
        while item := self._prices.takeAt(0):
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for price in made.prices:
            text = f"{price.title}   {price.effort.capture:.0f} min   {price.effort.peak / 1e9:.1f} GB"
            made_button = button(
                text,
                partial(self.change, f"spacing {price.title}", spacing=price.base),
                tip=_price_tip(price.serves, price.fits),
            )
            made_button.setCheckable(True)
            made_button.setChecked(abs(price.base - made.spacing) < 1e-9 and price.serves)
            self._prices.addWidget(made_button)


def _price_tip(serves: bool, fits: bool) -> str:
    words = "every feature gets the spacing it needs" if serves else "too coarse for some features"
    return words + ("" if fits else "; does not fit into this machine's memory")


class PhotosPanel(Panel):
    """Bars, self-calibration, what leaving something out costs."""

    def build(self) -> None:
        """Number of bars and the camera."""
        self._bars = Choice("Bars")
        self._bars.picked.connect(lambda name: self.change(f"{name} bars", bars=int(name)))
        self._camera = QCheckBox("Solve the camera with the rest")
        self._camera.setAccessibleName("Solve the camera")
        self._camera.clicked.connect(
            lambda on: self.change("camera solved" if on else "camera known", self_calibration=bool(on))
        )
        self.body.addLayout(form([("Scale bars", self._bars)]))
        self.body.addWidget(self._camera)
        self.by_target = QCheckBox("List targets instead of photos")
        self.by_target.setAccessibleName("List targets")
        self.by_target.clicked.connect(lambda _: self.station.show_results())
        self.body.addWidget(self.by_target)
        self.body.addWidget(label("If something is left out", "heading"))
        self._variants = Facts("Variants")
        self.body.addWidget(self._variants)
        self.body.addWidget(label("Lengths of the characteristics", "heading"))
        self._lengths = Facts("Lengths")
        self.body.addWidget(self._lengths)
        self.body.addWidget(line())

    def show_plan(self, planner: Planner) -> None:
        """The choices."""
        self._bars.show_options([(str(k), str(k)) for k in (1, 2, 3)], str(planner.plan.bars))
        self._camera.setChecked(planner.plan.self_calibration)

    def show_answer(self, planner: Planner, made: Answer) -> None:
        """Variants and lengths too."""
        super().show_answer(planner, made)
        if isinstance(made, PhotoPlan):
            self._variants.show_facts(
                [(v.title, f"U {v.expanded:.3f}" if v.ratio < 1000 else "does not hold") for v in made.variants]
            )
            self._lengths.show_facts(
                [(f"{f.aim}, over {f.length:.0f} mm", f"U {f.expanded:.3f}") for f in made.forecasts]
            )

    def sentences(self, planner: Planner, made: Answer) -> str:
        """Whether photos are needed, what they give, and how long the bars are now."""
        if not isinstance(made, PhotoPlan):
            return ""
        room = planner.task.environment.expected_temperature
        lengths = "; ".join(f"{b.bar.name} {b.length:.3f} mm" for b in made.bars)
        worth = photo_words(made, planner.nominal, planner.model, planner.mode)
        return f"{worth[0].upper()}{worth[1:]}. At {room:g} \u00b0C: {lengths}. Numbers at the bars are their lengths there, not at 20 \u00b0C."


class StationsPanel(Panel):
    """Obstacles and the facts of the stations."""

    def build(self) -> None:
        """A line for an obstacle."""
        self._box = QLineEdit()
        self._box.setAccessibleName("Obstacle")
        self._box.setPlaceholderText("X Y Z  X Y Z of two corners, mm")
        self._box.returnPressed.connect(self._add)
        self._clear = button("Take them away", lambda: self.change("no obstacles", obstacles=()), "plain")
        self.body.addWidget(label("Boxes that stand in the way", "heading"))
        self.body.addWidget(self._box)
        self.body.addLayout(row(button("Add obstacle", self._add), self._clear))
        self.body.addWidget(line())

    def _add(self) -> None:
        from juxtum.plan.document import Box

        words = self._box.text().replace(";", " ").replace(",", ".").split()
        try:
            numbers = [float(w) for w in words]
            if len(numbers) != 6:
                raise ValueError
        except ValueError:
            self.station.desk.tell(
                "an obstacle has six numbers", "stations", "Type X Y Z of its lowest and X Y Z of its highest corner"
            )
            return
        low = tuple(min(a, b) for a, b in zip(numbers[:3], numbers[3:], strict=True))
        high = tuple(max(a, b) for a, b in zip(numbers[:3], numbers[3:], strict=True))
        self._box.clear()
        box = Box.model_validate({"low": low, "high": high})
        self.change("add an obstacle", obstacles=(*self.station.plan.obstacles, box))

    def show_plan(self, planner: Planner) -> None:
        """Whether there is anything to take away."""
        self._clear.setVisible(bool(planner.plan.obstacles))

    def sentences(self, planner: Planner, made: Answer) -> str:
        """Which instrument this is about."""
        turns = made.plan.turns if isinstance(made, StationsAnswer) and len(made.plan.stations) > 1 else None
        words = ""
        if turns is not None:
            mass = planner.task.mass(planner.nominal)
            heavy = f" It weighs {mass:.0f} kg: on a turntable or a trolley." if mass > HEAVY else ""
            words = f" Or {turns.words}, with the reference targets turning along.{heavy}"
        if planner.model.tracker is not None:
            return f"Dark red: in the shadow of every station.{words}"
        return (
            "For the tracked scanner that ships with Juxtum; choose it under Suitability to plan with it. Dark red: in the shadow of every station."
            + words
        )


class BlindPanel(Panel):
    """Finishes, and how each characteristic is measured."""

    def build(self) -> None:
        """Choose a finish and pick faces."""
        self.finish = Choice("Finish")
        self.finish.show_options([(f.value, f.value) for f in Finish], Finish.GLOSSY.value)
        self.pick = button(
            "Pick faces", lambda: self.station.picking.toggle_finishing(), tip="Click faces that look like this"
        )
        self.pick.setCheckable(True)
        self.pick.setAccessibleName("Pick faces of this finish")
        self.body.addWidget(label("Faces that are not matt", "heading"))
        self.body.addLayout(form([("Finish", self.finish)]))
        self.body.addLayout(row(self.pick))
        self._told = label("", "soft", wrap=True)
        self._told.setAccessibleName("Finishes")
        self.body.addWidget(self._told)

    def show_plan(self, planner: Planner) -> None:
        """Finishes that were named."""
        words = "; ".join(f"face {n}: {f}" for n, f in planner.plan.finishes)
        self._told.setText(words + "." if words else "All faces count as matt.")


class TurntablePanel(Panel):
    """Facts of the turntable; positions and warnings in words."""

    def sentences(self, planner: Planner, made: Answer) -> str:
        """Positions and warnings."""
        del planner
        if not isinstance(made, TurntablePlan):
            return ""
        words = [f"The part is laid {', then '.join(laid(t) for t in made.tilts)}", *made.warnings]
        return ". ".join(w[:1].upper() + w[1:] for w in words) + ". Dark red: not seen."


class TrayPanel(Panel):
    """How many parts."""

    def build(self) -> None:
        """A field for the number."""
        self._parts = LengthField("Parts", 0, "Parts in the tray; 0 for as many as fit")
        self._parts.chosen.connect(
            lambda value: self.change("parts in the tray", parts_in_tray=int(min(value, 10_000)) or None)
        )
        self.body.addLayout(form([("Parts, 0: all that fit", self._parts)]))
        self.body.addWidget(line())

    def show_plan(self, planner: Planner) -> None:
        """The number."""
        if not self._parts.hasFocus():
            self._parts.set_value(planner.plan.parts_in_tray or 0)

    def sentences(self, planner: Planner, made: Answer) -> str:
        """Whether all fit."""
        wanted = planner.plan.parts_in_tray
        if not isinstance(made, TrayPlan):
            return ""
        few = f"Only {made.count} of {wanted}. " if wanted and made.count < wanted else ""
        why = f"{made.left_out[:1].upper()}{made.left_out[1:]}." if made.left_out else ""
        return (few + why).strip()


class EffortPanel(Panel):
    """Spacing, coat, start; points, memory, minutes; the sheet."""

    def build(self) -> None:
        """Fields."""
        self._spacing = LengthField("Spacing", 1.0)
        self._spacing.chosen.connect(lambda value: self.change("spacing", spacing=value))
        self._coat = Choice("Coat")
        self._coat.picked.connect(lambda name: self.change(f"coat {name}", coat=name))
        self._start = QLineEdit()
        self._start.setAccessibleName("Start")
        self._start.setFixedWidth(92)
        self._start.editingFinished.connect(self._set_start)
        self.body.addLayout(form([("Spacing, mm", self._spacing), ("Coat", self._coat), ("Start", self._start)]))
        self.body.addLayout(
            row(button("Write the set-up sheet\u2026", lambda: self.station.desk.perform("write setup sheet")))
        )
        self.body.addWidget(line())

    def _set_start(self) -> None:
        text = self._start.text().strip()
        if text == self.station.plan.start:
            return
        try:
            parse_clock(text)
        except InputError as problem:
            self.station.desk.tell(problem.what, "start", problem.next)
            return
        self.change("start of the work", start=text)

    def show_plan(self, planner: Planner) -> None:
        """The choices."""
        self._coat.show_options([(name, COATS[name].name) for name in COATS], planner.plan.coat)
        if not self._start.hasFocus():
            self._start.setText(planner.plan.start)

    def show_answer(self, planner: Planner, made: Answer) -> None:
        """The spacing in force too."""
        super().show_answer(planner, made)
        if isinstance(made, EffortPlan) and not self._spacing.hasFocus():
            self._spacing.set_value(made.spacing)

    def sentences(self, planner: Planner, made: Answer) -> str:
        """Warnings of the schedule."""
        del planner
        warnings = made.schedule.warnings if isinstance(made, EffortPlan) else ()
        return ". ".join(w[:1].upper() + w[1:] for w in warnings) + ("." if warnings else "")


PANELS: dict[Topic, Callable[[PlanStation], Panel]] = {
    Topic.FIT: FitPanel, Topic.TARGETS: TargetsPanel, Topic.PHOTOS: PhotosPanel, Topic.STATIONS: StationsPanel, Topic.BLIND: BlindPanel,
    Topic.TURNTABLE: TurntablePanel, Topic.TRAY: TrayPanel, Topic.EFFORT: EffortPanel,
}  # fmt: skip
