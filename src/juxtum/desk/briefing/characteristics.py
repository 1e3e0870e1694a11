"""The characteristics of the drawing: typed, picked on the nominal, changed, put in order."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from juxtum.desk.briefing.typed_line import TypedLine
from juxtum.desk.kind_form import KindForm
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.widgets import LengthField, button, column, form, label, row
from juxtum.errors import InputError
from juxtum.evaluate.drawing_words import modifier_words, typed
from juxtum.evaluate.drawn.references import pattern_words
from juxtum.evaluate.kinds import Kind, Toleranced
from juxtum.evaluate.kinds.size import Sized
from juxtum.exchange.documents import validation_sentence
from juxtum.guide.verdicts import limit_words
from juxtum.job import Job
from juxtum.job.drawn import known_datums, known_sizes
from juxtum.job.procedure import with_characteristic_earlier
from juxtum.scene.drawables import face_surface
from juxtum.scene.picking import Hit

if TYPE_CHECKING:
    from juxtum.desk.stations.base import Station


def _changed(job: Job, name: str, made: Kind) -> Job:
    return job.model_copy(update={"procedure": job.procedure.with_characteristic_changed(name, made)})


def _earlier(job: Job, name: str) -> Job:
    return job.model_copy(update={"procedure": with_characteristic_earlier(job.procedure, name)})


class CharacteristicsPanel(QWidget):
    """One characteristic in fields to be added or changed, and the list of all.

    Parameters
    ----------
    station : Station
        Where it stands: gives the job and the stage.
    """

    def __init__(self, station: Station) -> None:
        super().__init__()
        self._station, self._view, self._session = station, station.view, station.session
        self._chosen: tuple[int, ...] = ()
        self._changed = ""
        """Number of the characteristic that is being changed."""
        self._lines = column(self)
        self._build()

    def _build(self) -> None:
        self._form = KindForm()
        self._form.changed.connect(self._take_kind)
        for widget in (label("Characteristic", "heading"), TypedLine(self._station), self._form):
            self._lines.addWidget(widget)
        self._faces = label("", "soft", wrap=True)
        self._faces.setAccessibleName("Chosen faces")
        self._lines.addWidget(self._faces)
        self._build_drawn()
        self._seen = LengthField(
            "Seen at least, %", 90.0, "per cent of its area that must have been seen before it is decided"
        )
        self._lines.addLayout(form([("Seen at least, %", self._seen)]))
        self._number, self._title = QLineEdit(), QLineEdit()
        self._number.setAccessibleName("Number")
        self._number.setMaxLength(80)
        self._number.setPlaceholderText("next")
        self._title.setAccessibleName("Title")
        self._title.setMaxLength(200)
        self._title.setPlaceholderText("what the drawing calls it")
        self._lines.addLayout(form([("Number", self._number), ("Title", self._title)]))
        self._pick = button("Pick faces", self._toggle_pick, tip="Click faces of the nominal on the stage")
        self._pick.setCheckable(True)
        self._put = button("Add characteristic", self._add)
        self._lines.addLayout(row(self._pick, self._put))
        self._list = QVBoxLayout()
        self._list.setSpacing(2)
        self._lines.addLayout(self._list)

    def _build_drawn(self) -> None:
        """Features, datums and modifiers, as on a drawing."""
        self._features, self._datums, self._modifier = QLineEdit(), QLineEdit(), QLineEdit()
        fields = (
            (self._features, "Features", "51, or 14+15, 9|13, 69;70", "Numbers of faces; picking writes them"),
            (self._datums, "Datums", "A|B|C, or faces 14|51|16", "Or none; with targets: 14 at 10 20 0 d8"),
            (self._modifier, "Modifiers", "d M, two-point, ...", "Words as docs/drawing-format.md has them"),
        )
        for field, name, example, tip in fields:
            field.setAccessibleName(name)
            field.setPlaceholderText(example)
            field.setToolTip(tip)
            field.setMaxLength(400)
        self._drawn = QWidget()
        inner = QVBoxLayout(self._drawn)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.addLayout(form([(field.accessibleName(), field) for field, *_ in fields]))
        self._lines.addWidget(self._drawn)

    @property
    def is_picking(self) -> bool:
        """Whether a click on the stage chooses a face."""
        return self._pick.isChecked()

    def show_job(self) -> None:
        """The faces chosen and the list, as the job is now."""
        self._show_chosen()
        self._show_characteristics()

    def leave(self) -> None:
        """Stop picking and changing."""
        self._pick.setChecked(False)
        self._end_change()
        self._view.put("marked", None)

    def _toggle_pick(self) -> None:
        if self._pick.isChecked():
            self._view.set_mode(Mode.PICK, "Click faces of the nominal; click again to let one go; Esc ends")
        else:
            self._view.set_mode(Mode.LOOK)

    def picked(self, hit: Hit) -> None:
        """Choose a face or let it go."""
        d = self._station.derived
        if not self._pick.isChecked() or hit.layer != "nominal" or d.nominal is None:
            return
        number = int(d.nominal.triangle_faces[hit.triangle]) + 1
        chosen = set(self._chosen) ^ {number}
        self._chosen = tuple(sorted(chosen))
        self._features.setText(("|" if self._is_of_two else "+").join(map(str, self._chosen)))
        self._show_chosen()

    @property
    def _is_of_two(self) -> bool:
        kind = self._form.kind
        return issubclass(kind, Toleranced) and kind.pairs

    def _take_kind(self) -> None:
        """Another kind: what it asks for, and how much of it must be seen."""
        self._seen.set_value(round(100 * float(self._form.kind.model_fields["least_seen"].default), 1))
        self._show_chosen()

    def _show_chosen(self) -> None:
        d = self._station.derived
        self._drawn.setVisible(issubclass(self._form.kind, Toleranced))
        marked = face_surface(d.nominal, self._chosen) if self._chosen and d.nominal else None
        self._view.put("marked", marked)
        if d.nominal is None:
            self._faces.setText("Needs a nominal.")
        elif not self._chosen and self._form.kind.needs_faces:
            self._faces.setText("Needs a face: pick it on the nominal.")
        elif not self._chosen:
            self._faces.setText("For the whole part. Pick faces to limit it to them.")
        else:
            self._faces.setText("For " + "; ".join(d.nominal.face(n).title for n in self._chosen) + ".")

    def _add(self) -> None:
        name, procedure = self._changed, self._session.job.procedure
        number = self._number.text().strip() or name or procedure.next_number
        try:
            made = self._made(number)
        except InputError as problem:
            self._station.desk.tell(problem.what, problem.where, problem.next)
            return
        if name:
            self._end_change()
            self._session.edit(f"change characteristic {name}", lambda job: _changed(job, name, made))
            return
        if any(c.id == number for c in procedure.characteristics):
            self._station.desk.tell(
                f"there is a characteristic {number} already",
                "characteristic",
                "Choose another number, or change that one",
            )
            return
        self._end_change()
        self._session.add(made, f"add characteristic {number}")

    def _made(self, number: str) -> Kind:
        """The characteristic as it is typed and picked.

        Raises
        ------
        InputError
            When it is none, or its faces do not serve.
        """
        kind, nominal = self._form.kind, self._station.derived.nominal
        drawn = self._typed(kind)
        chosen = tuple(face for member in drawn.get("features", ()) for of in member for face in of) or self._chosen
        if kind.needs_faces and not chosen:
            raise InputError(f"{kind.name} needs a face", "characteristic", "Pick faces of the nominal first")
        names = ", ".join(str(n) for n in chosen)
        usual = (
            f"{kind.short}, whole part" if not chosen else f"{kind.short}, face{'s' if len(chosen) > 1 else ''} {names}"
        )
        common = {"id": number, "title": self._title.text().strip() or usual[:200], "faces": chosen}
        least = min(max(self._seen.value, 0.0), 100.0) / 100
        try:
            made = kind.model_validate({**common, "least_seen": least, **self._form.values, **drawn})
        except ValidationError as problem:
            raise InputError(validation_sentence(problem), "characteristic", "Type another value") from problem
        if nominal is not None:
            made.check(nominal)
        return made.resolved(nominal) if isinstance(made, Sized) and nominal is not None else made

    def _typed(self, kind: type[Kind]) -> dict[str, Any]:
        """What is typed as on a drawing.

        Raises
        ------
        InputError
        """
        if not issubclass(kind, Toleranced):
            before = self._before
            same = isinstance(before, kind) and "criterion" in kind.model_fields
            return {"criterion": before.criterion} if same else {}  # type: ignore[union-attr]
        texts = {
            "features": self._features.text().strip(),
            "datums": self._datums.text(),
            "modifier": self._modifier.text(),
        }
        if not texts["features"]:
            raise InputError(f"{kind.name} needs a face", "characteristic", "Pick faces of the nominal first")
        values = typed(kind, texts, known_datums(self._session.job), known_sizes(self._session.job))
        before = self._before
        return values | ({"nominal": before.nominal} if isinstance(before, Sized) and isinstance(before, kind) else {})

    @property
    def _before(self) -> Kind | None:
        """The characteristic that is being changed."""
        return next((c for c in self._session.job.procedure.characteristics if c.id == self._changed), None)

    def _begin_change(self, step: Kind) -> None:
        """Put a characteristic into the fields above, to be changed there."""
        self._changed, self._chosen = step.id, step.faces
        self._number.setText(step.id)
        self._title.setText(step.title)
        self._form.show_characteristic(step)
        if isinstance(step, Toleranced):
            self._features.setText(pattern_words(step.members))
            self._datums.setText("|".join(datum.letter for datum in step.datums))
            self._modifier.setText(modifier_words(step))
        self._seen.set_value(round(100 * step.least_seen, 1))
        self._put.setText(f"Change characteristic {step.id}")
        self._show_chosen()

    def _end_change(self) -> None:
        self._changed, self._chosen = "", ()
        self._number.clear()
        self._title.clear()
        for field in (self._features, self._datums, self._modifier):
            field.clear()
        self._put.setText("Add characteristic")

    def _show_characteristics(self) -> None:
        while item := self._list.takeAt(0):
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for step in self._session.job.procedure.characteristics:
            holder = QWidget()
            inner = QHBoxLayout(holder)
            inner.setContentsMargins(0, 0, 0, 0)
            words = label(f"{step.id}  {step.title}  {limit_words(step.limits)}", "soft")
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
        self._session.edit(f"move characteristic {name}", lambda job: _earlier(job, name))

    def _remove(self, step: Kind) -> None:
        self._session.edit(f"remove characteristic {step.id}", lambda job: job.without(step))
