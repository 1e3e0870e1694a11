"""What stands on the cover, and how it was measured: instrument, room, coat."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QLineEdit, QWidget

from juxtum.desk.widgets import Choice, LengthField, button, column, form, label, line, row
from juxtum.instruments import Coating, Instrument, Origin
from juxtum.instruments.materials import MATERIALS, material_named
from juxtum.job import Job
from juxtum.job.planning import planned_instrument, with_circumstances, with_material

if TYPE_CHECKING:
    from juxtum.desk.stations.base import Station

FIELDS = (
    ("part", "Part"), ("serial", "Serial"), ("drawing", "Drawing"), ("customer", "Customer"), ("operator", "Operator"),
    ("date", "Date"), ("note", "Note"),
)  # fmt: skip
ROOM = (
    ("temperature", "Temperature, \u00b0C", -40.0, 120.0), ("temperature_u", "Temperature uncertainty (1 s.d.), \u00b0C", 0.0, 20.0),
    ("expansion", "Expansion, 1e-6/K", 0.0, 200.0),
)  # fmt: skip
COAT = (("thickness", "Coat, mm", 0.0, 10.0), ("spread", "Coat uncertainty \u00b1, mm", 0.0, 10.0))
GAUGE = (("a", "Error a, mm", 0.0, 10.0), ("b", "Error b, mm/m", 0.0, 10.0))


class CoverPanel(QWidget):
    """Fields of the cover and of the circumstances.

    Parameters
    ----------
    station : Station
        Where it stands: gives the job.
    """

    def __init__(self, station: Station) -> None:
        super().__init__()
        self._station, self._session = station, station.session
        self._lines = column(self)
        self._build()

    def _build(self) -> None:
        self._lines.addWidget(label("On the cover of the report", "heading"))
        self._fields: dict[str, QLineEdit] = {}
        rows: list[tuple[str, QWidget]] = []
        for name, title in FIELDS:
            field = QLineEdit()
            field.setAccessibleName(title)
            field.setMaxLength(500)
            field.editingFinished.connect(self._brief_setter(name))
            self._fields[name] = field
            rows.append((title, field))
        self._material = Choice("Material")
        self._material.setToolTip("Mass, soaking, the correction of temperature and the cabinet count with it")
        self._material.picked.connect(self._set_material)
        rows.append(("Material", self._material))
        self._lines.addLayout(form(rows))
        self._lines.addWidget(line())
        self._lines.addWidget(label("How it was measured", "heading"))
        self._instrument = QLineEdit()
        self._instrument.setAccessibleName("Instrument")
        self._instrument.editingFinished.connect(self._set_instrument)
        rows = [("Instrument", self._instrument)]
        self._numbers: dict[str, LengthField] = {}
        for part, table in (("instrument", GAUGE), ("environment", ROOM), ("coat", COAT)):
            for name, title, low, high in table:
                field = LengthField(title, 0.0, f"{title}, from {low:g} to {high:g}")
                field.missing = "none" if part == "coat" else field.missing
                field.set_value(None)
                field.chosen.connect(self._number_setter(part, name, low, high))
                self._numbers[name] = field
                rows.append((title, field))
        self._lines.addLayout(form(rows))
        planned = button("As planned", self._take_planned, tip="The instrument and method of the plan")
        self._lines.addLayout(
            row(
                planned, button("Not known", self._forget_instrument, tip="Values without uncertainty, nothing decided")
            )
        )

    def _brief_setter(self, name: str) -> Callable[[], None]:
        def change() -> None:
            text = self._fields[name].text()
            if text != getattr(self._session.job.brief, name):
                self._edit_brief(f"{name} on the cover", {name: text})

        return change

    def _edit_brief(self, title: str, update: dict[str, object]) -> None:
        def change(job: Job) -> Job:
            return job.model_copy(update={"brief": job.brief.model_copy(update=update)})

        self._session.edit(title, change)

    def _set_material(self, name: str) -> None:
        """The part is of this material: its expansion is taken from the table, and can be typed over."""
        if name != self._session.job.brief.material:
            self._session.edit("material", lambda job: with_material(job, material_named(name)))

    def _set_instrument(self) -> None:
        """State the instrument as soon as its name or both its errors are typed; half an instrument is none."""
        name = self._instrument.text().strip()[:200]
        a, b = (self._numbers[key].stated for key in ("a", "b"))
        held = self._session.job.circumstances.instrument
        if a is None or b is None:
            return
        update = {"a": a, "b": b} | ({"name": name} if name else {})
        made = Instrument(**update) if held is None else held.model_copy(update=update)
        if made != held:
            self._session.edit("instrument", lambda job: with_circumstances(job, instrument=made))

    def _set_coat(self) -> None:
        """State the coat that was on the part when it was scanned elsewhere; none when its thickness is 0."""
        thickness, spread = (self._numbers[name].stated or 0.0 for name in ("thickness", "spread"))
        coats = (Coating(name="coat", thickness=thickness, spread=spread),) if thickness > 0 else ()
        if coats != self._session.job.circumstances.coats:
            self._session.edit("coat on the part", lambda job: with_circumstances(job, coats=coats))

    def _take_planned(self) -> None:
        made = planned_instrument(self._session.job)
        if made is None:
            self._station.desk.tell(
                "there is no plan yet", "instrument", "Plan first, or type what it was measured with"
            )
        else:
            self._session.edit("instrument as planned", lambda job: with_circumstances(job, instrument=made))

    def _forget_instrument(self) -> None:
        self._session.edit("instrument not known", lambda job: with_circumstances(job, instrument=None))

    def _number_setter(self, part: str, name: str, low: float, high: float) -> Callable[[float], None]:
        def change(value: float) -> None:
            value = min(max(value, low), high)
            if part != "environment":
                self._numbers[name].set_value(value)
                self._set_instrument() if part == "instrument" else self._set_coat()
                return
            room = self._session.job.circumstances.environment.model_copy(update={name: value})
            self._session.edit(
                name.replace("_u", " uncertainty"), lambda job: with_circumstances(job, environment=room)
            )

        return change

    def show_job(self, job: Job) -> None:
        """The fields as the job has them; what is being typed stays."""
        for name, field in self._fields.items():
            if not field.hasFocus():
                field.setText(getattr(job.brief, name))
                field.setCursorPosition(0)
        self._material.show_options([("", "not chosen"), *((name, name) for name in MATERIALS)], job.brief.material)
        how = job.circumstances
        self._instrument.setPlaceholderText("not stated")
        if not self._instrument.hasFocus():
            self._instrument.setText(how.instrument.name if how.instrument else "")
            self._instrument.setCursorPosition(0)
        coat = how.coats[0] if how.coats else None
        for name, number in self._numbers.items():
            held = (
                how.instrument if name in ("a", "b") else coat if name in ("thickness", "spread") else how.environment
            )
            if held is coat:
                # Of a capture the coats are known from Ready, with their faces and hours.
                number.setEnabled(how.origin is Origin.FOREIGN)
            half_typed = held is None and number.stated is not None
            if not number.hasFocus() and not half_typed:
                number.set_value(None if held is None else getattr(held, name))
