"""Named outcomes: what they read, what they are kept by, and jobs with any number of inputs of any age."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from pydantic import ValidationError

from helpers import STATED, bracket_mesh, turned, write_bracket
from juxtum.errors import JobError
from juxtum.evaluate.kinds import Profile
from juxtum.job import FileStore, Input, Job, Procedure, Role, Runner, inputs_of, load_job, save_job
from juxtum.job.graph import Graph
from juxtum.job.outcomes import Families
from juxtum.job.sources import evaluation, loaded
from juxtum.job.steps import STEPS, AsScanned, BestFit, Decide, Fragments, Measure, Pairs, PlaneChoice, Selection, Trim
from juxtum.job.steps.base import NOMINAL, Outcomes, Source, surface
from juxtum.job.store import parse_job

pytestmark = pytest.mark.quick
SAMPLES = Path(__file__).parent / "samples"
CORNERS = ((0.0, 0.0, 0.0), (60.0, 0.0, 0.0), (0.0, 40.0, 0.0))
SHIFT = turned((0, 0, 1), (0.4, -0.3, 0.2))


@pytest.fixture(scope="module")
def two_scans(tmp_path_factory: pytest.TempPathFactory) -> tuple[FileStore, Job]:
    """A part measured twice; the second scan lies elsewhere."""
    folder = tmp_path_factory.mktemp("two")
    files = FileStore()
    moved = bracket_mesh().apply_transform(SHIFT.matrix)
    moved.export(folder / "second.stl")
    nominal, first = write_bracket(folder / "n.stl"), write_bracket(folder / "first.stl")
    steps = (
        AsScanned(name="a"),
        BestFit(name="b", scan="scan 2"),
        Measure(),
        Decide(alignment="b"),
        Profile(id="1", title="all"),
    )
    job = Job(
        inputs=inputs_of(files.adopt(nominal), files.adopt(first)),
        procedure=Procedure(steps=steps),
        circumstances=STATED,
    )
    return files, job.with_further(files.adopt(folder / "second.stl"))


def test_every_alignment_lays_its_own_scan(two_scans: tuple[FileStore, Job], tmp_path: Path) -> None:
    files, job = two_scans
    runner = Runner(files)
    assert [held.name for held in job.inputs] == ["nominal", "scan", "scan 2"] and job.scan_in_force == "scan 2"
    found = runner.evaluation(job)
    back = found.alignment.transform.matrix @ SHIFT.matrix
    assert np.abs(back - np.eye(4)).max() < 1e-3, "the second scan was laid back"
    assert runner.cleaned(job) is runner.outcome(job, surface("scan 2")) is not runner.outcome(job, surface("scan"))
    first = runner.evaluation(job, "a")
    assert abs(first.statistics.mean) < 1e-9 and first.deviation is not found.deviation
    with pytest.raises(JobError, match="'a' and 'b' are alignments of different scans"):
        runner.compare(job, "a", "b")
    save_job(job, tmp_path / "two.juxtum", files)
    assert load_job(tmp_path / "two.juxtum", FileStore(), tmp_path / "inputs") == job


def test_the_procedure_goes_from_one_scan_to_another(two_scans: tuple[FileStore, Job]) -> None:
    """A scan that has an alignment of its own comes in force by it; for any other the procedure is carried over and back."""
    _, job = two_scans
    assert job.on_scan("scan").procedure.decide.alignment == "a" and job.on_scan("scan").scan_in_force == "scan"
    third = job.with_step(Trim(scan="scan 2", plane=PlaneChoice(point=(0, 0, 0), normal=(0, 0, 1)))).with_further(
        job.scans[0].file
    )
    carried = third.on_scan("scan 3")
    assert third.picked_for("scan 3") == ("trim",) and third.picked_for("scan") == (), (
        "where nothing is carried over nothing needs to be told"
    )
    assert carried.scan_in_force == "scan 3" and [s.scan for s in carried.procedure.alignments] == ["scan", "scan 3"]
    assert [s.scan for s in carried.procedure.cleaning] == ["scan 3"] and carried.on_scan("scan 2") == third
    left = job.without_input("scan 2")
    assert [held.name for held in left.scans] == ["scan"] and left.scan_in_force == "scan"
    with pytest.raises(JobError, match="there is no input called 'third'"):
        job.without_input("third")
    assert job.with_scan(None).scan_in_force == "scan", "the other one is left"


def test_a_procedure_of_another_scan_runs_on_whatever_is_brought(two_scans: tuple[FileStore, Job]) -> None:
    """Exported while the second scan was in force, it names that; the first scan of the next part takes its place."""
    files, job = two_scans
    bare = job.model_copy(update={"inputs": inputs_of(job.nominal)})
    assert bare.scan_in_force == "scan 2"
    again = bare.with_scan(job.scans[1].file)
    assert [held.name for held in again.scans] == ["scan 2"]
    assert Runner(files).evaluation(again).statistics == Runner(files).evaluation(job).statistics
    lost = job.with_step(Decide(alignment="gone"))
    assert (
        lost.procedure.in_force is not None and lost.procedure.in_force.name == "b" and lost.scan_in_force == "scan 2"
    )


@pytest.mark.parametrize(
    ("inputs", "sentence"),
    [
        (("scan", "scan"), "two inputs have the same name"),
        (("nominal", "nominal"), "two inputs have the same name"),
        (("nominal", "another:nominal"), "a job has one nominal"),
    ],
)
def test_inputs_are_told_apart(two_scans: tuple[FileStore, Job], inputs: tuple[str, ...], sentence: str) -> None:
    file = two_scans[1].inputs[0].file
    made = [Input(name=text.split(":")[0], role=Role(text.split(":")[-1]), file=file) for text in inputs]
    with pytest.raises(ValidationError, match=sentence):
        Job(inputs=tuple(made))


@pytest.mark.parametrize(
    ("steps", "name", "sentence"),
    [
        ((BestFit(name="a", start="a"),), "a", "the alignment 'a' starts from itself"),
        ((BestFit(name="a", start="b"), BestFit(name="b", start="a")), "b", "the alignment 'b' starts from itself"),
        ((BestFit(name="a", start="gone"),), "a", "there is no alignment called 'gone'"),
        ((BestFit(name="a", scan="scan 9"),), "a", "the job has no scan called 'scan 9'"),
        (
            (AsScanned(name="b"), BestFit(name="a", scan="scan 2", start="b")),
            "a",
            "lays scan 2, but starts from 'b', which lays scan",
        ),
        ((), "a", "there is no alignment called 'a'"),
    ],
)
def test_loops_and_missing_names_are_named(
    two_scans: tuple[FileStore, Job], steps: tuple[BestFit, ...], name: str, sentence: str
) -> None:
    files, job = two_scans
    with pytest.raises(JobError, match=sentence):
        Runner(files).evaluation(job.model_copy(update={"procedure": Procedure(steps=steps)}), name)


def test_a_long_procedure_is_walked_and_not_nested(two_scans: tuple[FileStore, Job]) -> None:
    """A thousand cuts, each after the other, and two hundred alignments that start from each other."""
    files, job = two_scans
    view = tuple(float(v) for v in np.diag([1e-3, 1e-3, 1e-3, 1.0]).ravel())
    cut = Selection(view=view, outline=((0.99, 0.99), (1, 0.99), (1, 1)))
    chain = [
        AsScanned(name="0"),
        *(Pairs(name=str(k), start=str(k - 1), measured=CORNERS, nominal=CORNERS) for k in range(1, 200)),
    ]
    long = job.model_copy(update={"procedure": Procedure(steps=(*[cut] * 1000, *chain, Decide(alignment="199")))})
    runner = Runner(files)
    assert len(runner.cleaned(long).points) == len(runner.loaded_scan(long).scan.points)
    assert runner.alignment(long, "199").rms < 1e-12


def test_an_outcome_is_kept_by_what_it_reads_and_by_nothing_else(two_scans: tuple[FileStore, Job]) -> None:
    files, job = two_scans
    families = Families(files).all

    def keys(other: Job) -> dict[Source, str]:
        graph = Graph(other, families)
        return {
            source: graph.key(source)
            for source in (NOMINAL, surface("scan"), surface("scan 2"), Source("alignment", "b"), evaluation("b"))
        }

    def changed(other: Job) -> set[str]:
        before, after = keys(job), keys(other)
        return {source.text for source in before if before[source] != after[source]}

    assert changed(job.with_step(Fragments(scan="scan", share=0.1))) == {"surface 'scan'"}
    assert changed(job.with_step(Trim(scan="scan 2"))) == {"surface 'scan 2'", "alignment 'b'", "evaluation 'b'"}
    assert changed(job.with_step(Measure(lower=-0.1))) == {"evaluation 'b'"}
    assert changed(job.model_copy(update={"brief": job.brief.model_copy(update={"part": "X"})})) == set()


def test_a_step_is_given_what_it_reads_and_no_more(two_scans: tuple[FileStore, Job]) -> None:
    with pytest.raises(JobError, match="takes the nominal, which it does not read"):
        _ = Outcomes({}).nominal
    assert {step.model_fields["kind"].default for step in STEPS} >= {"trim", "rough", "best-fit", "datums", "decide"}


def test_a_lean_runner_lets_the_scan_as_brought_go_and_reads_it_once(
    two_scans: tuple[FileStore, Job], monkeypatch: pytest.MonkeyPatch
) -> None:
    from juxtum.job import outcomes as module

    files, job = two_scans
    read: list[str] = []
    monkeypatch.setattr(module, "load_scan", lambda *given, was=module.load_scan: read.append("scan") or was(*given))
    runner = Runner(files, lean=True)
    runner.evaluation(job)
    assert read == ["scan"]
    graph = Graph(job, Families(files).all)
    assert (
        runner._kept.get(graph.key(loaded("scan 2"))) is None
        and runner._kept.get(graph.key(surface("scan 2"))) is not None
    )


@pytest.mark.parametrize("version", [1, 2, 3, 4, 5])
def test_jobs_of_older_versions_are_brought_forward(version: int) -> None:
    """Documents that the program of that time wrote itself."""
    path = SAMPLES / f"job-{version}.json"
    job = parse_job(path.read_bytes(), path)
    assert job.version == 6 and job.id == str(version) * 32
    assert job.nominal is not None and job.nominal.name == "BC-220.step"
    assert job.scan is not None and job.scan.name == f"jold{version}.stl" and job.scan_in_force == "scan"
    assert job.procedure.decide.alignment == "best fit" and [s.name for s in job.procedure.alignments][-1] == "pairs"
    assert len(job.procedure.characteristics) == 8 and job.brief.serial == "0417"
    assert job.circumstances.instrument is not None and job.circumstances.instrument.serial == "TF-HS-03"
    assert (job.plan is None) == (version == 1)
    if version == 5:
        assert [tick.key for tick in job.prepared] == ["warm", "safe"] and job.tick("warm") is not None
        assert (job.readiness.note, job.readiness.by, job.readiness.objection) == (
            "checked last night",
            "Ilse Maartens",
            "",
        )
    assert parse_job(job.model_dump_json(by_alias=True).encode(), path) == job
