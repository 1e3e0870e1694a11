"""What the surface needs before it is scanned, and how warm the part is."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QWidget

from juxtum.desk.widgets import LengthField, column, form, label
from juxtum.instruments.coats import COATS
from juxtum.job.planning import with_room, with_temperature
from juxtum.plan.cost.preparing import coat_uncertainty, soak_minutes, surface_advice
from juxtum.plan.planner import Planner

if TYPE_CHECKING:
    from juxtum.desk.stations.ready import ReadyStation


class SurfacePanel(QWidget):
    """Advice for each finish, the temperatures, and how long to wait.

    Parameters
    ----------
    station : ReadyStation
        Where it stands: gives the job, its planner and the logbook.
    """

    def __init__(self, station: ReadyStation) -> None:
        super().__init__()
        self._station = station
        lines = column(self)
        lines.addWidget(label("Surface and temperature", "heading"))
        self._surface = label("", "", wrap=True)
        self._surface.setAccessibleName("Surface advice")
        lines.addWidget(self._surface)
        self._part_t = LengthField("Part temperature", 20.0, "degrees Celsius; lengths are corrected to 20 from it")
        self._part_t.chosen.connect(self._set_temperature)
        self._room_t = LengthField("Room temperature", 20.0, "degrees Celsius")
        self._room_t.chosen.connect(self._set_room)
        for field in (self._part_t, self._room_t):
            field.chosen.connect(lambda _: self._show_soak())
        lines.addLayout(form([("Part, \u00b0C", self._part_t), ("Room, \u00b0C", self._room_t)]))
        self._soak = label("", "soft", wrap=True)
        self._soak.setAccessibleName("Soak time")
        lines.addWidget(self._soak)

    def show_job(self, planner: Planner) -> None:
        """Advice and temperatures as the job has them; what is being typed stays."""
        self._show_surface(planner)
        if not self._part_t.hasFocus():
            self._part_t.set_value(self._station.derived.job.circumstances.environment.temperature)
        if not self._room_t.hasFocus():
            self._room_t.set_value(self._station.derived.job.circumstances.environment.instrument_temperature)
        self._show_soak()

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
        planner = self._station.planner
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
        minutes = soak_minutes(mass, planner.nominal.area, difference, capacity=planner.task.capacity)
        words = "ready now" if minutes == 0 else f"wait about {minutes:.0f} min until it is within 0.5 K"
        self._soak.setText(f"{mass:.1f} kg, {abs(difference):.1f} K off: {words}.")

    def _set_room(self, value: float) -> None:
        """The temperature of the room: it says how long the part soaks, and whether what was calibrated still holds."""
        if not -40 <= value <= 60:
            self._station.desk.tell(
                f"{value:g} \u00b0C is no temperature of a room", "Ready", "Give one from -40 to 60"
            )
            self._station.show_results()
            return
        self._station.session.edit("temperature of the room", lambda job: with_room(job, value))

    def _set_temperature(self, value: float) -> None:
        """The temperature of the part as it is measured; all lengths are corrected with it."""
        if not -40 <= value <= 120:
            self._station.desk.tell(
                f"{value:g} \u00b0C is no temperature of a part", "Ready", "Give one from -40 to 120"
            )
            self._station.show_results()
            return
        self._station.session.edit("temperature of the part", lambda job: with_temperature(job, value))
