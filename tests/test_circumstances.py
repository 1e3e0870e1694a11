"""Verdicts rest on how it was really measured; a plan only proposes it, and what nobody stated stays unknown."""

from __future__ import annotations

import json
import math
from pathlib import Path

import pytest

from helpers import STATED, write_bracket
from juxtum.cli import main
from juxtum.evaluate import DecisionRule, Verdict
from juxtum.evaluate.kinds import Profile
from juxtum.instruments import Circumstances, Environment, Instrument, Origin
from juxtum.instruments.circumstances import NO_INSTRUMENT
from juxtum.instruments.models import Kind, instrument_named, shipped, stated_instrument
from juxtum.job import FileStore, Job, Procedure, Runner, inputs_of
from juxtum.job.planning import planned_instrument, with_circumstances, with_foreign_scan
from juxtum.job.steps import AsScanned, Decide, Measure, ReadingStep
from juxtum.job.store import load_procedure, parse_job
from juxtum.plan.blind import Finish
from juxtum.plan.document import Plan
from juxtum.report import result_document

pytestmark = pytest.mark.quick


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> tuple[Runner, Job]:
    files = FileStore()
    part = write_bracket(tmp_path_factory.mktemp("small") / "part.stl")
    steps = (
        AsScanned(),
        Measure(),
        Decide(alignment="as scanned"),
        Profile(id="1", title="all"),
        ReadingStep(label="R1", place=(40, 20, 10)),
    )
    job = Job(
        inputs=inputs_of(files.adopt(part), files.adopt(part)), procedure=Procedure(steps=steps), circumstances=STATED
    )
    return Runner(files), job


PLANNED = {
    "instrument": shipped(Kind.TRACKED), "chain": "with photo set and bars", "coat": "powder", "finishes": ((1, Finish.DARK),),
    "datums": (1, 2), "allowed": (3,), "goal": 0.5, "spacing": 2.0, "start": "10:00", "bars": 4, "parts_in_tray": 3,
}  # fmt: skip


def test_no_plan_changes_a_number(small: tuple[Runner, Job]) -> None:
    runner, job = small
    planned = job.model_copy(update={"plan": Plan().model_copy(update=PLANNED)})
    afresh = Runner(runner.files)
    assert result_document(planned, afresh.evaluation(planned)) == result_document(job, runner.evaluation(job))


def test_another_instrument_is_another_uncertainty(small: tuple[Runner, Job]) -> None:
    runner, job = small
    rough = with_circumstances(job, instrument=Instrument(name="rough", a=0.2, b=0.1))
    fine, coarse = (runner.evaluation(j).ledger[0] for j in (job, rough))
    assert coarse.value == fine.value and coarse.expanded > 5 * fine.expanded and coarse.verdict is Verdict.NOT_DECIDED


@pytest.mark.parametrize("rule", DecisionRule)
def test_without_an_instrument_values_have_no_uncertainty_and_nothing_is_decided(
    small: tuple[Runner, Job], rule: DecisionRule
) -> None:
    runner, job = small
    unknown = with_circumstances(job, instrument=None).with_step(Decide(alignment="as scanned", rule=rule))
    evaluation = runner.evaluation(unknown)
    for line in evaluation.ledger:
        assert math.isfinite(line.value) and math.isnan(line.expanded) and math.isnan(line.probability)
        assert line.verdict is Verdict.NOT_DECIDED and line.reason == NO_INSTRUMENT
    assert math.isnan(evaluation.readings[0].expanded)
    assert any("uncertainty of every value is not known" in words for words in evaluation.warnings)


def test_an_unstated_temperature_corrects_nothing_and_says_so(small: tuple[Runner, Job]) -> None:
    runner, job = small
    unsaid = with_circumstances(job, environment=Environment())
    evaluation = runner.evaluation(unsaid)
    assert (runner.cleaned(unsaid).points == runner.cleaned(job).points).all()
    assert any("temperature of the part is not stated" in words for words in evaluation.warnings)


@pytest.mark.parametrize("name", ["handheld", "wh-3", "head", "tomography"])
def test_one_name_for_plan_capture_and_inspect(name: str) -> None:
    model = instrument_named(name)
    assert stated_instrument(name) == model.as_instrument(model.chain())


def test_one_document_for_plan_and_inspect(tmp_path: Path) -> None:
    model = shipped(Kind.HANDHELD).model_copy(update={"name": "Ours"})
    path = tmp_path / "ours.json"
    path.write_text(model.model_dump_json(by_alias=True))
    chain = model.chains[-1].name
    assert instrument_named(str(path)) == model and stated_instrument(str(path), chain).a == model.chain(chain).a


@pytest.mark.parametrize(
    ("name", "words"), [("drone", "no instrument called 'drone' ships"), ("no/such.json", "there is no such file")]
)
def test_unknown_instruments_are_refused(
    name: str, words: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    part = write_bracket(tmp_path / "n.stl")
    assert main(["inspect", str(part), str(part), "--out", str(tmp_path / "o"), "--instrument", name]) == 2
    assert words in capsys.readouterr().err


def test_jobs_and_procedures_of_before_keep_what_was_in_their_brief(tmp_path: Path) -> None:
    brief = {
        "part": "old",
        "instrument": {"schema": "juxtum-instrument-1", "a": 0.011},
        "environment": {"temperature": 23.0},
    }
    old = {"schema": "juxtum-job", "version": 3, "id": "0" * 32, "brief": brief}
    job = parse_job(json.dumps(old).encode(), tmp_path)
    assert job.brief.part == "old" and job.circumstances.instrument is not None
    assert (job.circumstances.instrument.a, job.circumstances.instrument.b) == (0.011, 0.040)
    assert job.circumstances.environment.temperature == 23.0
    part = write_bracket(tmp_path / "n.stl")
    (tmp_path / "p.json").write_text(
        json.dumps({"nominal": {"path": part.name}, "brief": brief, "procedure": {"steps": []}})
    )
    assert load_procedure(tmp_path / "p.json", FileStore()).circumstances == job.circumstances


def test_a_foreign_scan_does_not_inherit_a_capture(small: tuple[Runner, Job]) -> None:
    _, job = small
    captured = with_circumstances(job, origin=Origin.CAPTURED)
    assert with_foreign_scan(captured).circumstances == Circumstances() and with_foreign_scan(job) == job


def test_a_plan_proposes_its_instrument() -> None:
    proposed = planned_instrument(Job(plan=Plan()))
    assert (
        proposed is not None and proposed.name.startswith("Handheld scanner WH-3") and planned_instrument(Job()) is None
    )
