"""A drawing's characteristics from what the CAD model itself states of its faces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.errors import InputError
from juxtum.evaluate.drawing import characteristic_of, checked_row, datums_of, sizes_of
from juxtum.evaluate.drawing_words import Row, Rules
from juxtum.evaluate.drawn.datum_targets import faces_under
from juxtum.evaluate.drawn.references import Datum, datum_words
from juxtum.evaluate.kinds import Kind, NotTaken, kind_of
from juxtum.evaluate.kinds.size import Sized
from juxtum.exchange.model_line import ModelLine
from juxtum.geometry import Plane
from juxtum.nominal import Nominal
from juxtum.nominal.common import common_feature

OF_TWO = ("distance", "angle")
WHOLE = ("profile-surface", "profile-line")
"""Faces of one zone, whatever surfaces they lie on."""
BETWEEN = ("position", "symmetry", "parallelism", "perpendicularity", "angularity", "datum", "thickness")
"""Of two sides that face each other it is the middle plane that counts."""
APART = 0.01
"""A stated size farther than this share from the model's own is not one of it."""
MOST_NAMED = 200
"""More lines that were left out share one."""
Members = list[tuple[int, ...]]


@dataclass(frozen=True)
class ModelDrawing:
    """What a model asks for, and a sentence for each line of it that is left out.

    Parameters
    ----------
    characteristics : tuple of Kind
    left : tuple of str
    """

    characteristics: tuple[Kind, ...]
    left: tuple[str, ...]

    @property
    def lines(self) -> tuple[Kind, ...]:
        """The characteristics, and a line for each that was left out: what nobody measured must not be forgotten."""
        first = 1 + max((int(one.id) for one in self.characteristics), default=0)
        named = self.left[:MOST_NAMED]
        if more := self.left[MOST_NAMED:]:
            named = (*named, f"{len(more)} more lines of the model: {more[0]}, and others")
        return (*self.characteristics, *(_not_taken(str(first + k), sentence) for k, sentence in enumerate(named)))


def model_drawing(nominal: Nominal, rules: Rules = Rules.ISO, first: int = 1) -> ModelDrawing:
    """The characteristics that a CAD model states; ids count from `first`.

    Raises
    ------
    InputError
        When it states none.
    """
    made: list[Kind] = []
    left = [*nominal.unread]
    if not nominal.lines:
        raise InputError(
            "the model states no tolerances that could be read",
            "; ".join(left[:3]),
            "Export it as STEP AP242 with semantic tolerances, or give the drawing as a table",
        )
    datums: dict[str, Datum] = {}
    rows: list[tuple[ModelLine, Row]] = []
    for line in nominal.lines:
        try:
            row = _row(line, nominal, str(first + len(rows)))
            if line.kind == "datum":
                datums |= _new(datums_of([row], nominal), datums)
            else:
                sizes_of([row], nominal, rules)
                rows.append((line, row))
        except InputError as problem:
            left.append(_left(line, problem))
    sizes = sizes_of([row for _, row in rows], nominal, rules)
    for line, row in rows:
        try:
            one = characteristic_of(row, datums, nominal, rules, sizes)
            checked_row(row, one, nominal)
            _is_of_the_model(line, one, nominal)
        except InputError as problem:
            left.append(_left(line, problem))
        else:
            made.append(one.model_copy(update={"id": str(first + len(made))}))
    return ModelDrawing(tuple(made), tuple(left))


def _new(found: dict[str, Datum], known: dict[str, Datum]) -> dict[str, Datum]:
    """Datums that are not known yet; a letter that stands on something else too is none."""
    for letter, datum in found.items():
        if letter in known and known[letter] != datum:
            raise InputError(f"the model has two datums '{letter}'", next="The first one counts")
    return found


def _not_taken(number: str, sentence: str) -> NotTaken:
    name, _, why = sentence.partition(": ")
    if not why:
        name, why = "A line of the model", sentence
    return NotTaken(id=number, title=(name[:1].upper() + name[1:])[:200], why=why[:400])


def _left(line: ModelLine, problem: InputError) -> str:
    of = "+".join(str(face) for face in (*line.first, *line.second)[:6])
    name = f"datum {line.title}" if line.kind == "datum" else f"{line.kind} of {of}"
    return f"{name}: {problem.what}"


def _row(line: ModelLine, nominal: Nominal, number: str) -> Row:
    kind, features = line.kind, _features(line, nominal)
    if kind == "thickness" and "|" in features:
        kind = "width"
    cells = {
        "id": line.title if kind == "datum" else number,
        "kind": kind,
        "features": features,
        "datums": "|".join(line.datums),
        "modifier": " ".join(word for word in line.words if word != "d" or _takes_diameter(kind)),
        "title": "" if kind == "datum" else line.title or _title(kind, line, nominal),
    }
    if line.upper:
        cells |= {"nominal": f"{line.value:.9g}", "upper": line.upper, "lower": line.lower}
    elif kind != "datum":
        cells["upper"] = f"{line.value:.9g}"
    return Row(0, cells)


def _title(kind: str, line: ModelLine, nominal: Nominal) -> str:
    """After the name that its one face has in the model; empty where it has none."""
    name = nominal.face(line.first[0]).name if len(line.first) == 1 and not line.second else ""
    return f"{kind_of(kind).short} {name}" if name else ""


def _takes_diameter(kind: str) -> bool:
    return kind in ("straightness", *BETWEEN, "coaxiality", "concentricity")


def _features(line: ModelLine, nominal: Nominal) -> str:
    """Faces as a drawing's table names them: of one feature, of two, or of a pattern."""
    if line.kind == "datum" and line.words:
        return "+".join(str(face) for face in line.first or faces_under(nominal, datum_words(" ".join(line.words))[1]))
    if line.kind in OF_TWO:
        return "|".join("+".join(str(face) for face in faces) for faces in (line.first, line.second))
    if line.kind in WHOLE:
        return "+".join(str(face) for face in line.first)
    members = _members(line.first, nominal)
    sign = "|" if line.kind in BETWEEN and _are_sides(members, nominal) else ";"
    return sign.join("+".join(str(face) for face in faces) for faces in members)


def _members(faces: tuple[int, ...], nominal: Nominal) -> Members:
    """Faces that lie on one surface belong together."""
    members: Members = []
    for face in faces:
        for place, member in enumerate(members):
            try:
                common_feature(nominal, (*member, face), "")
            except InputError:
                continue
            members[place] = (*member, face)
            break
        else:
            members.append((face,))
    return members


def _are_sides(members: Members, nominal: Nominal) -> bool:
    planes = [nominal.face(faces[0]).feature for faces in members]
    if len(planes) != 2 or not all(isinstance(plane, Plane) for plane in planes):
        return False
    one, two = (plane.normal for plane in planes if isinstance(plane, Plane))
    return bool(np.dot(one, two) < -0.999)


def _is_of_the_model(line: ModelLine, made: Kind, nominal: Nominal) -> None:
    """Refuse a size that the model's own faces do not have: it belongs to something else, or is counted otherwise.

    Raises
    ------
    InputError
    """
    if not isinstance(made, Sized) or line.value is None:
        return
    own = made.model_copy(update={"nominal": None}).resolved(nominal).nominal
    room = max(APART * abs(line.value), made.upper - made.lower)
    if own is not None and abs(own - line.value) > room:
        raise InputError(f"it states {line.value:.6g} where the model's own faces have {own:.6g}")
