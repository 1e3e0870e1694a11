"""Captures of demo parts by the stand-ins along their plans, and the job that each gives: what drawings are held against."""

from __future__ import annotations

from functools import cache

from benchmarks.promise import MEMORY
from juxtum.capture.kept.result import points_of, record_of, surface_of
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.path.run import run_by_itself
from juxtum.capture.ways.turning import begin_turns
from juxtum.demo.bodies import MADE, made_body
from juxtum.devices.kinds import DeviceKind, make_stand_in
from juxtum.devices.link import DirectLink
from juxtum.evaluate.uncertainty import Chain
from juxtum.geometry import TriangleMesh
from juxtum.instruments.models import Kind, shipped
from juxtum.job import FileStore, Job, Runner
from juxtum.job.planning import task_of, with_captured_circumstances
from juxtum.plan.equipping import planned_first
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner, default_plan


def capture_of(part: str, kind: DeviceKind, seed: int) -> tuple[TriangleMesh, Chain]:
    """The surface of a capture of a demo part along its plan, about where the part is, and the instrument that it states."""
    job, planner = _planned(part, kind)
    device = make_stand_in(
        kind, made_body(planner.nominal, planner.plan, part if part in MADE else "", seed), planner, seed
    )
    if kind is DeviceKind.HEAD:
        run = begin_turns(planner, MEMORY)
        while run.next_stop is not None:
            run.shoot_all(DirectLink(device))
        session = run.session
    else:
        session = CaptureSession(planner, MEMORY)
        run_by_itself(session, DirectLink(device))
    assert session.map.to_part is not None
    record = record_of(session, {p.number: job.nominal for p in session.good}, kind.value, seed)  # type: ignore[misc]
    chain = Chain.of(with_captured_circumstances(job, record).circumstances)
    return surface_of(points_of(session)).moved(session.map.to_part), chain


@cache
def _planned(part: str, kind: DeviceKind) -> tuple[Job, Planner]:
    from juxtum.demo.job import demo_job
    from juxtum.demo.shaft_job import shaft_job

    files = FileStore()
    job = shaft_job(files) if part == "PS-14" else demo_job(files, with_scan=False)
    nominal, task = Runner(files).nominal(job), task_of(job)
    plan = job.plan or default_plan(nominal, task)
    if kind is DeviceKind.TRACKED:
        plan = plan.model_copy(update={"instrument": shipped(Kind.TRACKED), "mode": "", "chain": ""})
    planner = Planner(nominal, task, plan, Grounds())
    if kind is not DeviceKind.HEAD:
        planner = Planner(nominal, task, planned_first(planner), planner.grounds)
    return job.model_copy(update={"plan": planner.plan}), planner
