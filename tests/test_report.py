"""What is handed over: the document, tables, pages, and that they are written whole or not at all."""

from __future__ import annotations

import csv
import json
import math
import subprocess
from dataclasses import replace
from pathlib import Path

import numpy as np
import openpyxl
import pytest

from helpers import STATED, box_mesh, write_bracket
from juxtum.errors import InputError
from juxtum.evaluate.features import Question, TakenFeature, take_feature
from juxtum.evaluate.kinds import Profile
from juxtum.evaluate.sections import SectionPlane, take_section
from juxtum.evaluate.uncertainty import Chain
from juxtum.guide.verdicts import headline
from juxtum.job import Brief, Evaluation, FileStore, Job, Procedure, Runner, inputs_of
from juxtum.job.steps import AsScanned, BestFit, Decide, GridStep, Measure, ReadingStep
from juxtum.job.wall_map import TakenWalls
from juxtum.progress import Progress
from juxtum.report import result_document, write_outputs
from juxtum.report.blocks import BLOCKS, ReportContent
from juxtum.report.drawing import WORD, printable, register_fonts, shortened
from juxtum.report.pdf import write_pdf
from juxtum.report.pictures import Picture
from juxtum.report.writer import OUTPUTS, check_folder
from juxtum.scene.camera import View
from juxtum.scene.palette import MapScale


@pytest.fixture(scope="module")
def many(tmp_path_factory: pytest.TempPathFactory) -> tuple[Job, Evaluation, Runner]:
    """A job with more lines than a page holds, a face that was not seen, and names that mean mischief."""
    folder = tmp_path_factory.mktemp("many")
    files = FileStore()
    nominal = write_bracket(folder / "n.stl")
    scan = box_mesh((59.9, 39.9, 9.9), cuts=5)
    from juxtum.exchange.meshes import write_ply
    from juxtum.geometry import RigidTransform

    keep = scan.kept_triangles(scan.triangle_normals[:, 2] > -0.9).moved(RigidTransform.translation([30, 20, 5]))
    write_ply(folder / "s.ply", keep)
    profiles = tuple(Profile(id=str(k), title=f"=cmd|line {k}", faces=(k % 6 + 1,)) for k in range(1, 30))
    readings = (ReadingStep(label="@evil", place=(30, 20, 10)), GridStep(label="G", face=1, spacing=8.0))
    steps = (AsScanned(), Measure(), Decide(alignment="as scanned"), *profiles, *readings)
    brief = Brief(part="Br\u00fccke \u2264 \u03c3 <b>", operator="Ilse Maartens")
    job = Job(
        brief=brief,
        circumstances=STATED,
        inputs=inputs_of(files.adopt(nominal), files.adopt(folder / "s.ply")),
        procedure=Procedure(steps=steps),
    )
    runner = Runner(files)
    return job, runner.evaluation(job), runner


def test_document_is_plain_json(many: tuple[Job, Evaluation, Runner]) -> None:
    job, evaluation, _ = many
    document = json.loads(json.dumps(result_document(job, evaluation), allow_nan=False))
    hidden = [c for c in document["characteristics"] if c["value"] is None]
    assert hidden and all(c["verdict"] == "not decided" and c["expanded_uncertainty"] is None for c in hidden)
    assert len(document["characteristics"]) == 29 and document["readings"][0]["label"] == "@evil"
    for c in document["characteristics"]:
        if c["budget"]:
            combined = 2 * math.sqrt(sum(line["standard_uncertainty"] ** 2 for line in c["budget"]))
            assert c["expanded_uncertainty"] == pytest.approx(combined)


def test_files_are_whole_and_harmless(many: tuple[Job, Evaluation, Runner], tmp_path: Path) -> None:
    job, evaluation, runner = many
    phases: list[str] = []
    written = write_outputs(
        tmp_path, job, evaluation, runner.cleaned(job), Progress(lambda phase, share: phases.append(phase))
    )
    assert [p.name for p in written] == list(OUTPUTS) and sorted(p.name for p in tmp_path.iterdir()) == sorted(OUTPUTS)
    assert "setting the pages" in phases
    rows = list(csv.reader((tmp_path / "ledger.csv").open()))
    assert rows[1][1] == "'=cmd|line 1", "a name never becomes a formula"
    book = openpyxl.load_workbook(tmp_path / "ledger.xlsx")
    assert book["Ledger"]["B2"].value == "'=cmd|line 1" and book["Readings"].max_row > 5
    text = subprocess.run(
        ["pdftotext", "-layout", tmp_path / "report.pdf", "-"], capture_output=True, text=True, check=True
    ).stdout
    assert "Br\u00fccke" in text and "<b>" in text and text.count("not decided") >= 4
    pages = subprocess.run(["pdfinfo", tmp_path / "report.pdf"], capture_output=True, text=True, check=True).stdout
    assert int(pages.split("Pages:")[1].split()[0]) >= 4


def test_cancelling_writes_nothing(many: tuple[Job, Evaluation, Runner], tmp_path: Path) -> None:
    job, evaluation, runner = many
    progress = Progress(lambda phase, share: progress.cancel() if phase == "taking pictures" else None)
    from juxtum.errors import Cancelled

    with pytest.raises(Cancelled):
        write_outputs(tmp_path, job, evaluation, runner.cleaned(job), progress)
    assert not list(tmp_path.iterdir())


def test_same_job_gives_the_same_pages(many: tuple[Job, Evaluation, Runner], tmp_path: Path) -> None:
    job, evaluation, runner = many
    for name in "ab":
        write_outputs(tmp_path / name, job, evaluation, runner.cleaned(job))
    for output in ("result.json", "ledger.csv", "report.pdf", "deviation.ply"):
        assert (tmp_path / "a" / output).read_bytes() == (tmp_path / "b" / output).read_bytes(), output


def test_folder_is_checked_before_work(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("")
    with pytest.raises(InputError, match="this is a file, not a folder"):
        check_folder(tmp_path / "file")
    check_folder(tmp_path / "a" / "b")
    assert (tmp_path / "a" / "b").is_dir()


def test_headlines(many: tuple[Job, Evaluation, Runner]) -> None:
    job, evaluation, runner = many
    assert "not decided" in headline(evaluation)
    bare = job.model_copy(
        update={"procedure": Procedure(steps=tuple(s for s in job.procedure.steps if not isinstance(s, Profile)))}
    )
    assert headline(runner.evaluation(bare)) == "no characteristics yet"
    easy = bare.with_step(Profile(id="1", title="all", lower=-9, upper=9, faces=(6,)))
    assert headline(runner.evaluation(easy)) in ("conforms", "not decided")


def test_signs_that_the_fonts_lack_become_words() -> None:
    assert (
        printable("\u2264 0.2 \u00d8 5\n") == "max 0.2 dia  5 "
        and printable("\u22640.2 \u22650.1") == "max 0.2 min 0.1"
    )
    register_fonts()
    cut = shortened("a long name that does not fit", WORD, 9, 60)
    assert cut.endswith("\u2026") and len(cut) < 20


def test_comparison_is_told(many: tuple[Job, Evaluation, Runner], tmp_path: Path) -> None:
    job, _, runner = many
    job = job.with_step(BestFit(start="as scanned"))
    comparison = runner.compare(job, "as scanned", "best fit")
    assert np.isfinite(comparison.motion.largest)
    write_outputs(tmp_path, job, runner.evaluation(job, "best fit"), runner.cleaned(job), None, comparison)
    text = subprocess.run(
        ["pdftotext", "-layout", tmp_path / "report.pdf", "-"], capture_output=True, text=True, check=True
    ).stdout
    assert "From 'as scanned' to 'best fit' the part moves at most" in text


@pytest.mark.parametrize(
    "typed", ["W" * 200, "one word after another " * 8, "<para>&lt; </b> \u2264 \u03c3 %s {0}", ""]
)
def test_pages_hold_whatever_people_type(many: tuple[Job, Evaluation, Runner], tmp_path: Path, typed: str) -> None:
    """Every block of the registry sets its pieces, and none of them outgrows a page."""
    job, evaluation, runner = many
    title = typed[:200] or "x"
    ledger = tuple(replace(r, line=replace(r.line, title=title), reason=3 * typed) for r in evaluation.ledger)
    where = SectionPlane(title, evaluation.deviation.nominal.centre, np.array([0.0, 0, 1]))
    laid = (evaluation.alignment, Chain.of(job.circumstances))
    cuts = (take_section(evaluation.deviation, runner.cleaned(job), laid, where),) * 3
    face = next(f.number for f in evaluation.deviation.nominal.faces if f.kind == "plane" and f.area > 500)
    made = take_feature(evaluation.deviation, runner.measured(job), laid, Question(faces=(face,)))
    features = (TakenFeature(title, made), TakenFeature(title, None, typed or "x"))
    brief = Brief(part=typed[:200], serial=typed[:200], note=(3 * typed)[:500], customer=typed[:200])
    content = ReportContent(
        job.model_copy(update={"brief": brief}),
        replace(
            evaluation,
            ledger=ledger,
            sections=cuts,
            features=features,
            walls=TakenWalls(None, typed or "x"),
            doubts=replace(evaluation.doubts, notes=(typed or "x",) * 90),
        ),
        [Picture(View.CORNER, np.zeros((60, 90, 3), np.uint8), (), np.zeros((0, 2))) for _ in range(12)],
        MapScale(-0.2, 0.2),
    )
    write_pdf(tmp_path / "report.pdf", content)
    assert [b.name for b in BLOCKS if not b.make(content)] == []
    text = subprocess.run(
        ["pdftotext", "-layout", tmp_path / "report.pdf", "-"], capture_output=True, text=True, check=True
    ).stdout
    assert text.count("Verdict") >= 2, "the head of the ledger stands on each of its pages"
    assert typed.split(" ", maxsplit=1)[0][:20].strip() in text


def test_a_block_without_anything_to_tell_takes_no_room(many: tuple[Job, Evaluation, Runner]) -> None:
    job, evaluation, _ = many
    register_fonts()
    picture = Picture(View.CORNER, np.zeros((60, 90, 3), np.uint8), (), np.zeros((0, 2)))
    bare = ReportContent(job, replace(evaluation, ledger=(), readings=()), [picture], MapScale(-0.2, 0.2))
    assert {b.name for b in BLOCKS if not b.make(bare)} >= {"sides", "readings", "budgets"}
