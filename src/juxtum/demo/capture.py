"""The demo job's capture: BC-220 scanned by the handheld stand-in along its plan; made once and kept in the user's cache."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from importlib.resources import files as resources
from pathlib import Path

from juxtum.capture.kept.document import CaptureRecord
from juxtum.capture.kept.result import record_of, write_patch
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.path.run import run_by_itself
from juxtum.demo.bodies import body_for
from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.link import DirectLink
from juxtum.exchange.writing import write_atomically
from juxtum.folders import cache_folder
from juxtum.job import FileStore, Job, Runner
from juxtum.job.planning import task_of
from juxtum.plan.document import Plan
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner
from juxtum.progress import Progress, silent

SEED = 417
MEMORY = 2e9
TIMES = ("2026-11-24T09:05", "2026-11-24T09:08")
RECIPE = (
    "instruments/data/1-handheld.json",
    *(f"demo/{name}" for name in ("bodies.py", "capture.py", "carrier.py", "job.py", "data/truth.json")),
    *(f"capture/path/{name}" for name in ("run.py", "route.py")),
    *(f"capture/live/{name}" for name in ("gathering.py", "session.py", "next_view.py", "coverage.py")),
    *(f"devices/{name}" for name in ("handheld.py", "shot.py", "surface.py", "targetmap.py")),
    *(
        f"plan/targets/{name}"
        for name in ("placer.py", "places.py", "views.py", "covering.py", "linking.py", "ground.py")
    ),
    *(f"plan/{name}" for name in ("planner.py", "blind.py")),
)


def with_capture(job: Job, files: FileStore, progress: Progress | None = None) -> Job:
    """The demo job with its targets planned and its capture, both made on first use."""
    folder = cache_folder() / f"BC-220-capture-{_recipe()}"
    if not (folder / "capture.json").exists():
        _make(job, folder, progress or silent())
    plan = Plan.model_validate_json((folder / "plan.json").read_bytes())
    record = CaptureRecord.model_validate_json((folder / "capture.json").read_bytes())
    patches = tuple(p.model_copy(update={"file": files.adopt(folder / p.file.name)}) for p in record.patches)
    return job.model_copy(update={"plan": plan, "capture": record.model_copy(update={"patches": patches})})


def _make(job: Job, folder: Path, progress: Progress) -> None:
    unfinished = folder.with_name(f"{folder.name}.{os.getpid()}.part")
    shutil.rmtree(unfinished, ignore_errors=True)
    unfinished.mkdir(parents=True)
    store = FileStore()
    assert job.nominal is not None and job.plan is not None
    from juxtum.demo.world import nominal_path

    store.register(job.nominal, nominal_path())
    nominal = Runner(store).nominal(job, progress.part(0, 0.1))
    begun = Planner(nominal, task_of(job), job.plan, Grounds())
    planner = Planner(nominal, begun.task, begun.planned(progress.part(0.1, 0.3)), begun.grounds)
    scanner = HandheldScanner(body_for(job.nominal, nominal, planner.plan, SEED), planner.model, SEED)
    session = CaptureSession(planner, MEMORY)
    run_by_itself(session, DirectLink(scanner), progress.part(0.3, 1.0))
    kept = {p.number: store.adopt(write_patch(p, unfinished)) for p in session.good}
    record = record_of(session, kept, scanner.kind, SEED, TIMES)
    write_atomically(
        unfinished / "plan.json", lambda path: path.write_text(planner.plan.model_dump_json(by_alias=True), "utf-8")
    )
    write_atomically(
        unfinished / "capture.json",
        lambda path: path.write_text(json.dumps(json.loads(record.model_dump_json())), "utf-8"),
    )
    try:
        os.replace(unfinished, folder)
    except OSError:
        # Another process was faster.
        shutil.rmtree(unfinished, ignore_errors=True)


def _recipe() -> str:
    """A short key that changes with whatever makes the capture."""
    root = resources("juxtum")
    return hashlib.sha256(b"".join(root.joinpath(name).read_bytes() for name in RECIPE)).hexdigest()[:12]
