"""The registry of steps: every kind is documented, survives the document, and refuses what cannot be."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest
from pydantic import TypeAdapter, ValidationError

from juxtum.errors import InputError
from juxtum.evaluate.kinds import KINDS
from juxtum.exchange.documents import Form, parse_document, read_document
from juxtum.instruments import Instrument
from juxtum.instruments.models import InstrumentModel
from juxtum.job import Procedure
from juxtum.job.steps import STEPS, Step
from juxtum.job.store import ProcedureFile
from juxtum.plan.document import Plan

pytestmark = pytest.mark.quick
STEP: TypeAdapter[Any] = TypeAdapter(Step)
FORMAT = (Path(__file__).parents[1] / "docs" / "job-format.md").read_text("utf-8")
VIEW = [1.0 if k % 5 == 0 else 0.0 for k in range(16)]
PLACES = [[0, 0, 0], [1, 0, 0], [0, 1, 0]]
PRINT = {"number": 3, "kind": "plane", "area": 12.0, "middle": [1, 2, 3], "point": [1, 2, 3]}
GOOD: dict[str, list[dict[str, Any]]] = {
    "entities": [
        {
            "level": {"place": [1, 2, 3]},
            "towards": {"place": [0, 0, 1], "element": "cylinder"},
            "origin": None,
            "down": True,
        }
    ],
    "trim": [{}, {"plane": {"point": [0, 0, 1], "normal": [0, 0, 1]}, "offset": -1, "keep": "below", "scan": "scan 2"}],
    "fragments": [{}, {"smallest": 5}, {"share": 0.1, "scan": "left"}, {"keep": 8}, {"apart": 10}],
    "strays": [{}],
    "selection": [
        {"view": VIEW, "outline": [[0, 0], [1, 0], [0, 1]], "delete": "outside", "side": "visible", "grow": -2},
        {"view": VIEW, "outline": [[0, 0]], "brush": [0.1, 0.2]},
    ],
    "targets-off": [{"places": PLACES, "diameter": 6}],
    "repair": [{}, {"scan": "assembly"}],
    "fill": [{}, {"how": "flat", "of": ["hole", "target"], "longest": 80}, {"places": PLACES}],
    "smooth": [{"bound": 0.02}, {"bound": 0.02, "rounds": 20}],
    "thin": [{"bound": 0.02}, {"bound": 0.02, "triangles": 5000}],
    "join": [
        {"scans": ["scan", "scan 2"]},
        {
            "scans": ["a", "b"],
            "pairs": [{"first": "a", "second": "b", "points": [[p, p] for p in PLACES]}],
            "cut": [["a", "b"]],
            "left_out": ["a"],
            "spacing": 1.5,
        },
    ],
    "separate": [{"parts": 8}, {"parts": 2, "scan": "tray", "name": "clip"}],
    "as-scanned": [{}, {"name": "a", "scan": "scan 2"}],
    "rough": [{}, {"choice": 2}],
    "pairs": [{"measured": PLACES, "nominal": PLACES, "start": "rough"}],
    "best-fit": [{}, {"trim": 0.1, "faces": [1, 2], "lost": [PRINT]}],
    "reference-points": [
        {"points": [{"name": "A", "place": [1, 2, 3]}, {"name": "B", "place": [1, 2, 3], "held": "XZ", "weight": 2}]}
    ],
    "known-targets": [{"measured": [*PLACES, [1, 1, 1]], "known": [*PLACES, [1, 1, 1]], "tolerance": 0.2}],
    "datums": [{"datums": [{"letter": "A", "faces": [1]}, {"letter": "B", "lost": [PRINT]}]}],
    "measure": [{}, {"limit": 1, "angle": 30, "lower": -1, "upper": 2}],
    "reading": [{"label": "R1", "place": [1, 2, 3]}],
    "grid": [{"label": "G", "face": 1, "spacing": 5}],
    "section": [
        {"label": "z = 5"},
        {"label": "a", "face": 3, "offset": -2, "series": "radial", "count": 6, "along": "up"},
    ],
    "walls": [{}, {"way": "ball", "least": 2.5, "most": 8}],
    "construct": [
        {"label": "F3", "way": "meet", "of": ["F1", "F2"]},
        {"label": "F3", "way": "offset", "of": ["F1"], "amount": -2.5},
    ],
    "feature": [
        {"label": "F1", "seed": [1, 2, 3], "tolerance": 0.1},
        {"label": "F2", "faces": [3], "element": "cylinder"},
        {"label": "F3", "places": PLACES, "element": "plane"},
    ],
    "decide": [{}, {"alignment": "a", "rule": "simple", "guard": 0}],
}
BAD: list[tuple[str, dict[str, Any], str]] = [
    ("entities", {"towards": {"place": [1, 2, 3]}}, "Field required"),
    ("entities", {"level": {"place": [1, 2, 3], "element": "blob"}}, "plane"),
    ("trim", {"keep": "left"}, "keep"),
    ("trim", {"plane": {"point": [0, 0], "normal": [0, 0, 1]}}, "plane.point"),
    ("trim", {"offset": float("nan")}, "offset"),
    ("fragments", {"share": 1.5}, "share"),
    ("fragments", {"smallest": -1}, "smallest"),
    ("selection", {"view": VIEW[:15], "outline": PLACES}, "view"),
    ("selection", {"view": VIEW, "outline": [[0, 0], [1, 0]]}, "the outline needs three corners"),
    ("selection", {"view": VIEW, "outline": [[0, 0]], "brush": [0, 1]}, "brush"),
    ("fragments", {"keep": 0}, "keep"),
    ("targets-off", {"places": []}, "places"),
    ("fill", {"how": "round"}, "how"),
    ("fill", {"of": []}, "no kind of hole is named"),
    ("smooth", {"bound": 0}, "bound"),
    ("thin", {"bound": 0.1, "triangles": 3}, "triangles"),
    ("join", {"scans": ["scan"]}, "scans"),
    ("reference-points", {"points": []}, "points"),
    ("reference-points", {"points": [{"name": "A", "place": [1, 2, 3], "held": "Q"}]}, "held"),
    ("known-targets", {"measured": PLACES, "known": PLACES}, "measured"),
    ("best-fit", {"lower": 1, "upper": 0}, "the lower limit must lie below"),
    ("best-fit", {"motions": ["Tq"]}, "motions"),
    ("best-fit", {"criterion": "stock", "weights": [{"faces": [1], "weight": 2}]}, "weights belong to least squares"),
    ("section", {"label": "a", "normal": [0, 0, 0]}, "the direction of the plane has no length"),
    ("section", {"label": "a", "count": 3, "spacing": 0}, "the spacing of the series is nothing"),
    ("section", {"label": "a", "count": 201}, "count"),
    ("join", {"scans": ["a", "a"]}, "a scan is joined to itself"),
    ("join", {"scans": ["assembly", "a"]}, "what is joined has the name of one of its scans"),
    ("join", {"scans": ["a", "b"], "pairs": [{"first": "a", "second": "b", "points": []}]}, "pairs.0.points"),
    ("separate", {"parts": 1}, "parts"),
    ("as-scanned", {"name": ""}, "name"),
    ("as-scanned", {"scan": ""}, "scan"),
    ("rough", {"choice": -1}, "choice"),
    ("pairs", {"measured": PLACES}, "nominal"),
    ("best-fit", {"trim": 0.7}, "trim"),
    ("best-fit", {"faces": [0]}, "faces.0"),
    ("best-fit", {"lost": [PRINT | {"area": -1}]}, "lost.0.area"),
    ("datums", {"datums": []}, "datums"),
    ("datums", {"datums": [{"letter": "AB", "faces": [1]}]}, "letter"),
    ("datums", {"datums": [{"letter": "A", "faces": []}]}, "a datum needs at least one face"),
    ("measure", {"lower": 1, "upper": 1}, "the lower limit must lie below the upper limit"),
    ("measure", {"limit": 0}, "limit"),
    ("reading", {"label": "R1", "place": [1, 2, float("inf")]}, "place.2"),
    ("grid", {"label": "G", "face": 0, "spacing": 5}, "face"),
    ("grid", {"label": "G", "face": 1, "spacing": 0}, "spacing"),
    ("walls", {"way": "eye"}, "way"),
    ("walls", {"least": 0}, "least"),
    ("walls", {"least": 3, "most": 2}, "must lie below the most"),
    ("construct", {"label": "F3", "way": "marry", "of": ["F1", "F2"]}, "way"),
    ("construct", {"label": "F3", "way": "meet", "of": []}, "of"),
    ("construct", {"label": "F3", "way": "meet", "of": ["F1", "F1"]}, "one feature is named twice"),
    ("feature", {"label": "F1", "seed": [0, 0, 0], "held": "along"}, "both are said or neither"),
    ("feature", {"label": "F1"}, "a feature comes of one of a seed, faces or places"),
    ("feature", {"label": "F1", "places": PLACES}, "which kind of feature the places make is not said"),
    ("feature", {"label": "F1", "seed": [0, 0, 0], "tolerance": 0}, "tolerance"),
    ("decide", {"rule": "strict"}, "rule"),
    ("decide", {"frame": "a"}, "frame"),
    ("dance", {}, "dance"),
]


def test_every_kind_is_in_the_registry_and_in_the_document() -> None:
    kinds = {step.model_fields["kind"].default for step in STEPS}
    assert kinds == set(GOOD), "a kind without an example"
    rows = set(re.findall(r"^\| `([a-z-]+)` \|", FORMAT, re.MULTILINE))
    assert kinds | {kind.tag for kind in KINDS} <= rows


@pytest.mark.parametrize(("kind", "fields"), [(kind, fields) for kind, made in GOOD.items() for fields in made])
def test_a_step_survives_the_document(kind: str, fields: dict[str, Any]) -> None:
    step = STEP.validate_python({"kind": kind} | fields)
    assert STEP.validate_json(STEP.dump_json(step)) == step and hash(step) == hash(step.model_copy())
    assert isinstance(step, tuple(STEPS)) and step.on_faces is not None
    assert Procedure.model_validate_json(Procedure(steps=(step,)).model_dump_json()).steps == (step,)


@pytest.mark.parametrize(("kind", "fields", "said"), BAD)
def test_what_cannot_be_is_refused(kind: str, fields: dict[str, Any], said: str) -> None:
    with pytest.raises(ValidationError) as refused:
        STEP.validate_python({"kind": kind} | fields)
    assert said in str(refused.value)


@pytest.mark.parametrize("kind", GOOD)
def test_no_step_takes_what_it_does_not_know(kind: str) -> None:
    with pytest.raises(ValidationError, match="colour"):
        STEP.validate_python({"kind": kind, "colour": 1} | GOOD[kind][-1])


FORMS = (
    Form(Instrument, "an instrument", "See A"), Form(InstrumentModel, "an instrument", "See B"),
    Form(ProcedureFile, "a procedure", "See C"), Form(Plan, "a plan", "See D", 200),
)  # fmt: skip


@pytest.mark.parametrize("form", FORMS, ids=lambda form: form.model.__name__)
@pytest.mark.parametrize(
    "data",
    [b"", b"\xff\xfe", b"[]", b"nothing", b'{"colour": 1}', b"[" * 200, b'{"a": NaN}', b'{"schema": "another-1"}'],
)
def test_documents_are_refused_in_one_sentence(form: Form[Any], data: bytes, tmp_path: Path) -> None:
    (tmp_path / "d.json").write_bytes(data or b" ")
    for read in (lambda: parse_document(data, "d.json", form), lambda: read_document(tmp_path / "d.json", form)):
        with pytest.raises(InputError) as refused:
            read()
        assert refused.value.what.startswith(f"this is not {form.what}: ") and refused.value.next == form.help
    assert "\n" not in refused.value.sentence
    (tmp_path / "large.json").write_bytes(b" " * (form.most + 1))
    with pytest.raises(InputError, match=f"this is too large to be {form.what}"):
        read_document(tmp_path / "large.json", form)
