"""Ready: surface, temperature, calibration, checks, and whether to go."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QLineEdit

from juxtum.capture.calibrating import CalibrationKind, order_for
from juxtum.desk.action import Action
from juxtum.desk.readying.calibrating import Calibrating
from juxtum.desk.readying.certificates import Certificates
from juxtum.desk.readying.go_panel import GoPanel
from juxtum.desk.stations.base import Station
from juxtum.desk.widgets import Facts, LengthField, button, combo, form, label, line, row
from juxtum.errors import JuxtumError
from juxtum.guide.findings import Key, NextAction
from juxtum.instruments.coats import COATS
from juxtum.job import Job
from juxtum.job.planning import with_coating, with_temperature
from juxtum.job.readiness import Policy, Readiness
from juxtum.logbook.go_list import GoItem, go_list, is_go
from juxtum.plan.cautions import cautions
from juxtum.plan.planner import Planner
from juxtum.plan.preparing import coat_uncertainty, soak_minutes, surface_advice
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.plan_layers import faces_surface

if TYPE_CHECKING:
    from juxtum.logbook.tables import ArtefactRow, CalibrationRow, CheckRow, InstrumentRow


class ReadyStation(Station):
    """The worksheet of Ready."""

    key = Key.READY

    def build(self) -> None:
        """Go list first; then what leads to it."""
        self.calibrating = Calibrating(self)
        self.pad = self.calibrating.pad
        self.go_panel = GoPanel(self._tick)
        self.body.addWidget(self.go_panel)
        self._build_surface()
        self._build_calibration()
        self._build_policy()
        self.body.addWidget(line())
        self.body.addWidget(label("Cautions", "heading"))
        self._cautions = label("", "soft", wrap=True)
        self._cautions.setAccessibleName("Cautions")
        self.body.addWidget(self._cautions)

    def _build_surface(self) -> None:
        self.body.addWidget(line())
        self.body.addWidget(label("Surface and temperature", "heading"))
        self._surface = label("", "", wrap=True)
        self._surface.setAccessibleName("Surface advice")
        self.body.addWidget(self._surface)
        self._part_t = LengthField("Part temperature", 20.0, "degrees Celsius; lengths are corrected to 20 from it")
        self._part_t.chosen.connect(self._set_temperature)
        self._room_t = LengthField("Room temperature", 20.0, "degrees Celsius")
        for field in (self._part_t, self._room_t):
            field.chosen.connect(lambda _: self._show_soak())
        self.body.addLayout(form([("Part, \u00b0C", self._part_t), ("Room, \u00b0C", self._room_t)]))
        self._soak = label("", "soft", wrap=True)
        self._soak.setAccessibleName("Soak time")
        self.body.addWidget(self._soak)

    def _build_calibration(self) -> None:
        self.body.addWidget(line())
        self.body.addWidget(label("Calibration, in this order", "heading"))
        self._kind = combo("Calibration")
        self._calibrate = button("Calibrate", self.calibrating.begin_chosen, tip="Guided by poses before the dot board")
        self._run = button("Let it run", self.calibrating.run_by_itself, tip="The poses are taken one after another")
        self._stop = button("Stop", self.calibrating.stop)
        self.body.addLayout(form([("What", self._kind)]))
        self.body.addLayout(row(self._calibrate, self._run, self._stop))
        self._result = label("", "", wrap=True)
        self._result.setAccessibleName("Calibration result")
        self.body.addWidget(self._result)
        self._artefact = combo("Artefact")
        self._check = button(
            "Check on it", self.calibrating.check_on_artefact, tip="Size and length against the stated limits"
        )
        self.body.addLayout(form([("Artefact", self._artefact)]))
        self.body.addLayout(row(self._check))
        self._log = Facts("Logbook")
        self.body.addWidget(self._log)
        self._certificates = Certificates(
            self._enter_certificate, lambda what, then: self.desk.tell(what, "certificates", then)
        )
        self.body.addWidget(line())
        self.body.addWidget(self._certificates)

    def _build_policy(self) -> None:
        self.body.addWidget(line())
        self.body.addWidget(label("Before verdicts are given", "heading"))
        self._policy = combo("Policy")
        for policy in Policy:
            self._policy.addItem(policy.value, policy)
        self._policy.activated.connect(lambda _: self._choose_policy())
        self._note = QLineEdit()
        self._note.setAccessibleName("Override note")
        self._note.setPlaceholderText("why verdicts are given all the same")
        self._note.editingFinished.connect(self._choose_policy)
        self.body.addLayout(form([("Instrument", self._policy), ("Override", self._note)]))
        self._policy_words = label("", "soft", wrap=True)
        self._policy_words.setAccessibleName("Policy in words")
        self.body.addWidget(self._policy_words)

    def own_actions(self) -> tuple[Action, ...]:
        """Calibrations, checks, the go list."""

        def has_part() -> bool:
            return self.derived.part is not None

        def with_book(work: Callable[[], None]) -> Callable[[], None]:
            return lambda: self.desk.open_logbook(work)

        begin, check = self.calibrating.begin_chosen, self.calibrating.check_on_artefact
        return (
            Action(
                "tick next",
                "Tick the next thing off the list",
                "Job/Ready/1",
                self.tick_next,
                enabled=lambda: self.is_here,
            ),
            Action(
                "calibrate",
                "Calibrate",
                "Job/Ready/1",
                with_book(begin),
                "",
                "ruler",
                "Guided by poses before the board",
                has_part,
                at=self.key,
            ),
            Action(
                "check artefact",
                "Check on an artefact",
                "Job/Ready/1",
                with_book(check),
                "",
                "ruler",
                "Size and length",
                has_part,
                at=self.key,
            ),
        )

    # -- what there is ----------------------------------------------------------------------------------------

    @property
    def planner(self) -> Planner | None:
        """The planner of the job."""
        return self.desk.planner

    def instrument(self) -> InstrumentRow | None:
        """The plan's scanner in the logbook."""
        book, planner = self.desk.logbook, self.planner
        if book is None or planner is None:
            return None
        return book.instrument(planner.model, _serial_of(self.derived.job))

    def items(self) -> tuple[GoItem, ...]:
        """The go list as it stands."""
        planner, instrument = self.planner, self.instrument()
        if planner is None or instrument is None or self.desk.logbook is None:
            return ()
        return go_list(self.derived.job, planner, self.desk.logbook.calibrations(instrument))

    def refresh(self) -> None:
        """Show the job and the logbook as they are now."""
        if self.is_here:
            self.show_results()
        else:
            self.next.show_action(self._next_step(self.items()))

    def show_results(self) -> None:
        """Everything of the worksheet."""
        planner, instrument = self.planner, self.instrument()
        items = self.items()
        self.go_panel.show_items(items)
        self.next.show_action(self._next_step(items))
        if planner is None:
            return
        self._show_surface(planner)
        if not self._part_t.hasFocus():
            self._part_t.set_value(self.derived.job.circumstances.environment.temperature)
        self._show_soak()
        kinds = [k.value for k in order_for(planner.model)]
        kinds += [
            k.value for k in (CalibrationKind.PHOTO, CalibrationKind.TIP, CalibrationKind.BOARD, CalibrationKind.SHAPE)
        ]
        if [self._kind.itemText(k) for k in range(self._kind.count())] != kinds:
            self._kind.clear()
            self._kind.addItems(kinds)
        self._show_logbook(instrument)
        ready = self.derived.job.readiness
        self._policy.setCurrentIndex(list(Policy).index(ready.policy))
        if not self._note.hasFocus():
            self._note.setText(ready.note)
        words = ready.reason or "nothing is asked of the instrument"
        if ready.objection:
            words = f"not met: {words}. Verdicts are 'not decided' until it is, or a note overrides it"
        elif not ready.is_met:
            words = f"not met: {words}; overridden, and the report says so"
        self._policy_words.setText(words[:1].upper() + words[1:] + ".")
        mass = planner.task.mass(planner.nominal)
        self._cautions.setText("\n".join(cautions(planner.plan, mass)))
        busy = self.calibrating.kind is not None
        self._calibrate.setEnabled(not busy and self._kind.count() > 0)
        self._run.setEnabled(self._kind.count() > 0)
        self._stop.setEnabled(busy)

    def _next_step(self, items: tuple[GoItem, ...]) -> NextAction:
        d = self.derived
        if d.part is None:
            return NextAction(
                "bring the nominal", "what is to be made ready follows from it", "bring nominal", "Choose a file"
            )
        if d.job.plan is None or not d.job.plan.targets:
            return NextAction("plan the targets", "the list follows from the plan", "plan targets", "Plan them")
        if items and is_go(items):
            return NextAction("capture", "everything on the list is done", "go capture", "Go to Capture")
        first = next((item for item in items if not item.is_done), None)
        if first is not None and first.title.endswith("calibrated"):
            return NextAction(
                f"calibrate the {first.title.split(' calibrated')[0]}", first.words, "calibrate", "Calibrate"
            )
        if first is None:
            return NextAction("capture", "the logbook is being opened", "go capture", "Go to Capture")
        if not first.key:
            return NextAction("check on an artefact", first.words, "check artefact", "Check")
        return NextAction(first.title, first.words or "then it is off the list", "tick next", "It is done")

    def _show_surface(self, planner: Planner) -> None:
        other = next((m for m in planner.model.modes if m.dark and m.name != planner.mode.name), None)
        advice = surface_advice(dict(planner.plan.finishes), planner.mode, other)
        lines = [f"Face {', '.join(map(str, a.faces))}, {a.finish}: {a.words}." for a in advice]
        coat = COATS[planner.plan.coat]
        if coat.thickness:
            gone = "stays" if not np.isfinite(coat.lasts) else f"gone after {coat.lasts:.0f} min"
            lines.append(
                f"{coat.name.capitalize()}, {1000 * coat.thickness:.0f} \u00b1 {1000 * coat.spread:.0f} \u00b5m: dry after {coat.drying:.0f} min, {gone}, "
                f"u {1000 * coat_uncertainty(coat):.1f} \u00b5m a surface; hold the part elsewhere, fingers rub it off."
            )
        self._surface.setText("\n".join(lines) or "All faces are matt: no coat is needed.")

    def _show_soak(self) -> None:
        planner = self.planner
        if planner is None:
            return
        mass = planner.task.mass(planner.nominal)
        if self._part_t.stated is None:
            self._soak.setText("Say how warm the part is; until then nothing is corrected.")
            return
        difference = self._part_t.value - self._room_t.value
        if not np.isfinite(mass):
            self._soak.setText("The mass is not known, since the part is not closed.")
            return
        minutes = soak_minutes(mass, planner.nominal.area, difference)
        words = "ready now" if minutes == 0 else f"wait about {minutes:.0f} min until it is within 0.5 K"
        self._soak.setText(f"{mass:.1f} kg, {abs(difference):.1f} K off: {words}.")

    def _show_logbook(self, instrument: InstrumentRow | None) -> None:
        book = self.desk.logbook
        if book is None or instrument is None:
            self._log.show_facts([])
            return
        names = [a.name for a in book.artefacts() if a.kind in ("ball bar", "scale bar")]
        if [self._artefact.itemText(k) for k in range(self._artefact.count())] != names:
            self._artefact.clear()
            self._artefact.addItems(names)
        self._certificates.show_rows(instrument, book)
        facts = [
            (
                "certificate",
                f"{instrument.certificate or 'none'}{f', until {instrument.due:%d %b %Y}' if instrument.due else ''}",
            )
        ]
        facts += [(f"{r.at:%d %b %H:%M} {r.kind}", _microns(r)) for r in book.calibrations(instrument)[:3]]
        facts += [(f"{r.at:%d %b %H:%M} check", _check_words(r)) for r in book.checks(instrument)[:2]]
        self._log.show_facts(facts)

    # -- what is done -----------------------------------------------------------------------------------------

    def _tick(self, key: str, on: bool) -> None:
        def edit(prepared: tuple[str, ...]) -> tuple[str, ...]:
            return tuple(sorted({*prepared, key} if on else set(prepared) - {key}))

        def change(job: Job) -> Job:
            made = job.model_copy(update={"prepared": edit(job.prepared)})
            return made if key != "coat" else with_coating(made, datetime.now() if on else None)

        self.session.edit(f"{'tick' if on else 'untick'} {key}", change)

    def _set_temperature(self, value: float) -> None:
        """The temperature of the part as it is measured; all lengths are corrected with it."""
        if not -40 <= value <= 120:
            self.desk.tell(f"{value:g} \u00b0C is no temperature of a part", "Ready", "Give one from -40 to 120")
            self.show_results()
            return
        self.session.edit("temperature of the part", lambda job: with_temperature(job, value))

    def _enter_certificate(self, what: InstrumentRow | ArtefactRow, number: str, until: date | None) -> None:
        book = self.desk.logbook
        if book is None:
            return
        try:
            book.set_due(what, number, until)
        except JuxtumError as problem:
            self.session.failed.emit(problem)
            return
        self.look_again()
        self.show_results()

    def tick_next(self) -> None:
        """The first open thing that a person does is done."""
        first = next((item for item in self.items() if item.key and not item.is_done), None)
        if first is not None:
            self._tick(first.key, True)

    def _choose_policy(self) -> None:
        self.look_again(Policy(self._policy.currentData()), self._note.text().strip())

    def look_again(self, policy: Policy | None = None, note: str | None = None) -> None:
        """Hold the policy against the logbook and keep the answer in the job."""
        book, instrument, now = self.desk.logbook, self.instrument(), self.derived.job.readiness
        if book is None or instrument is None:
            return
        try:
            made = book.readiness(policy or now.policy, instrument).model_copy(
                update={"note": now.note if note is None else note}
            )
        except JuxtumError as problem:
            self.session.failed.emit(problem)
            return
        made = Readiness.model_validate(made.model_dump())
        if made != now:
            self.session.edit(f"instrument: {made.policy}", lambda job: job.model_copy(update={"readiness": made}))
        else:
            self.show_results()

    # -- the stage --------------------------------------------------------------------------------------------

    def enter(self) -> None:
        """The part with the faces that need something."""
        super().enter()
        self.desk.open_logbook(self.show_results)

    def place(self) -> None:
        """The pad in the middle of the stage."""
        self.pad.move(
            max(12, (self.view.width() - self.pad.width()) // 2), max(60, (self.view.height() - self.pad.height()) // 2)
        )

    def leave(self) -> None:
        """End what is guided."""
        self.calibrating.stop()
        super().leave()
        self.view.put("marked", None)

    @property
    def kind_text(self) -> str:
        """What is chosen to be calibrated."""
        return self._kind.currentText()

    @property
    def artefact_text(self) -> str:
        """The chosen artefact."""
        return self._artefact.currentText()

    def tell_result(self, words: str) -> None:
        """Say what a calibration or a check came to."""
        self._result.setText(words)

    def escape(self) -> None:
        """Give the calibration up."""
        self.calibrating.stop()

    def dress(self) -> None:
        """Faces that are not matt are marked."""
        if not self.is_here:
            return
        d, view, planner = self.derived, self.view, self.planner
        for name in (*MAP_LAYERS, "scan"):
            view.put(name, None)
        view.put("nominal", d.part_surface)
        view.put("edges", d.part_edges)
        faces = tuple(n for n, _ in planner.plan.finishes) if planner is not None else ()
        view.put("marked", faces_surface(planner.nominal, faces) if planner is not None else None)
        view.set_legend(None, None)
        view.set_readings(())


def _serial_of(job: Job) -> str:
    return job.circumstances.instrument.serial if job.circumstances.instrument is not None else ""


def _microns(row: CalibrationRow) -> str:
    return f"{1000 * row.value:.0f} of {1000 * row.limit:.0f} \u00b5m{'' if row.passed else ', failed'}"


def _check_words(row: CheckRow) -> str:
    return f"{1000 * row.length_error:.0f} of {1000 * row.length_limit:.0f} \u00b5m{'' if row.passed else ', failed'}"
