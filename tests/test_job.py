"""The job: undo, cache, store, recovery, and saving that survives being killed."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
import zipfile
from pathlib import Path

import numpy as np
import pytest
import trimesh

from helpers import STATED, bracket_mesh, write_bracket
from juxtum.errors import Cancelled, JobError, JuxtumError
from juxtum.evaluate import Verdict
from juxtum.evaluate.kinds import Profile
from juxtum.evaluate.readings import standing
from juxtum.job import Brief, FileStore, Job, Procedure, Runner, inputs_of, load_job, save_job
from juxtum.job.document import default_procedure
from juxtum.job.kept import Kept, held_bytes
from juxtum.job.recovery import Recovery
from juxtum.job.steps import AsScanned, BestFit, Decide, Fragments, Measure, ReadingStep, Rough, Trim
from juxtum.progress import Progress
from juxtum.units import Unit


def test_steps_of_one_slot_replace_each_other() -> None:
    procedure = Procedure().with_step(Measure(upper=0.1)).with_step(Rough()).with_step(Measure(upper=0.3))
    assert [s.kind for s in procedure.steps] == ["measure", "rough"] and procedure.measure.upper == 0.3
    assert len(procedure.with_step(Trim()).with_step(Trim()).cleaning) == 2, "the same cut may be made twice"


@pytest.fixture
def small(tmp_path: Path) -> tuple[FileStore, Job]:
    """A job on the bracket."""
    files = FileStore()
    part = write_bracket(tmp_path / "part.stl")
    steps = (AsScanned(), Measure(), Decide(alignment="as scanned"), Profile(id="1", title="all"))
    return files, Job(
        inputs=inputs_of(files.adopt(part), files.adopt(part)), procedure=Procedure(steps=steps), circumstances=STATED
    )


def test_only_what_depends_on_a_change_runs_again(small: tuple[FileStore, Job]) -> None:
    files, job = small
    runner = Runner(files)
    first = runner.evaluation(job)
    assert runner.evaluation(job) is first
    other_limits = job.with_step(Measure(upper=0.5))
    assert runner.evaluation(other_limits).deviation is first.deviation
    other_search = job.with_step(Measure(limit=1.0))
    assert runner.evaluation(other_search).deviation is not first.deviation
    cut = job.with_step(Fragments())
    assert runner.cleaned(cut) is not runner.cleaned(job)


def test_temperature_scales_the_scan(small: tuple[FileStore, Job]) -> None:
    files, job = small
    warm = job.circumstances.environment.model_copy(update={"temperature": 40.0, "expansion": 100.0})
    hot = job.model_copy(update={"circumstances": job.circumstances.model_copy(update={"environment": warm})})
    runner = Runner(files)
    ratio = np.ptp(runner.cleaned(hot).points, axis=0) / np.ptp(runner.cleaned(job).points, axis=0)
    assert ratio == pytest.approx(1 / 1.002)


def test_an_alignment_cannot_start_from_itself(small: tuple[FileStore, Job]) -> None:
    files, job = small
    loop = job.with_step(BestFit(name="a", start="b")).with_step(BestFit(name="b", start="a"))
    with pytest.raises(JobError, match="starts from itself"):
        Runner(files).alignment(loop, "a")
    with pytest.raises(JobError, match="there is no alignment called 'c'"):
        Runner(files).alignment(loop, "c")


def test_cancelling_leaves_no_result(small: tuple[FileStore, Job]) -> None:
    files, job = small
    progress = Progress()
    progress.cancel()
    runner = Runner(files)
    with pytest.raises(Cancelled):
        runner.evaluation(job, None, progress)
    assert runner.evaluation(job).statistics.points > 0


def test_replaying_gives_the_same_digits(
    demo_files: tuple[FileStore, Job], demo_runner: Runner, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Searched for anew, and taken from the shelf: the pose and all that follows from it is the same."""
    files, job = demo_files
    monkeypatch.setenv("JUXTUM_SHELF", "off")
    again = Runner(files).evaluation(job)
    monkeypatch.delenv("JUXTUM_SHELF")
    shelved = Runner(files).alignment(job, "best fit")
    for found in (shelved, demo_runner.alignment(job, "best fit")):
        assert (found.transform.matrix == again.alignment.transform.matrix).all()
        assert (found.covariance == again.alignment.covariance).all()
        assert found.notes == again.alignment.notes
    assert again.statistics == demo_runner.evaluation(job).statistics
    assert [c.value for c in again.ledger] == [c.value for c in demo_runner.evaluation(job).ledger]


def test_readings_are_judged_by_the_face_they_lie_on(small: tuple[FileStore, Job]) -> None:
    """Neither the colours of the map nor a wider zone elsewhere say what a reading may be; without any zone nothing is decided."""
    files, job = small
    runner = Runner(files)
    number = runner.evaluation(job).deviation.nominal.faces[0].number
    place = tuple(float(v) for v in runner.nominal(job).face(number).centre)
    job = job.with_step(ReadingStep(label="R1", place=place))
    for step in job.procedure.characteristics:
        job = job.without(step)

    def judged(*profiles: Profile) -> tuple[object, Verdict]:
        made = job
        for profile in profiles:
            made = made.with_step(profile)
        reading = runner.evaluation(made).readings[0]
        return reading.limits, standing(reading)

    whole = Profile(id="1", title="Whole", lower=-5, upper=5)
    tight = Profile(id="2", title="Face", lower=3, upper=5, faces=(number,))
    assert judged() == (None, Verdict.NOT_DECIDED)
    assert judged(whole) == ((-5, 5), Verdict.CONFORMS)
    assert judged(whole, tight) == ((3, 5), Verdict.DOES_NOT_CONFORM)


def test_two_frames_are_compared(small: tuple[FileStore, Job], tmp_path: Path) -> None:
    files, job = small
    shifted = bracket_mesh().apply_translation([0.25, 0, 0])
    shifted.export(tmp_path / "shifted.stl")
    job = job.with_scan(files.adopt(tmp_path / "shifted.stl")).with_step(BestFit(start="as scanned"))
    found = Runner(files).compare(job, "as scanned", "best fit")
    assert found.motion.shift == pytest.approx([-0.25, 0, 0], abs=1e-3)
    assert found.motion.largest == pytest.approx(0.25, abs=2e-3)
    assert {c.after.line.id for c in found.changes} == {"1"}


def test_store_round_trip(small: tuple[FileStore, Job], tmp_path: Path) -> None:
    files, job = small
    job = job.with_step(ReadingStep(label="R1", place=(1, 2, 3)))
    path = tmp_path / "a.juxtum"
    save_job(job, path, files)
    other = FileStore()
    assert load_job(path, other, tmp_path / "inputs") == job
    assert Runner(other).evaluation(job).statistics == Runner(files).evaluation(job).statistics
    assert zipfile.ZipFile(path).namelist()[0] == "job.json"


def test_a_failed_save_leaves_the_old_file(small: tuple[FileStore, Job], tmp_path: Path) -> None:
    files, job = small
    path = tmp_path / "a.juxtum"
    save_job(job, path, files)
    before = path.read_bytes()
    assert job.scan is not None
    lost = job.with_scan(job.scan.model_copy(update={"sha256": "f" * 64}))
    with pytest.raises(JuxtumError, match="cannot be found"):
        save_job(lost, path, files)
    assert path.read_bytes() == before


def test_damaged_input_inside_a_job_is_noticed(small: tuple[FileStore, Job], tmp_path: Path) -> None:
    files, job = small
    path = tmp_path / "a.juxtum"
    save_job(job, path, files)
    with zipfile.ZipFile(path) as package:
        members = {n: package.read(n) for n in package.namelist()}
    with zipfile.ZipFile(path, "w") as package:
        for name, data in members.items():
            package.writestr(name, data if name == "job.json" else data[:-4] + b"\0\0\0\1")
    with pytest.raises(JuxtumError, match="inside the job is damaged"):
        load_job(path, FileStore(), tmp_path / "inputs")


def keep_saving(part: Path, path: Path, number: int, told: int) -> None:
    """Save one state after another, and tell each that is saved."""
    files = FileStore()
    job = Job(id="0" * 32, inputs=inputs_of(files.adopt(part), files.adopt(part)))
    os.write(told, b"ready\n")
    while True:
        number += 1
        save_job(job.model_copy(update={"brief": Brief(part=str(number))}), path, files)
        os.write(told, b"%d\n" % number)


def test_a_job_survives_being_killed_while_it_is_saved(tmp_path: Path) -> None:
    """Killed 50 times at random moments: it always opens, with the last or the last but one state."""
    part, path = write_bracket(tmp_path / "part.stl"), tmp_path / "a.juxtum"
    draw, last = random.Random(7), 0
    for _ in range(50):
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            keep_saving(part, path, last, writing)
        os.close(writing)
        with os.fdopen(reading) as said:
            assert said.readline() == "ready\n"
            time.sleep(draw.uniform(0.005, 0.08))
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            told = said.read().split()
        told_last = int(told[-1]) if told else last
        if path.exists():
            found = int(load_job(path, FileStore(), tmp_path / "inputs").brief.part)
            assert found in (told_last, told_last + 1)
            last = found
    assert last > 20


def test_recovery_finds_what_a_crash_left_behind() -> None:
    program = "from juxtum.job import *\nfrom juxtum.job.recovery import Recovery\nRecovery().note(Job(brief=Brief(part='lost')), None)\n"
    subprocess.run([sys.executable, "-c", program], check=True, env=os.environ)
    recovery = Recovery()
    found = recovery.left_behind()
    assert found is not None and found.job.brief.part == "lost"
    found.note.write_text("{ broken")
    assert recovery.left_behind() is None, "a note that cannot be read is put aside"


def test_default_procedure_needs_no_choices() -> None:
    assert default_procedure().alignment("best fit").start == "rough"


def test_other_limits_of_the_map_measure_nothing_again(small: tuple[FileStore, Job]) -> None:
    """Lines and readings are the same objects; another limit of a characteristic makes its own line anew and no other."""
    files, job = small
    runner = Runner(files)
    job = job.with_step(Profile(id="2", title="two")).with_step(ReadingStep(label="R1", place=(40, 20, 10)))
    before = runner.evaluation(job)
    after = runner.evaluation(job.with_step(Measure(lower=-0.3, upper=0.1)))
    assert after.deviation is before.deviation and all(a is b for a, b in zip(after.ledger, before.ledger, strict=True))
    assert after.readings[0].deviation == before.readings[0].deviation and after.statistics is not before.statistics
    changed = runner.evaluation(job.with_step(Profile(id="2", title="two", upper=0.05)))
    assert changed.ledger[0] is before.ledger[0] and changed.ledger[1].line.limits.upper == 0.05
    assert changed.statistics is before.statistics


def test_results_are_bounded_by_what_they_hold(monkeypatch: pytest.MonkeyPatch) -> None:
    """Arrays that several results share count once; the oldest go first, a few always stay."""
    from juxtum.job import kept as module

    shared = np.zeros(1_000_000)
    assert held_bytes([(shared, shared[:10]), {"a": shared}]) == shared.nbytes
    monkeypatch.setattr(module, "MOST_BYTES", 40_000_000)
    kept = Kept()
    for k in range(20):
        kept.put(str(k), (np.zeros(500_000), shared))
    assert [k for k in range(20) if kept.get(str(k)) is not None] == list(range(12, 20))
    for k in range(20, 30):
        kept.put(str(k), np.zeros(5_000_000))
    assert [k for k in range(30) if kept.get(str(k)) is not None] == list(range(24, 30))
    assert kept.put("29", shared) is kept.get("29") is not shared, "who comes second gets what is there"


def test_a_wide_table_is_a_note_and_no_refusal(tmp_path: Path) -> None:
    part = write_bracket(tmp_path / "part.stl", 3.0)
    mesh = trimesh.load(part)
    low = mesh.bounds[0]
    grid = trimesh.Trimesh(*table_grid(6.5 * float(np.linalg.norm(mesh.extents)), 90, float(low[2])), process=False)
    trimesh.util.concatenate([mesh, grid]).export(tmp_path / "scan.stl")
    files = FileStore()
    nominal, scan = files.adopt(part, Unit.MILLIMETRE), files.adopt(tmp_path / "scan.stl", Unit.MILLIMETRE)
    loaded = Runner(files).loaded_scan(Job(inputs=inputs_of(nominal, scan)))
    assert any("times as large as the nominal, which its table may explain" in text for text in loaded.problems)


def table_grid(width: float, count: int, height: float) -> tuple[np.ndarray, np.ndarray]:
    """A flat square of triangles."""
    u, v = np.meshgrid(
        np.linspace(-width / 2, width / 2, count), np.linspace(-width / 2, width / 2, count), indexing="ij"
    )
    a = (np.arange(count - 1)[:, None] * count + np.arange(count - 1)).ravel()
    triangles = np.concatenate([np.stack([a, a + count, a + count + 1], 1), np.stack([a, a + count + 1, a + 1], 1)])
    return np.stack([u, v, np.full_like(u, height)], -1).reshape(-1, 3), triangles
