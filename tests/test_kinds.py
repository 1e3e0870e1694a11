"""Kinds of characteristics: what every one must bring, and flatness against known truth, in files and in the window."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import openpyxl
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QLineEdit

from hand import Hand
from helpers import JUDGEMENT, STATED, raised_sheet, sheet, top_of, write_bracket
from juxtum.cli import main
from juxtum.demo import solids
from juxtum.errors import InputError
from juxtum.evaluate import Aim, LineResult, Verdict, measure_deviation
from juxtum.evaluate.kinds import KINDS, Characteristic, Flatness, Given, NotTaken, Profile, kind_of
from juxtum.evaluate.kinds.flatness import middle_of_zone
from juxtum.geometry import PointCloud, RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.guide.findings import Key
from juxtum.job import FileStore, Job, Procedure, Runner, inputs_of, save_job
from juxtum.job.planning import task_of, with_circumstances
from juxtum.job.steps import AsScanned, Decide, Measure
from juxtum.nominal import Nominal

ROOT = Path(__file__).parents[1]
DATUM = {"letter": "A", "of": [[1]], "association": "gauss"}
OF_ONE: dict[str, object] = {"features": [[[1, 2]], [[3]]], "datums": [DATUM], "limit": 0.2}
SIZE: dict[str, object] = {"features": [[[1]]], "lower": -0.1, "upper": 0.2}
PAIR: dict[str, object] = SIZE | {"features": [[[1], [2]]]}
OWN: dict[str, dict[str, object]] = {
    "profile": {}, "flatness": {"faces": [1], "criterion": "gauss"}, "straightness": OF_ONE | {"diametral": True}, "angularity": OF_ONE | {"angle": 45},
    "position": OF_ONE | {"projected": 20, "bonus": "most", "size_limits": [9.9, 10.1]}, "profile-surface": OF_ONE | {"unequal": 0.1},
    "diameter": SIZE | {"size": "two-point", "envelope": True}, "radius": SIZE | {"is_minor": True}, "cone-angle": SIZE | {"nominal": 60},
    "width": PAIR, "distance": PAIR | {"along": [0, 0, 1]}, "angle": PAIR, "thickness": PAIR,
}  # fmt: skip
GOOD: dict[type[Characteristic], dict[str, object]] = {kind: OWN.get(kind.tag, OF_ONE) for kind in KINDS}
BAD: dict[type[Characteristic], list[tuple[dict[str, object], str]]] = {
    Profile: [({"lower": 0.3, "upper": 0.2}, "the lower limit must lie below"), ({"upper": "nan"}, "finite")],
    Flatness: [({"limit": 0}, "greater than 0"), ({"faces": []}, "at least 1 item")],
    **{kind: [({"limit": -1}, "greater than 0"), ({"features": [[[0]]]}, "greater than or equal to 1"), ({"datums": [{"letter": "a", "of": [[1]]}]}, "letter")]
       for kind in KINDS if kind not in (Profile, Flatness) and "limit" in kind.model_fields},
    **{kind: [({"lower": 0.2, "upper": 0.2}, "the lower deviation must lie below"), ({"features": [[[1], [2], [3]]]}, "at most 2 items")]
       for kind in KINDS if kind is not Profile and "upper" in kind.model_fields},
}  # fmt: skip


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_brings_all_that_is_asked_of_it(kind: type[Characteristic]) -> None:
    assert kind_of(kind.tag) is kind and [k.tag for k in KINDS].count(kind.tag) == 1
    assert kind.name and kind.short and kind.method.endswith(".") and "ISO" in kind.method
    places = np.array([place for stroke in kind.symbol for place in stroke])
    assert len(places) > 2 and places.min() >= 0 and places.max() <= 1
    assert all(field.title and isinstance(field.default, float) for field in kind.own_fields().values()), (
        "a form can be made of them"
    )
    assert f"| `{kind.tag}` |" in (ROOT / "docs/job-format.md").read_text(), "its row in the format's document"


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_reads_what_it_wrote(kind: type[Characteristic]) -> None:
    made = kind.model_validate({"id": "1", "title": "t", **GOOD[kind]})
    again = Procedure.model_validate(json.loads(Procedure(steps=(made,)).model_dump_json()))  # type: ignore[arg-type]
    assert again.characteristics == (made,)
    assert isinstance(made.aim, Aim) and made.aim.width > 0 and made.line.tag == kind.tag


@pytest.mark.parametrize(("kind", "update", "words"), [(k, *row) for k, rows in BAD.items() for row in rows])
def test_every_kind_refuses_what_it_cannot_be(
    kind: type[Characteristic], update: dict[str, object], words: str
) -> None:
    with pytest.raises(ValueError, match=words):
        kind.model_validate({"id": "1", "title": "t", **GOOD[kind], **update})


@pytest.fixture(scope="module")
def block() -> Nominal:
    """80 x 80 x 10 mm, its top at Z = 10."""
    return Nominal.from_shape(solids.box((-40, -40, 0), (80, 80, 10)))


def flatness(nominal: Nominal, heights: Floats, spacing: float = 0.6) -> LineResult:
    deviation = measure_deviation(raised_sheet(sheet(spacing), heights), nominal, RigidTransform.identity())
    return Flatness(id="1", title="top", faces=(top_of(nominal),), limit=0.1, least_seen=0).result(
        Given(deviation, JUDGEMENT)
    )


def test_a_sagging_face_is_as_flat_as_it_was_made(block: Nominal) -> None:
    """A saddle of known height on a tilted plane: the tilt does not count, the saddle does, to the middle of the outer tiles, clear of the scan's end."""
    x, y = sheet(0.6).points[:, :2].T / 30
    found = flatness(block, 0.05 * (x * x - y * y) + 0.04 * x + 0.2)
    assert found.value == pytest.approx(0.1 * (28.5 / 30) ** 2, abs=0.003) and found.line.limits.lower is None
    flat = flatness(block, 0.04 * x - 0.03 * y)
    assert flat.value < 1e-6 and flat.verdict is Verdict.CONFORMS


@pytest.mark.parametrize("shape", ["flat", "saddle"])
@pytest.mark.parametrize("noise", [0.005, 0.03])
def test_the_true_flatness_lies_within_the_uncertainty(block: Nominal, shape: str, noise: float) -> None:
    x, y = sheet(0.6).points[:, :2].T / 30
    true = 0.05 * (x * x - y * y) if shape == "saddle" else np.zeros(len(x))
    truth = flatness(block, true).value
    found = [flatness(block, true + np.random.default_rng(seed).normal(0, noise, len(true))) for seed in range(12)]
    off = np.array([f.value - truth for f in found])
    assert (np.abs(off) <= [f.expanded for f in found]).mean() >= 0.83
    assert abs(off.mean()) < 0.6 * np.mean([f.expanded for f in found])


def test_a_face_of_few_tiles_has_no_flatness() -> None:
    """Four tiles fit a plane whatever their form: a sag of 0.1 mm over 5 mm read as 0.000 would be a wrong number without a word."""
    small = Nominal.from_shape(solids.box((0, 0, 0), (5, 4, 2)))
    results = []
    for apart in (0.05, 0.8):
        x, y = (k.ravel() for k in np.meshgrid(np.arange(0, 5.01, apart), np.arange(0, 4.01, apart)))
        places = np.column_stack([x, y, 2 + 0.1 * ((x - 2.5) / 2.5) ** 2])
        cloud = PointCloud(places, np.tile([0.0, 0, 1], (len(x), 1)))
        deviation = measure_deviation(cloud, small, RigidTransform.identity())
        line = Flatness(id="1", title="t", faces=(top_of(small, 2.0),), least_seen=0)
        results.append(line.result(Given(deviation, JUDGEMENT)))
    fine, coarse = results
    assert fine.value == pytest.approx(0.09, abs=0.01) and fine.verdict is not Verdict.NOT_DECIDED
    assert np.isnan(coarse.value) and coarse.verdict is Verdict.NOT_DECIDED
    assert "too few to tell a form" in coarse.reason


@pytest.mark.parametrize("seed", range(4))
def test_the_minimum_zone_is_the_narrowest(seed: int) -> None:
    """No plane near it holds the heights in a narrower zone (Chebyshev's theorem, by trial)."""
    rng = np.random.default_rng(seed)
    places, heights = rng.uniform(-50, 50, (60, 2)), rng.normal(0, 0.02, 60)
    width = float(np.ptp(heights - middle_of_zone(places, heights)))
    for tilt in rng.normal(0, 1e-4, (500, 2)):
        assert float(np.ptp(heights - middle_of_zone(places, heights) - places @ tilt)) >= width - 1e-9


def test_faces_that_are_not_plane_are_told(block: Nominal, nominal: Nominal) -> None:
    bore = next(face.number for face in nominal.faces if face.kind == "cylinder")
    with pytest.raises(InputError, match=f"face {bore} is not a plane, so it has no flatness"):
        Flatness(id="4", title="t", faces=(bore,)).check(nominal)
    with pytest.raises(InputError, match="do not lie on one plane"):
        Flatness(id="4", title="t", faces=tuple(face.number for face in block.faces)).check(block)


def test_from_a_job_to_every_file_and_again(tmp_path: Path) -> None:
    """Run from the command line, replayed from its own procedure, in result, table and report; planning knows it."""
    files = FileStore()
    part = files.adopt(write_bracket(tmp_path / "n.stl"))
    foot = next(
        f.number
        for f in Runner(files).nominal(Job(inputs=inputs_of(part))).faces
        if abs(f.centre[2] - 10) < 1e-6 and f.area > 2000
    )
    steps = (
        AsScanned(),
        Measure(),
        Decide(alignment="as scanned"),
        Flatness(id="3", title="Flatness of the foot", faces=(foot,), limit=0.05),
    )
    job = Job(inputs=inputs_of(part, part), procedure=Procedure(steps=steps), circumstances=STATED)
    assert task_of(job).aims == (Aim("3", "Flatness of the foot", 0.05, (foot,), within=True),)
    unread = job.without(steps[3]).with_step(NotTaken(id="4", title="Flatness", why="its modifier is not read"))
    assert [aim.faces for aim in task_of(unread).aims] == [()], "nothing to measure: the whole part is planned for"
    save_job(job, tmp_path / "a.juxtum", files)
    results = []
    for run in ("first", "second"):
        out = tmp_path / run / "n"
        assert main(["run", str(tmp_path / "a.juxtum"), str(tmp_path / "n.stl"), "--out", str(out.parent)]) == 0
        (written,) = json.loads((out / "result.json").read_text())["characteristics"]
        results.append(written)
        cells = [
            str(cell.value) for page in openpyxl.load_workbook(out / "ledger.xlsx") for row in page.rows for cell in row
        ]
        assert "flatness" in cells and "Flatness of the foot" in cells
        assert (out / "report.pdf").stat().st_size > 10_000
    first, second = results
    assert first == second and first["kind"] == "flatness" and first["lower"] is None and first["upper"] == 0.05
    assert first["verdict"] == "conforms" and [side["side"] for side in first["sides"]] == ["zone"]
    assert {line["source"].split(",")[0].split(" ")[0] for line in first["budget"]} == {"instrument", "sampling"}


def test_flatness_from_picking_a_face_to_undo(small_desk: Hand) -> None:
    desk, window = small_desk, small_desk.window
    window.session.edit("instrument", lambda job: with_circumstances(job, instrument=STATED.instrument))
    desk.go(Key.BRIEF)
    choice = desk.named("Kind of characteristic", QComboBox)
    assert isinstance(choice, QComboBox)
    choice.setCurrentText("Flatness")
    desk.click("Add characteristic")
    assert "flatness needs a face" in window.notice.text
    desk.click("Pick faces")
    desk.click_at((45.0, 25.0, 10.0))
    zone = desk.named("Width of the zone", QLineEdit)
    assert isinstance(zone, QLineEdit)
    zone.setText("0,04")
    zone.editingFinished.emit()
    desk.click("Add characteristic")
    made = window.session.job.procedure.characteristics[-1]
    assert (
        isinstance(made, Flatness)
        and made.limit == 0.04
        and len(made.faces) == 1
        and made.title.startswith("Flatness, face")
    )
    value, verdict = desk.ledger()[made.id]
    assert verdict == "conforms" and value == "0.000"
    window.selecting.select_line(made.id)
    assert any("minimum zone" in text for text in window.measure._detail.texts)
    desk.press(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert made.id not in desk.ledger()
    window.hub.perform("redo")
    desk.wait()
    assert desk.ledger()[made.id] == (value, verdict)


def test_a_drawing_is_taken_in_the_window_and_given_back(small_desk: Hand, tmp_path: Path) -> None:
    desk, window = small_desk, small_desk.window
    window.session.edit("instrument", lambda job: with_circumstances(job, instrument=STATED.instrument))
    foot = next(
        f.number for f in window.session.derived.nominal.faces if f.area > 2000 and abs(f.centre[2] - 10) < 1e-6
    )  # type: ignore[union-attr]
    other = next(f.number for f in window.session.derived.nominal.faces if f.area > 2000 and abs(f.centre[2]) < 1e-6)  # type: ignore[union-attr]
    drawing = tmp_path / "d.csv"
    drawing.write_text(f"id,kind,features,upper,lower\nF1,flatness,{foot},0.1,\nH1,distance,{foot}|{other},0.1,-0.05\n")
    assert window.menus.actions["bring drawing"].isEnabled()
    before = list(desk.ledger())
    window.bringing.drawing(drawing)
    desk.wait(lambda: list(desk.ledger()) == ["F1", "H1"])
    assert "2 characteristics from d.csv; 1 that was there went, undo brings them back." in window.notice.text
    value, verdict = desk.ledger()["H1"]
    assert (value, verdict) == ("10.000", "conforms")
    assert "10 +0.1 / \u22120.05" in window.ledger.as_text()
    window.selecting.select_line("H1")
    assert any("shortest distance" in text.lower() for text in window.measure._detail.texts)
    window.session.undo()
    desk.wait(lambda: list(desk.ledger()) == before)
    drawing.write_text("id,kind,features,upper\nF1,flatness,99,0.1\n")
    window.bringing.drawing(drawing)
    desk.wait()
    assert ".csv, line 2, column features" in window.notice.text and list(desk.ledger()) == before


def test_a_characteristic_is_typed_as_on_a_drawing_and_changed(small_desk: Hand) -> None:
    """Features, datums by letter or by face, modifiers; changing one keeps what it does not touch."""
    desk, window = small_desk, small_desk.window
    window.session.edit("instrument", lambda job: with_circumstances(job, instrument=STATED.instrument))
    faces = window.session.derived.nominal.faces  # type: ignore[union-attr]
    foot = next(f.number for f in faces if f.area > 2000 and abs(f.centre[2]) < 1e-6)
    side = next(f.number for f in faces if f.kind == "plane" and abs(f.feature.normal[0]) > 0.99 and f.area > 100)  # type: ignore[union-attr]
    top = next(f.number for f in faces if f.area > 2000 and abs(f.centre[2] - 10) < 1e-6)
    desk.go(Key.BRIEF)

    def write(kind: str, **texts: str) -> None:
        choice = desk.named("Kind of characteristic", QComboBox)
        assert isinstance(choice, QComboBox)
        choice.setCurrentText(kind)
        for name, text in texts.items():
            field = desk.named(name.replace("_", " "), QLineEdit)
            assert isinstance(field, QLineEdit)
            field.setText(text)
            field.editingFinished.emit()

    write("Perpendicularity", Features=str(side), Datums="E")
    desk.click("Add characteristic")
    assert "there is no datum 'E'" in window.notice.text
    write("Perpendicularity", Features=str(side), Datums=str(foot), Modifiers="d", Width_of_the_zone="0.2")
    desk.click("Add characteristic")
    made = window.session.job.procedure.characteristics[-1]
    assert made.datums[0].letter == "A" and made.datums[0].of == ((foot,),) and made.diametral and made.limit == 0.2  # type: ignore[union-attr]
    value, verdict = desk.ledger()[made.id]
    assert verdict == "conforms" and float(value) < 0.02
    desk.click(f"Change characteristic {made.id}")
    write("Perpendicularity", Width_of_the_zone="0.3")
    window.brief._characteristics._put.click()
    desk.wait()
    changed = window.session.job.procedure.characteristics[-1]
    assert changed == made.model_copy(update={"limit": 0.3}), "features, datums and modifiers stay"
    write("Distance", Features=f"{foot}|{top}", Datums="A", Modifiers="z")
    desk.click("Add characteristic")
    size = window.session.job.procedure.characteristics[-1]
    assert size.nominal == 10 and size.along == "z" and size.datums == made.datums, "A is known by now"  # type: ignore[union-attr]
    write("Position", Features=str(side), Datums=f"A|{top}", Modifiers="d M loud")
    desk.click("Add characteristic")
    assert "'loud' does not belong to position" in window.notice.text
