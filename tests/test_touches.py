"""What a probe touched counts in place of the scan: against known places, in every frame, and never for another part."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from hand import Hand, answer_unit
from helpers import HOLES, JUDGEMENT, hole_at, plate, top_of, turned, write_bracket
from juxtum.assemble.surfacing import make_surface
from juxtum.capture.kept.document import CaptureRecord, FoundTarget
from juxtum.cli import main
from juxtum.errors import FitError, InputError
from juxtum.evaluate import Verdict, measure_deviation
from juxtum.evaluate.drawn.references import Datum
from juxtum.evaluate.kinds import KINDS, Given
from juxtum.evaluate.simulated import simulate
from juxtum.evaluate.touched import AllTouched, Touch, TouchedFace, Touches, placed
from juxtum.exchange.cad import write_step
from juxtum.exchange.meshes import write_ply
from juxtum.geometry import RigidTransform
from juxtum.instruments import Circumstances, Environment, Instrument
from juxtum.instruments.circumstances import Origin
from juxtum.job import FileStore, Job, Procedure, Runner, inputs_of, load_job, save_job
from juxtum.job.sources import evaluation
from juxtum.job.steps import AsScanned, BestFit, Decide, Measure
from juxtum.job.touches import read_touches
from juxtum.job.touching import touches_in, with_touches, without_touches
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface

PROBE = Instrument(name="Made-up probe", a=0.012, b=0.01)
TIP = 1.5
RADIUS, OFF = 4.02, (0.03, -0.01)
"""Of the bore as it was touched, and how far from where it was drawn."""
GOOD = '{"schema": "juxtum-touches-1", "instrument": {"a": 0.1, "b": 0}, '
KIND = {kind.tag: kind for kind in KINDS}


@pytest.fixture(scope="module")
def drawn() -> Nominal:
    return Nominal.from_shape(plate())


@pytest.fixture(scope="module")
def given(drawn: Nominal) -> Given:
    """The part as drawn, without what a probe says of it."""
    return Given(measure_deviation(drawn.samples.mesh, drawn, RigidTransform.identity()), JUDGEMENT)


def bore_touches(drawn: Nominal, depths: tuple[float, ...] = (5.0,), tilt: float = 0.0, count: int = 8) -> TouchedFace:
    """Touches of the bore at 20, 20: as large, as far off and as tilted (about Y) as is known."""
    touches = [
        Touch(middle=(20.0 + 20 * x, 20.0 + 20 * y, 10 + TIP), normal=(0, 0, 1), purpose="plane")
        for x, y in ((0.5, 0), (-0.5, 0.0), (0, 0.5), (0, -0.5))
    ]
    for depth in depths:
        for angle in np.arange(count) * 2 * np.pi / count + 0.2:
            out = np.array([np.cos(angle), np.sin(angle), 0.0])
            middle = [20 + OFF[0] + tilt * depth, 20 + OFF[1], 10 - depth] + (RADIUS - TIP) * out
            touches.append(Touch(middle=tuple(middle), normal=tuple(-out), purpose="edge"))
    return TouchedFace(title="Bore", faces=(hole_at(drawn, 20, 20),), touches=tuple(touches))


def laid(feature: TouchedFace, drawn: Nominal, spread: float = 0.0) -> AllTouched:
    middles = np.array([t.middle for t in feature.touches])
    normals = np.array([t.normal for t in feature.touches])
    return AllTouched([placed(feature, middles, normals, drawn, (PROBE, TIP, spread))])


def asked(tag: str, faces: tuple[int, ...], **more: Any) -> Any:
    return KIND[tag].model_validate({"id": "1", "title": "t", "faces": faces, **more})


def datum(drawn: Nominal) -> Datum:
    return Datum(letter="A", of=((top_of(drawn),),), association="gauss")


def test_a_touched_size_is_drawn_by_its_probe(drawn: Nominal, given: Given) -> None:
    hole = hole_at(drawn, 20, 20)
    by_probe = replace(given, touches=laid(bore_touches(drawn), drawn))
    found = simulate(asked("diameter", (hole,), lower=-0.1, upper=0.1), by_probe, 40)
    assert found.value == pytest.approx(2 * RADIUS, abs=1e-6) and found.lost == 0
    assert 0.7 < found.ratio < 2.0, "few touches: U allows for what eight do not tell"


def test_size_place_and_direction_are_those_touched(drawn: Nominal, given: Given) -> None:
    hole = hole_at(drawn, 20, 20)
    by_probe = replace(given, touches=laid(bore_touches(drawn), drawn))
    size = asked("diameter", (hole,), lower=-0.1, upper=0.1).result(by_probe)
    side = size.measured.sides[0]
    assert side.value == pytest.approx(2 * RADIUS, abs=1e-6) and size.measured.points == 8
    assert "8 touches of a probe, by the scan 7.9" in size.measured.meaning
    scanned = asked("diameter", (hole,), lower=-0.1, upper=0.1).result(given).measured
    assert scanned.sides[0].value == pytest.approx(8.0, abs=0.05) and "touches" not in scanned.meaning
    # The instrument of the budget is the probe's: the scan's was without fault.
    assert 0.012 / np.sqrt(3) < side.budget.standard < 0.03
    place = asked("position", (hole,), limit=0.2).result(by_probe).measured.sides[0]
    assert place.value == pytest.approx(2 * np.hypot(*OFF), abs=2e-3)
    square = asked("perpendicularity", (hole,), limit=0.1, datums=(datum(drawn),))
    assert square.result(by_probe).measured.sides[0].value < 0.002, "one depth: it stands square on the face about it"
    tilted = replace(given, touches=laid(bore_touches(drawn, (1.5, 8.5), 0.01), drawn))
    assert square.result(tilted).measured.sides[0].value == pytest.approx(0.1, abs=0.003)


def test_few_touches_are_less_sure_than_many(drawn: Nominal, given: Given) -> None:
    hole, spreads = hole_at(drawn, 20, 20), []
    for count in (3, 4, 8, 24):
        by_probe = replace(given, touches=laid(bore_touches(drawn, count=count), drawn))
        spreads.append(asked("diameter", (hole,)).result(by_probe).measured.sides[0].budget.expanded)
    assert spreads == sorted(spreads, reverse=True) and spreads[0] > 1.3 * spreads[-1]


def test_the_touches_cover_the_truth(drawn: Nominal, given: Given) -> None:
    """Touches that scatter as the probe's do: the true size and place lie within U."""
    rng, hole, inside = np.random.default_rng(5), hole_at(drawn, 20, 20), []
    for _ in range(40):
        exact = bore_touches(drawn)
        moved = [
            t.model_copy(update={"middle": tuple(np.array(t.middle) + rng.normal(0, PROBE.a / 3, 3))})
            for t in exact.touches
        ]
        by_probe = replace(given, touches=laid(exact.model_copy(update={"touches": tuple(moved)}), drawn))
        for tag, true, more in (
            ("diameter", 2 * RADIUS, {}),
            ("position", 2 * np.hypot(*OFF), {"limit": 0.2}),
        ):
            side = asked(tag, (hole,), **more).result(by_probe).measured.sides[0]
            inside.append(abs(side.value - true) <= side.budget.expanded)
            assert side.budget.expanded < 0.06, "and U is no excuse for anything"
    assert np.mean(inside) > 0.95


def test_each_of_a_pattern_is_as_sure_as_what_measured_it(drawn: Nominal, given: Given) -> None:
    """One of four bores was touched: its U has the probe's error, though the others are the scan's, which has none here."""
    four = tuple(((hole_at(drawn, x, y),),) for x, y in HOLES)
    by_probe = replace(given, touches=laid(bore_touches(drawn), drawn, 0.02))
    worst = KIND["diameter"].model_validate(
        {"id": "1", "title": "t", "features": four, "nominal": 7.98, "lower": -0.1, "upper": 0.1}
    )
    side = worst.result(by_probe).measured.sides[0]
    assert side.value == pytest.approx(2 * RADIUS, abs=1e-6), "the touched one is the worst"
    lines = {line.source.split(",")[0].split(" +")[0]: line.standard for line in side.budget.contributions}
    assert lines["instrument 0.012"] == pytest.approx((0.012 + 0.01 * 0.008) / np.sqrt(3), rel=1e-3)
    assert any(line.source == "sampling, 8 points" for line in side.budget.contributions)
    # From a touched bore to a scanned face: the less sure instrument, and where the touches lie beside the scan.
    side_face = next(f.number for f in drawn.faces if f.kind == "plane" and f.feature.normal[0] < -0.99)
    apart = KIND["distance"].model_validate(
        {"id": "2", "title": "t", "features": (((hole_at(drawn, 20, 20),), (side_face,)),), "lower": -0.1, "upper": 0.1}
    )
    mixed = apart.result(by_probe).measured.sides[0]
    assert mixed.value == pytest.approx(20 + OFF[0], abs=2e-3)
    lines = {line.source: line.standard for line in mixed.budget.contributions}
    assert lines["where the touches lie"] == 0.02 and any(name.startswith("instrument 0.012") for name in lines)


def test_a_bore_that_the_scan_closes_is_decided_by_its_touches(drawn: Nominal) -> None:
    """The scan bridges its mouth: what it says against that face does not count where a probe was inside."""
    closed = Nominal.from_shape(plate(HOLES[1:]))
    dense = sample_surface(closed.mesh, closed.triangle_faces, 0.7).mesh
    scan = make_surface(dense.corners.mean(1), dense.triangle_normals, 0.7, overhang=0.7)
    bridged = Given(measure_deviation(scan, drawn, RigidTransform.identity()), JUDGEMENT)
    hole = hole_at(drawn, 20, 20)
    assert any(words.startswith("missing surface") for words in bridged.deviation.doubts_about((hole,)))
    size = asked("diameter", (hole,), lower=-0.1, upper=0.1)
    assert size.result(bridged).verdict is Verdict.NOT_DECIDED
    assert size.result(replace(bridged, touches=laid(bore_touches(drawn), drawn))).verdict is Verdict.CONFORMS


def test_a_part_of_a_face_is_not_all_of_it(drawn: Nominal, given: Given) -> None:
    hole, whole = hole_at(drawn, 20, 20), bore_touches(drawn)
    half = whole.model_copy(update={"touches": whole.touches[:8]})
    result = asked("diameter", (hole,), lower=-0.1, upper=0.1).result(replace(given, touches=laid(half, drawn)))
    assert result.verdict is Verdict.NOT_DECIDED and result.measured.area_seen < 0.7


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"faces": (999,)}, "the part has no face 999"),
        ({"faces": (1,)}, "mm away from it, and do not count"),
        ({"touches": (Touch(middle=(24.0, 20, 11.5), normal=(0, 0, 1), purpose="plane"),)}, "nothing on the feature itself"),
    ],
)  # fmt: skip
def test_touches_that_belong_elsewhere_are_refused(drawn: Nominal, change: dict[str, Any], words: str) -> None:
    with pytest.raises(FitError, match=words):
        laid(bore_touches(drawn).model_copy(update=change), drawn)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[1, 2", "this is not a document of touches"),
        ('{"schema": "juxtum-touches-2"}', "'schema' is not right"),
        ('{"schema": "juxtum-touches-1"}', "'instrument' is not right"),
        (GOOD + '"tip_radius": 0}', "'tip_radius' is not right"),
        (GOOD + '"tip_radius": 1, "frame": "table"}', "'frame' is not right"),
        (GOOD + '"tip_radius": 1, "features": [{"faces": [1], "touches": []}]}',
         "'features.0.touches' is not right"),
        (GOOD + '"tip_radius": 1, "features": [{"faces": [1], "touches": [{"middle": [0, 0, "nan"], "normal": [0, 0, 1]}]}]}',
         "finite"),
    ],
)  # fmt: skip
def test_what_is_no_document_of_touches_gets_a_sentence(tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "touches.json"
    path.write_text(text)
    with pytest.raises(InputError, match=words):
        read_touches(path)


MOVED = turned((0.2, -0.1, 0.3), (0.4, -0.3, 0.2))
"""How the scan lies beside the part, and so what the alignment has to take off."""
TARGETS = np.array([[0, 0, 0], [90, 5, 0], [20, 70, 3], [110, 95, 30], [60, 20, 55], [10, 40, 80.0]])
TRACKED = turned((40, 10, -70), (300, 20, -100))
"""From the scan's coordinates to those in which the probe is followed."""


@pytest.fixture(scope="module")
def place(drawn: Nominal, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Runner]:
    """A folder with the part as drawn and as scanned; the runner keeps what does not hang on touches."""
    folder = tmp_path_factory.mktemp("touches")
    write_step(plate(), folder / "plate.step")
    write_ply(folder / "scan.ply", drawn.samples.mesh.moved(MOVED))
    return folder, Runner(FileStore(folder / "inputs"))


def job_with(drawn: Nominal, place: tuple[Path, Runner], document: Touches, captured: bool = False) -> Job:
    """A scan that lies a little beside the part, a best fit that brings it back, the bore's diameter and position."""
    folder, files = place[0], place[1].files
    nominal, scan = folder / "plate.step", folder / "scan.ply"
    hole = hole_at(drawn, 20, 20)
    steps = (
        AsScanned(), BestFit(start="as scanned"), Measure(), Decide(alignment="best fit"),
        asked("diameter", (hole,), nominal=8.0), asked("position", (hole,), id="2", limit=0.2),
    )  # fmt: skip
    how = Circumstances(
        instrument=PROBE,
        environment=Environment(temperature=20.0),
        origin=Origin.CAPTURED if captured else Origin.FOREIGN,
    )
    targets = tuple(FoundTarget(handle=k, place=tuple(p)) for k, p in enumerate(TARGETS))
    record = CaptureRecord(device="handheld", targets=targets) if captured else None
    made = Job(
        inputs=inputs_of(files.adopt(nominal), files.adopt(scan)),
        procedure=Procedure(steps=steps),
        circumstances=how,
        capture=record,
    )
    path = folder / "touches.json"
    path.write_text(document.model_dump_json(by_alias=True))
    return with_touches(made, "touches", files.adopt(path))


def document_in(frame: str, drawn: Nominal) -> Touches:
    """The touches of the bore as a probe tells them in a frame."""
    move = {"part": RigidTransform.identity(), "scan": MOVED, "targets": TRACKED @ MOVED}[frame]
    exact = bore_touches(drawn)
    touches = [
        t.model_copy(
            update={
                "middle": tuple(move.apply(np.array([t.middle]))[0]),
                "normal": tuple(move.turn(np.array([t.normal]))[0]),
            }
        )
        for t in exact.touches
    ]
    targets = tuple(map(tuple, TRACKED.apply(TARGETS))) if frame == "targets" else ()
    feature = exact.model_copy(update={"touches": tuple(touches)})
    return Touches(
        instrument=PROBE, tip_radius=TIP, frame=frame, targets=targets, features=(feature,), is_simulated=True
    )


@pytest.mark.parametrize("frame", ["part", "scan", "targets"])
def test_touches_lie_where_their_frame_says(drawn: Nominal, place: tuple[Path, Runner], frame: str) -> None:
    job = job_with(drawn, place, document_in(frame, drawn), captured=frame == "targets")
    made = place[1].outcome(job, evaluation("best fit"))
    size, where = (line.measured.sides[0].value for line in made.ledger)
    assert size == pytest.approx(2 * RADIUS, abs=1e-4) and where == pytest.approx(2 * np.hypot(*OFF), abs=0.004)
    assert any("the touches are simulated" in note for note in made.doubts.notes)


def test_a_job_keeps_what_was_touched(drawn: Nominal, place: tuple[Path, Runner], tmp_path: Path) -> None:
    job = job_with(drawn, place, document_in("part", drawn))
    save_job(job, tmp_path / "a.juxtum", place[1].files)
    again = load_job(tmp_path / "a.juxtum", FileStore(tmp_path / "other"), tmp_path / "in")
    assert touches_in(again) == touches_in(job)


def test_a_touch_without_a_direction_does_not_count_and_it_is_said(drawn: Nominal, place: tuple[Path, Runner]) -> None:
    document = document_in("part", drawn)
    lost = document.features[0].touches[-1].model_copy(update={"normal": (0.0, 0.0, 0.0)})
    feature = document.features[0].model_copy(update={"touches": (*document.features[0].touches[:-1], lost)})
    job = job_with(drawn, place, document.model_copy(update={"features": (feature,)}))
    made = place[1].outcome(job, evaluation("best fit"))
    assert any("a touch without a direction" in note for note in made.doubts.notes)
    assert "touches" not in made.ledger[0].measured.meaning


def test_touches_whose_targets_nobody_knows_do_not_count_and_it_is_said(
    drawn: Nominal, place: tuple[Path, Runner]
) -> None:
    document = document_in("targets", drawn)
    job = job_with(drawn, place, document)
    made = place[1].outcome(job, evaluation("best fit"))
    assert any("was not captured here, so its touches do not count" in note for note in made.doubts.notes)
    assert made.ledger[0].measured.sides[0].value == pytest.approx(8.0, abs=0.05)
    job = job_with(drawn, place, document.model_copy(update={"targets": document.targets[:3]}), captured=True)
    notes = place[1].outcome(job, evaluation("best fit")).doubts.notes
    assert any("fewer than four of its targets" in note for note in notes)


def test_touches_do_not_go_over_to_another_part(drawn: Nominal, place: tuple[Path, Runner]) -> None:
    job = job_with(drawn, place, document_in("part", drawn))
    assert len(touches_in(job)) == 1 and len(job.scans) == 1 and job.scan_names == ("scan",)
    other = place[0] / "other.ply"
    write_ply(other, drawn.samples.mesh.moved(turned((0, 0, 1), (1, 0, 0))))
    adopted = place[1].files.adopt(other)
    assert not touches_in(job.with_scan(adopted)) and not touches_in(job.with_nominal(adopted))
    assert touches_in(job.with_scan(job.scan)) and touches_in(job.with_nominal(job.nominal))
    assert not touches_in(job.without_input("touches")) and not touches_in(without_touches(job))


def test_on_the_command_line(drawn: Nominal, place: tuple[Path, Runner], capsys: pytest.CaptureFixture[str]) -> None:
    tmp_path = place[0]
    job_with(drawn, place, document_in("scan", drawn))
    given = ["inspect", str(tmp_path / "plate.step"), str(tmp_path / "scan.ply"), "--align", "best-fit", "--instrument", "handheld",
             "--temperature", "20", "--characteristic", f"diameter 8 +-0.1 of {hole_at(drawn, 20, 20)}", "--json"]  # fmt: skip
    found = []
    for more in ([], ["--touches", str(tmp_path / "touches.json")]):
        assert main([*given, "--out", str(tmp_path / "out"), *more]) == 0
        found.append(json.loads(capsys.readouterr().out)["characteristics"][0])
    assert found[0]["value"] == pytest.approx(8.0, abs=0.05) and found[1]["value"] == pytest.approx(
        2 * RADIUS, abs=1e-4
    )
    assert found[1]["expanded_uncertainty"] != found[0]["expanded_uncertainty"]
    (tmp_path / "bad.json").write_text("{}")
    assert main([*given, "--out", str(tmp_path / "out"), "--touches", str(tmp_path / "bad.json")]) == 2
    assert "is not a document of touches" in capsys.readouterr().err


def test_another_scan_takes_them_out_and_says_so(small_desk: Hand, drawn: Nominal, tmp_path: Path) -> None:
    d, session = small_desk, small_desk.window.session
    path, other = tmp_path / "touches.json", tmp_path / "other.stl"
    path.write_text(document_in("part", drawn).model_dump_json(by_alias=True))
    session.edit("touched", lambda job: with_touches(job, "touches", session.files.adopt(path)))
    d.wait()
    assert len(touches_in(session.job)) == 1
    write_bracket(other, shift=2.0)
    answer_unit()
    d.window.bringing.scan(other)
    d.wait(lambda: session.job.scan is not None and session.job.scan.name == "other.stl")
    assert not touches_in(session.job)
    assert "What a probe touched belonged to what was here before" in d.window.notice.text
    session.undo()
    d.wait(lambda: len(touches_in(session.job)) == 1)
