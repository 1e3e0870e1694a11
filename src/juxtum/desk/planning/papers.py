"""Documents of a plan: instruments read and written, the set-up sheet."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from juxtum.errors import InputError, JuxtumError
from juxtum.exchange.documents import read_document
from juxtum.instruments.equipment import FORM
from juxtum.instruments.models import Kind, read_instrument_model

if TYPE_CHECKING:
    from juxtum.desk.stations.plan import PlanStation


class Papers:
    """What the station Plan reads from files and writes to them."""

    def __init__(self, station: PlanStation) -> None:
        self._station = station

    def ask_sheet(self) -> None:
        """Ask for a folder and write the set-up sheet."""
        if (path := self._station.desk.asking.folder()) is not None:
            self.write_sheet(path)

    def ask_instrument(self) -> None:
        """Ask for an instrument document and plan with it."""
        if (path := self._station.desk.asking.instrument()) is not None:
            self.load_instrument(path)

    def ask_targets(self) -> None:
        """Ask for a list of targets in part coordinates and plan with them."""
        if (path := self._station.desk.asking.point_list()) is not None:
            self._station.edits.take_list(path)

    def ask_equipment(self) -> None:
        """Ask for a document of equipment and plan with it."""
        if (path := self._station.desk.asking.instrument()) is None:
            return
        try:
            made = read_document(path, FORM)
        except JuxtumError as problem:
            self._station.session.failed.emit(problem)
            return
        self._station.edits.put_on(made)

    def ask_instrument_copy(self) -> None:
        """Ask where the instrument's document goes and write it."""
        if (path := self._station.desk.asking.instrument_copy(f"{self._station.plan.instrument.id}.json")) is not None:
            self.save_instrument(path)

    def load_instrument(self, path: Path) -> None:
        """Plan with an instrument from a document."""
        try:
            model = read_instrument_model(path)
            if model.kind not in (Kind.HANDHELD, Kind.TRACKED):
                raise InputError(
                    "this is not an instrument that scans by hand or tracked",
                    str(path),
                    "Give a handheld or tracked scanner",
                )
        except JuxtumError as problem:
            self._station.session.failed.emit(problem)
            return
        self._station.change(f"scanner {model.name}", {"instrument": model, "mode": "", "chain": "", "spacing": None})

    def save_instrument(self, path: Path) -> None:
        """Write the instrument's document, to be edited."""
        from juxtum.exchange.writing import write_atomically

        text = self._station.plan.instrument.model_dump_json(by_alias=True, indent=1, exclude_none=True)
        self._station.session.compute(
            lambda _: write_atomically(path, lambda target: target.write_text(text + "\n", "utf-8")),
            lambda _: self._station.desk.announce(f"The instrument is in {path}"),
        )

    def write_sheet(self, folder: Path) -> None:
        """Write the set-up sheet and its table into a folder."""
        from juxtum.report.setup_sheet import write_setup_sheet

        planner, job = self._station.planner, self._station.derived.job
        if planner is None or not planner.plan.is_tracked:
            self._station.desk.tell("the plan has no targets yet", "set-up sheet", "Plan the targets first")
            return
        self._station.session.compute(
            lambda _: write_setup_sheet(folder, job, replace(planner)),
            lambda _: self._station.desk.announce(f"The set-up sheet is in {folder}"),
        )
