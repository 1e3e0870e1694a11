"""Brief: what is to be measured, against what, for whom and by which rule."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from pydantic import ValidationError
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from juxtum.desk.action import Action
from juxtum.desk.kind_form import KindForm
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.stations.base import Station
from juxtum.desk.widgets import Facts, LengthField, button, form, label, line, row
from juxtum.errors import InputError
from juxtum.evaluate.kinds import Kind, Profile
from juxtum.exchange.documents import validation_sentence
from juxtum.guide.findings import Key, short, thousands
from juxtum.instruments import Coating, Instrument, Origin
from juxtum.job import Job
from juxtum.job.planning import planned_instrument, with_circumstances
from juxtum.scene.drawables import face_surface
from juxtum.scene.map_layers import MAP_LAYERS
from juxtum.scene.stage import Hit, Shown
from juxtum.wording import tolerance

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


def _changed(job: Job, name: str, made: Kind) -> Job:
    return job.model_copy(update={"procedure": job.procedure.with_characteristic_changed(name, made)})


def _earlier(job: Job, name: str) -> Job:
    return job.model_copy(update={"procedure": job.procedure.with_characteristic_earlier(name)})


class BriefStation(Station):
    """The worksheet of Brief."""

    key = Key.BRIEF

    def build(self) -> None:
        """Files, characteristics, cover fields, instrument and room."""
        self._chosen: tuple[int, ...] = ()
        self._changed = ""
        """Number of the characteristic that is being changed."""
        self._files = Facts("Files")
        self.body.addWidget(self._files)
        self.body.addLayout(
            row(
                button("Import CAD model\u2026", lambda: self.desk.perform("bring nominal")),
                button("Import scan\u2026", lambda: self.desk.perform("bring scan")),
            )
        )
        self.body.addWidget(line())
        self._build_characteristics()
        self.body.addWidget(line())
        self._build_cover()

    def _build_characteristics(self) -> None:
        self.body.addWidget(label("Characteristic", "heading"))
        self._form = KindForm()
        self._form.changed.connect(lambda: self._show_chosen())
        self.body.addWidget(self._form)
        self._faces = label("", "soft", wrap=True)
        self._faces.setAccessibleName("Chosen faces")
        self.body.addWidget(self._faces)
        self._seen = LengthField(
            "Seen at least, %", 90.0, "per cent of its area that must have been seen before it is decided"
        )
        self.body.addLayout(form([("Seen at least, %", self._seen)]))
        self._number, self._title = QLineEdit(), QLineEdit()
        self._number.setAccessibleName("Number")
        self._number.setMaxLength(80)
        self._number.setPlaceholderText("next")
        self._title.setAccessibleName("Title")
        self._title.setMaxLength(200)
        self._title.setPlaceholderText("what the drawing calls it")
        self.body.addLayout(form([("Number", self._number), ("Title", self._title)]))
        self._pick = button("Pick faces", self._toggle_pick, tip="Click faces of the nominal on the stage")
        self._pick.setCheckable(True)
        self._put = button("Add characteristic", self._add)
        self.body.addLayout(row(self._pick, self._put))
        self._list = QVBoxLayout()
        self._list.setSpacing(2)
        self.body.addLayout(self._list)

    def _build_cover(self) -> None:
        self.body.addWidget(label("On the cover of the report", "heading"))
        self._fields: dict[str, QLineEdit] = {}
        rows: list[tuple[str, QWidget]] = []
        for name, title in FIELDS:
            field = QLineEdit()
            field.setAccessibleName(title)
            field.setMaxLength(500)
            field.editingFinished.connect(self._brief_setter(name))
            self._fields[name] = field
            rows.append((title, field))
        self.body.addLayout(form(rows))
        self.body.addWidget(line())
        self.body.addWidget(label("How it was measured", "heading"))
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
        self.body.addLayout(form(rows))
        planned = button("As planned", self._take_planned, tip="The instrument and chain of the plan")
        self.body.addLayout(
            row(
                planned, button("Not known", self._forget_instrument, tip="Values without uncertainty, nothing decided")
            )
        )

    def _brief_setter(self, name: str) -> Callable[[], None]:
        def change() -> None:
            text = self._fields[name].text()
            if text != getattr(self.session.job.brief, name):
                self._edit_brief(f"{name} on the cover", {name: text})

        return change

    def _edit_brief(self, title: str, update: dict[str, object]) -> None:
        def change(job: Job) -> Job:
            return job.model_copy(update={"brief": job.brief.model_copy(update=update)})

        self.session.edit(title, change)

    def _set_instrument(self) -> None:
        """State the instrument as soon as its name or both its errors are typed; half an instrument is none."""
        name = self._instrument.text().strip()[:200]
        a, b = (self._numbers[key].stated for key in ("a", "b"))
        held = self.session.job.circumstances.instrument
        if a is None or b is None:
            return
        update = {"a": a, "b": b} | ({"name": name} if name else {})
        made = Instrument(**update) if held is None else held.model_copy(update=update)
        if made != held:
            self.session.edit("instrument", lambda job: with_circumstances(job, instrument=made))

    def _set_coat(self) -> None:
        """State the coat that was on the part when it was scanned elsewhere; none when its thickness is 0."""
        thickness, spread = (self._numbers[name].stated or 0.0 for name in ("thickness", "spread"))
        coats = (Coating(name="coat", thickness=thickness, spread=spread),) if thickness > 0 else ()
        if coats != self.session.job.circumstances.coats:
            self.session.edit("coat on the part", lambda job: with_circumstances(job, coats=coats))

    def _take_planned(self) -> None:
        made = planned_instrument(self.session.job)
        if made is None:
            self.desk.tell("there is no plan yet", "instrument", "Plan first, or type what it was measured with")
        else:
            self.session.edit("instrument as planned", lambda job: with_circumstances(job, instrument=made))

    def _forget_instrument(self) -> None:
        self.session.edit("instrument not known", lambda job: with_circumstances(job, instrument=None))

    def _number_setter(self, part: str, name: str, low: float, high: float) -> Callable[[float], None]:
        def change(value: float) -> None:
            value = min(max(value, low), high)
            if part != "environment":
                self._numbers[name].set_value(value)
                self._set_instrument() if part == "instrument" else self._set_coat()
                return
            room = self.session.job.circumstances.environment.model_copy(update={name: value})
            self.session.edit(name.replace("_u", " uncertainty"), lambda job: with_circumstances(job, environment=room))

        return change

    def _toggle_pick(self) -> None:
        if self._pick.isChecked():
            self.view.set_mode(Mode.PICK, "Click faces of the nominal; click again to let one go; Esc ends")
        else:
            self.view.set_mode(Mode.LOOK)

    def leave(self) -> None:
        """Stop picking."""
        super().leave()
        self._pick.setChecked(False)
        self._end_change()
        self.view.put("marked", None)

    def picked(self, hit: Hit) -> None:
        """Choose a face or let it go."""
        d = self.derived
        if not self._pick.isChecked() or hit.layer != "nominal" or d.nominal is None:
            return
        number = int(d.nominal.triangle_faces[hit.triangle]) + 1
        chosen = set(self._chosen) ^ {number}
        self._chosen = tuple(sorted(chosen))
        self._show_chosen()

    def _show_chosen(self) -> None:
        d = self.derived
        marked = face_surface(d.nominal, self._chosen) if self._chosen and d.nominal else None
        self.view.put("marked", marked)
        if d.nominal is None:
            self._faces.setText("Needs a nominal.")
        elif not self._chosen and self._form.kind.needs_faces:
            self._faces.setText("Needs a face: pick it on the nominal.")
        elif not self._chosen:
            self._faces.setText("For the whole part. Pick faces to limit it to them.")
        else:
            self._faces.setText("For " + "; ".join(d.nominal.face(n).title for n in self._chosen) + ".")

    def _add(self) -> None:
        name, procedure = self._changed, self.session.job.procedure
        number = self._number.text().strip() or name or procedure.next_number
        try:
            made = self._made(number)
        except InputError as problem:
            self.desk.tell(problem.what, problem.where, problem.next)
            return
        if name:
            self._end_change()
            self.session.edit(f"change characteristic {name}", lambda job: _changed(job, name, made))
            return
        if any(c.id == number for c in procedure.characteristics):
            self.desk.tell(
                f"there is a characteristic {number} already",
                "characteristic",
                "Choose another number, or change that one",
            )
            return
        self._end_change()
        self.session.add(made, f"add characteristic {number}")

    def _made(self, number: str) -> Kind:
        """The characteristic as it is typed and picked.

        Raises
        ------
        InputError
            When it is none, or its faces do not serve.
        """
        kind, nominal = self._form.kind, self.derived.nominal
        if kind.needs_faces and not self._chosen:
            raise InputError(f"{kind.name} needs a face", "characteristic", "Pick faces of the nominal first")
        names = ", ".join(str(n) for n in self._chosen)
        usual = (
            f"{kind.short}, whole part"
            if not self._chosen
            else f"{kind.short}, face{'s' if len(self._chosen) > 1 else ''} {names}"
        )
        common = {"id": number, "title": self._title.text().strip() or usual[:200], "faces": self._chosen}
        least = min(max(self._seen.value, 0.0), 100.0) / 100
        try:
            made = kind.model_validate({**common, "least_seen": least, **self._form.values})
        except ValidationError as problem:
            raise InputError(validation_sentence(problem), "characteristic", "Type another value") from problem
        if nominal is not None:
            made.check(nominal)
        return made

    def _begin_change(self, step: Kind) -> None:
        """Put a characteristic into the fields above, to be changed there."""
        self._changed, self._chosen = step.id, step.faces
        self._number.setText(step.id)
        self._title.setText(step.title)
        self._form.show_characteristic(step)
        self._seen.set_value(100 * step.least_seen)
        self._put.setText(f"Change characteristic {step.id}")
        self._show_chosen()

    def _end_change(self) -> None:
        self._changed, self._chosen = "", ()
        self._number.clear()
        self._title.clear()
        self._put.setText("Add characteristic")

    def own_actions(self) -> tuple[Action, ...]:
        """A first characteristic."""
        return (
            Action("add whole profile", "Add the profile of the whole part", "Job/Brief/1", self.add_whole_profile, "", "plus", "",
                   lambda: self.derived.nominal is not None),
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
        if d.scan is not None and job.scan is not None and d.loaded is not None:
            facts += [("scan", short(job.scan.name)), ("as scanned", f"{thousands(len(d.loaded.scan.points))} points")]
        self._files.show_facts(facts)
        for name, field in self._fields.items():
            if not field.hasFocus():
                field.setText(getattr(job.brief, name))
                field.setCursorPosition(0)
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
        self._show_chosen()
        self._show_characteristics()

    def _show_characteristics(self) -> None:
        while item := self._list.takeAt(0):
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for step in self.session.job.procedure.characteristics:
            holder = QWidget()
            inner = QHBoxLayout(holder)
            inner.setContentsMargins(0, 0, 0, 0)
            words = label(f"{step.id}  {step.title}  {tolerance(step.limits.lower, step.limits.upper)}", "soft")
            words.setToolTip(words.text())
            inner.addWidget(words, 1)
            earlier = button("\u2191", partial(self._move_up, step.id), "plain", "One place up")
            earlier.setAccessibleName(f"Move characteristic {step.id} up")
            inner.addWidget(earlier)
            change = button("change", partial(self._begin_change, step), "plain")
            change.setAccessibleName(f"Change characteristic {step.id}")
            inner.addWidget(change)
            remove = button("remove", partial(self._remove, step), "plain")
            remove.setAccessibleName(f"Remove characteristic {step.id}")
            inner.addWidget(remove)
            self._list.addWidget(holder)

    def _move_up(self, name: str) -> None:
        self.session.edit(f"move characteristic {name}", lambda job: _earlier(job, name))

    def _remove(self, step: Kind) -> None:
        self.session.edit(f"remove characteristic {step.id}", lambda job: job.without(step))

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
