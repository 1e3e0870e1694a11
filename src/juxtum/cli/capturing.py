"""What `juxtum capture` and `juxtum device` do."""

from __future__ import annotations

import argparse
import json
import os
import secrets
from pathlib import Path
from typing import Any

import numpy as np

from juxtum.capture.kept.document import CaptureRecord
from juxtum.capture.kept.result import points_of, record_of, surface_of, write_patch
from juxtum.capture.live.points import capture_memory
from juxtum.capture.live.promised import hold_against
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.live.sieve import Sieve
from juxtum.capture.path.run import run_by_itself, tell
from juxtum.capture.ways.photowalk import begin_walk, map_rows, walk_along
from juxtum.capture.ways.turning import begin_turns
from juxtum.cli.planning import open_part
from juxtum.cli.progress import end_progress, show_progress
from juxtum.devices.kinds import DeviceKind, make_stand_in
from juxtum.devices.link import TOKEN, DirectLink, Link, SocketLink, ask
from juxtum.devices.protocol import DeviceError, Message
from juxtum.devices.server import serve
from juxtum.errors import InputError
from juxtum.exchange.documents import Form, read_document
from juxtum.exchange.meshes import write_ply
from juxtum.exchange.writing import write_atomically
from juxtum.instruments.models import Kind, instrument_named, shipped
from juxtum.job import FileStore, Job, Procedure, Runner, save_job
from juxtum.job.document import default_procedure
from juxtum.job.planning import task_of, with_captured_circumstances
from juxtum.job.steps import BestFit, Fragments, Rough
from juxtum.job.store import SUFFIX, load_job
from juxtum.nominal import Nominal
from juxtum.plan.document import Plan
from juxtum.plan.equipping import planned_first
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner, default_plan, with_expectation
from juxtum.report.writer import check_folder

SLACK = 0.02
"""A capture may stay so much below what the plan expected of it."""
BY_TARGETS = (DeviceKind.HANDHELD, DeviceKind.TRACKED, DeviceKind.CAMERA)
"""Devices that know by targets where they are, or measure them."""
MAX_PLAN_BYTES = 64 * 1024**2


def capture(options: argparse.Namespace) -> int:
    """`juxtum capture NOMINAL`."""
    from juxtum.capture.ways import others

    files = FileStore()
    job = open_part(options.nominal, files, options.nominal_unit)
    kind = DeviceKind(options.device)
    job, nominal, planner = _planned(job, files, options, needs_targets=kind in BY_TARGETS)
    check_folder(options.out)
    link = (
        SocketLink(options.port) if options.port else DirectLink(_stand_in(kind, job, nominal, planner, options.seed))
    )
    try:
        about = ask(link, Message("hello", {"version": 1}), "about", 60.0)
        if about.text("device") != kind.value:
            raise DeviceError(
                f"this device is a {about.text('device') or 'thing without a name'}, not a {kind}",
                "device",
                "Name it with --device",
            )
        if kind in (DeviceKind.HANDHELD, DeviceKind.TRACKED):
            document, lines, met = _scanned(job, files, planner, link, options)
        elif kind is DeviceKind.HEAD:
            document, lines, met = _turned(job, files, planner, link, options)
        else:
            document, lines, met = others.RUNS[kind](planner, link, options.out, show_progress())
    finally:
        link.close()
    end_progress()
    text = json.dumps(document, indent=1, allow_nan=False)
    write_atomically(options.out / "capture.json", lambda path: path.write_text(text + "\n", "utf-8"))
    print(text if options.json else "\n".join([*lines, f"written to {options.out}"]))
    return 1 if options.strict and not met else 0


def device(options: argparse.Namespace) -> int:
    """`juxtum device serve KIND`."""
    files = FileStore()
    job = open_part(options.part, files, options.nominal_unit)
    options.upper, options.lower, options.spacing = 0.2, -0.2, None
    kind = DeviceKind(options.kind)
    job, nominal, planner = _planned(job, files, options, needs_targets=kind in BY_TARGETS)
    made = _stand_in(kind, job, nominal, planner, options.seed)
    token = os.environ.get(TOKEN) or secrets.token_urlsafe(24)
    if TOKEN not in os.environ:
        print(f"clients need {TOKEN}={token}", flush=True)
    serve(
        made,
        options.port,
        lambda port: print(f"{kind} listens on port {port}", flush=True),
        token=token,
        once=options.once,
    )
    return 0


def _stand_in(kind: DeviceKind, job: Job, nominal: Nominal, planner: Planner, seed: int) -> Any:
    from juxtum.demo.bodies import body_for

    return make_stand_in(kind, body_for(job.nominal, nominal, planner.plan, seed), planner, seed)


def _planned(
    job: Job, files: FileStore, options: argparse.Namespace, *, needs_targets: bool = True
) -> tuple[Job, Nominal, Planner]:
    """The job with its plan; targets are planned where there are none yet."""
    nominal = Runner(files).nominal(job, show_progress())
    if not job.procedure.characteristics:
        job = job.model_copy(update={"procedure": default_procedure(options.lower, options.upper)})
    plan = read_plan(options.plan, files) if options.plan else job.plan
    job = job.model_copy(update={"plan": plan or default_plan(nominal, task_of(job))})
    assert job.plan is not None
    given = getattr(options, "instrument", None)
    model = instrument_named(given) if given else None
    if (
        model is None
        and getattr(options, "device", getattr(options, "kind", "")) == "tracked"
        and job.plan.instrument.kind is not Kind.TRACKED
    ):
        model = shipped(Kind.TRACKED)
    plan = job.plan if model is None else job.plan.model_copy(update={"instrument": model, "mode": "", "chain": ""})
    planner = Planner(nominal, task_of(job), plan, Grounds())
    if needs_targets and not plan.is_tracked:
        planner = Planner(nominal, planner.task, planned_first(planner, show_progress()), planner.grounds)
    elif model is not None:
        # The targets are stuck already; what they promise is another thing with a tracker.
        planner = Planner(
            nominal, planner.task, with_expectation(planner, planner.assess(show_progress())), planner.grounds
        )
    return job.model_copy(update={"plan": planner.plan}), nominal, planner


def read_plan(path: Path, files: FileStore) -> Plan:
    """A plan from its own JSON file or from a job.

    Raises
    ------
    InputError
    """
    if path.suffix.lower() == SUFFIX:
        from juxtum.folders import cache_folder

        plan = load_job(path, files, cache_folder() / "inputs").plan
        if plan is None:
            raise InputError("this job has no plan", str(path), "Plan it first")
        return plan
    return read_document(path, Form(Plan, "a plan", "See docs/plan-format.md", MAX_PLAN_BYTES))


def _photographed(job: Job, planner: Planner, link: Link, session: CaptureSession, seed: int) -> None:
    """The chain wants photos with bars first: their adjusted targets are the scanner's map."""
    camera = DirectLink(_stand_in(DeviceKind.CAMERA, job, planner.nominal, planner, seed))
    walk = begin_walk(planner.photos(), camera)
    walk_along(walk, camera)
    session.map.give(map_rows(walk, np.array([t.place for t in planner.plan.placed])))
    tell(session, link, Message("map", {"targets": session.map.rows(), "fixed": True}))


def with_alignment(job: Job) -> Job:
    """A job that lacks cleaning or alignment gets the usual ones, so that it can be run as it is."""
    procedure = job.procedure
    if procedure.alignments:
        return job
    usual = [s for s in default_procedure().steps if isinstance(s, Fragments | Rough | BestFit)]
    return job.model_copy(update={"procedure": Procedure(steps=(*usual, *procedure.steps))})


def _scanned(
    job: Job, files: FileStore, planner: Planner, link: Link, options: argparse.Namespace
) -> tuple[dict[str, Any], list[str], bool]:
    """Scan along the plan; patches, surface, record, and a job that goes on with them."""
    session = CaptureSession(planner, capture_memory(), options.spacing)
    session.sieve = Sieve(is_clean=options.clean, cut=options.cut)
    if planner.model.chain(planner.plan.chain).needs == "bars" and not options.port:
        _photographed(job, planner, link, session, options.seed)
    run_by_itself(session, link, show_progress())
    record = _kept(job, files, session, options)
    promise = hold_against(session)
    expected = planner.plan.expected.coverage if planner.plan.expected is not None else 0.95
    lines = [
        f"{_patches(record)}, {record.points} points in {record.seconds:.0f} s of scanning",
        f"captured {100 * record.one_pass:.1f} % of what is measured, {100 * record.coverage:.1f} % densely; the plan expected {100 * expected:.1f} %",
        f"{len(record.targets)} targets found, {len([t for t in record.targets if t.planned])} of them as planned",
        *(f"at {e.time:.1f} s: {e.word}, {e.why}" for e in record.events if e.word != "target found"),
        *([f"{session.left_out} points left out"] if session.left_out else []),
        promise.words,
        *(f"     face {s.face}, {s.area / 100:.1f} cm2: {s.why}" for s in promise.shortfalls),
    ]
    return _document(record) | {"promise": promise.document()}, lines, record.one_pass >= expected - SLACK


def _turned(
    job: Job, files: FileStore, planner: Planner, link: Link, options: argparse.Namespace
) -> tuple[dict[str, Any], list[str], bool]:
    """A turn of the table in each position of the part; patches, surface, record, and a job that goes on with them."""
    run = begin_turns(planner, capture_memory(), show_progress())
    while run.next_stop is not None:
        run.shoot_all(link, show_progress())
    record = _kept(job, files, run.session, options)
    shots = [
        {
            "patch": f.patch, "position": f.stop.position, "degrees": round(f.stop.degrees, 2), "points": f.points,
            "overlap": round(f.overlap, 3), "rms": round(f.rms, 4), "words": f.words,
        }
        for f in run.facts
    ]  # fmt: skip
    lines = [
        f"{len(shots)} shots, {record.points} points",
        f"captured {100 * record.one_pass:.1f} % of what is measured, {100 * record.coverage:.1f} % densely; "
        f"the turns planned see {100 * run.plan.coverage:.1f} %",
        *(f"shot {f.patch}: {f.words}" for f in run.facts if f.words != "good"),
    ]
    return _document(record) | {"shots": shots}, lines, record.one_pass >= run.plan.coverage - SLACK


def _kept(job: Job, files: FileStore, session: CaptureSession, options: argparse.Namespace) -> CaptureRecord:
    """Write what a session holds: its patches, a surface of them, and the job that goes on with it."""
    kept = {p.number: files.adopt(write_patch(p, options.out)) for p in session.good}
    surface = surface_of(points_of(session), progress=show_progress())
    write_atomically(options.out / "scan.ply", lambda path: write_ply(path, surface))
    record = record_of(session, kept, options.device, options.seed)
    job = with_alignment(job.model_copy(update={"capture": record}).with_scan(files.adopt(options.out / "scan.ply")))
    job = with_captured_circumstances(job, record)
    save_job(job, options.out / f"captured{SUFFIX}", files)
    return record


def _document(record: CaptureRecord) -> dict[str, Any]:
    return {"schema": "juxtum-capture-1", **json.loads(record.model_dump_json())}


def _patches(record: CaptureRecord) -> str:
    return f"{len(record.patches)} patch{'' if len(record.patches) == 1 else 'es'}"
