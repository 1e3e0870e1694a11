"""Results asked for by several threads at once, as the desk's lanes do."""

from __future__ import annotations

import itertools
import threading
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from helpers import STATED, write_bracket
from juxtum.errors import Cancelled
from juxtum.evaluate.kinds import Profile
from juxtum.job import FileStore, Job, Procedure, Runner, inputs_of
from juxtum.job.kept import Kept
from juxtum.job.steps import AsScanned, Decide, Measure
from juxtum.progress import Progress

pytestmark = pytest.mark.quick


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> tuple[FileStore, Job]:
    files = FileStore()
    part = write_bracket(Path(tmp_path_factory.mktemp("kept")) / "part.stl")
    steps = (AsScanned(name="a"), Measure(), Decide(alignment="a"), Profile(id="1", title="all"))
    return files, Job(
        inputs=inputs_of(files.adopt(part), files.adopt(part)), procedure=Procedure(steps=steps), circumstances=STATED
    )


def test_all_threads_get_the_same_object() -> None:
    """Who comes second gets what is there: the deviations of a map and of its picture must be one thing."""
    kept, barrier = Kept(), threading.Barrier(8)

    def put(number: int) -> list[np.ndarray]:
        barrier.wait()
        return [kept.put(str(k), np.full(3, number)) for k in range(200)]

    with ThreadPoolExecutor(8) as pool:
        found = list(pool.map(put, range(8)))
    assert all(a is b for row in zip(*found, strict=True) for a, b in itertools.pairwise(row))


def test_a_small_result_does_not_count_everything_again(monkeypatch: pytest.MonkeyPatch) -> None:
    """A drawing of hundreds of lines beside a large scan."""
    from juxtum.job import kept as module

    counted: list[int] = []
    whole = module.held_bytes

    def counting(values: Iterable[Any]) -> int:
        held = list(values)
        counted.append(len(held))
        return whole(held)

    monkeypatch.setattr(module, "held_bytes", counting)
    kept = Kept()
    for k in range(10):
        kept.put(f"large {k}", np.zeros(100_000))
    counted.clear()
    for k in range(500):
        kept.put(f"small {k}", np.zeros(5))
    assert max(counted) == 1 and kept.get("large 9") is not None


def test_several_jobs_at_once_do_not_mix(small: tuple[FileStore, Job]) -> None:
    """Eight threads, each with limits of its own, against one runner: every one gets its own numbers, and all one map."""
    files, job = small
    runner = Runner(files)
    limits = [0.05 * (k + 1) for k in range(8)] * 3
    barrier = threading.Barrier(8)

    def work(upper: float) -> tuple[float, float, object]:
        if barrier.n_waiting or not barrier.broken:
            barrier.wait(30)
        made = job.with_step(Profile(id="1", title="all", lower=-upper, upper=upper))
        found = runner.evaluation(made)
        return upper, found.ledger[0].line.limits.upper or 0.0, found.deviation

    with ThreadPoolExecutor(8) as pool:
        found = list(pool.map(work, limits))
    assert all(wanted == pytest.approx(given) for wanted, given, _ in found)
    assert len({id(deviation) for *_, deviation in found}) == 1


def test_what_was_stopped_halfway_is_made_anew(small: tuple[FileStore, Job]) -> None:
    files, job = small
    runner, stopped = Runner(files), 0
    for checks in range(1, 40):
        progress = Progress()
        seen = [0]

        def check(progress: Progress = progress, seen: list[int] = seen, checks: int = checks) -> None:
            seen[0] += 1
            if seen[0] >= checks:
                raise Cancelled

        progress.check = check  # type: ignore[method-assign]
        try:
            runner.evaluation(job, None, progress)
            break
        except Cancelled:
            stopped += 1
    assert stopped > 3
    assert runner.evaluation(job).statistics == Runner(files).evaluation(job).statistics
