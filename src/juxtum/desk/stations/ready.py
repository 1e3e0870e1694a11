"""Ready: surface, temperature, calibration, checks, and whether to go."""

from __future__ import annotations

from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt

from juxtum.capture.calibration.calibrating import CalibrationKind, order_for
from juxtum.desk.action import Action
from juxtum.desk.readying.calibrating import Calibrating
from juxtum.desk.readying.go_panel import GoPanel
from juxtum.desk.readying.logbook import LogbookPanel
from juxtum.desk.readying.policy import PolicyPanel
from juxtum.desk.readying.surface import SurfacePanel
from juxtum.desk.stations.base import Station
from juxtum.desk.widgets import button, combo, form, label, line, row
from juxtum.guide.findings import Key
from juxtum.guide.next_actions import next_for_ready
from juxtum.job import Job
from juxtum.job.planning import with_coating, with_tick
from juxtum.logbook.go_list import GoItem, go_list
from juxtum.plan.cautions import cautions
from juxtum.plan.planner import Planner
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.plan_layers import faces_surface

if TYPE_CHECKING:
    from juxtum.logbook.tables import InstrumentRow


class ReadyStation(Station):
    """The worksheet of Ready."""

    key = Key.READY

    def build(self) -> None:
        """Go list first; then what leads to it."""
        self.calibrating = Calibrating(self)
        self.pad = self.calibrating.pad
        self.go_panel = GoPanel(self._tick)
        self.body.addWidget(self.go_panel)
        self._surface, self.policy = SurfacePanel(self), PolicyPanel(self)
        self.body.addWidget(line())
        self.body.addWidget(self._surface)
        self._build_calibration()
        self.body.addWidget(line())
        self.body.addWidget(self.policy)
        self.body.addWidget(line())
        self.body.addWidget(label("Cautions", "heading"))
        self._cautions = label("", "soft", wrap=True)
        self._cautions.setAccessibleName("Cautions")
        self.body.addWidget(self._cautions)

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
        self._logbook = LogbookPanel(self)
        self.body.addWidget(self._logbook)

    def own_actions(self) -> tuple[Action, ...]:
        """Calibrations, checks, the go list, the register."""
        board = partial(
            Action, menu="Job/Ready/1", icon="ruler", enabled=lambda: self.derived.part is not None, at=self.key
        )
        begin, check = self.calibrating.begin_chosen, self.calibrating.check_on_artefact
        tip = "Instruments, artefacts and equipment with their certificates"
        show = partial(self.desk.shop.open, self._show_register)
        return (
            Action("register", "Register of the shop", "Tools/1", show, icon="list-checks", tip=tip),
            Action(
                "tick next",
                "Tick the next thing off the list",
                "Job/Ready/1",
                self.tick_next,
                enabled=lambda: self.is_here,
            ),
            board(
                "calibrate",
                "Calibrate",
                run=partial(self.desk.shop.open, begin),
                tip="Guided by poses before the board",
            ),
            board(
                "check artefact", "Check on an artefact", run=partial(self.desk.shop.open, check), tip="Size and length"
            ),
        )

    def _show_register(self) -> None:
        from juxtum.desk.readying.register_dialog import RegisterDialog

        assert self.desk.shop.book is not None
        made = RegisterDialog(self, self.session, self.desk.shop.book, self.derived.job.brief.operator)
        made.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        made.changed.connect(self._register_changed)
        # Another job may have another logbook: nothing is entered into the one that is no longer shown.
        self.session.replaced.connect(made.close)
        made.show()

    def _register_changed(self) -> None:
        """Show what the shop has now, wherever that is looked at."""
        self.desk.shop.look_again()
        self.session.changed.emit()

    # -- what there is ----------------------------------------------------------------------------------------

    @property
    def planner(self) -> Planner | None:
        """The planner of the job."""
        return self.desk.planner

    def instrument(self) -> InstrumentRow | None:
        """The plan's scanner in the logbook."""
        book, planner = self.desk.shop.book, self.planner
        if book is None or planner is None:
            return None
        return book.instrument(planner.model, _serial_of(self.derived.job))

    def items(self) -> tuple[GoItem, ...]:
        """The go list as it stands."""
        planner, instrument = self.planner, self.instrument()
        if planner is None or instrument is None or self.desk.shop.book is None:
            return ()
        return go_list(self.derived.job, planner, self.desk.shop.book.calibrations(instrument))

    def refresh(self) -> None:
        """Show the job and the logbook as they are now."""
        if self.is_here:
            self.show_results()
        else:
            self.next.show_action(next_for_ready(self.derived, self.items()))

    def show_results(self) -> None:
        """Everything of the worksheet."""
        planner, instrument = self.planner, self.instrument()
        items = self.items()
        self.go_panel.show_items(items)
        self.next.show_action(next_for_ready(self.derived, items))
        if planner is None:
            return
        self._surface.show_job(planner)
        kinds = [k.value for k in order_for(planner.model)]
        kinds += [
            k.value for k in (CalibrationKind.PHOTO, CalibrationKind.TIP, CalibrationKind.BOARD, CalibrationKind.SHAPE)
        ]
        if [self._kind.itemText(k) for k in range(self._kind.count())] != kinds:
            self._kind.clear()
            self._kind.addItems(kinds)
        self._logbook.show_rows(instrument)
        self.policy.show_job()
        mass = planner.task.mass(planner.nominal)
        self._cautions.setText("\n".join(cautions(planner.plan, mass)))
        busy = self.calibrating.kind is not None
        self._calibrate.setEnabled(not busy and self._kind.count() > 0)
        self._run.setEnabled(self._kind.count() > 0)
        self._stop.setEnabled(busy)

    # -- what is done -----------------------------------------------------------------------------------------

    def _tick(self, key: str, on: bool) -> None:
        now = datetime.now().replace(microsecond=0)

        def change(job: Job) -> Job:
            made = with_tick(job, key, now if on else None)
            return made if key != "coat" else with_coating(made, now if on else None)

        self.session.edit(f"{'tick' if on else 'untick'} {key}", change)

    def tick_next(self) -> None:
        """The first open thing that a person does is done."""
        first = next((item for item in self.items() if item.key and not item.is_done), None)
        if first is not None:
            self._tick(first.key, True)

    # -- the stage --------------------------------------------------------------------------------------------

    def enter(self) -> None:
        """The part with the faces that need something."""
        super().enter()
        self.desk.shop.open(self.show_results)

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
        return self._logbook.artefact

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
