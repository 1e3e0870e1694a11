"""From a job to what its plan rests on."""

from __future__ import annotations

from datetime import datetime

from juxtum.capture.kept.document import CaptureRecord
from juxtum.evaluate.kinds import NotTaken
from juxtum.instruments import Circumstances, Coating, Environment, Instrument, Origin
from juxtum.instruments.materials import MATERIALS, Material
from juxtum.instruments.models import shipped_instruments
from juxtum.job.document import Job
from juxtum.job.readiness import Tick
from juxtum.job.steps import Datums
from juxtum.plan.task import Task, whole_part


def task_of(job: Job, otherwise: tuple[float, float] = (-0.2, 0.2)) -> Task:
    """The job's characteristics, its datum system and its room.

    Parameters
    ----------
    otherwise : tuple of float
        Limits of the profile of the whole part, mm, which counts where the job asks for nothing that can be measured.
    """
    aims = tuple(c.aim for c in job.procedure.characteristics if not c.lost and not isinstance(c, NotTaken))
    aims = aims or whole_part(*otherwise).aims
    systems = job.procedure.of(Datums)
    chosen = next((s for s in systems if s.name == job.procedure.decide.alignment), systems[-1] if systems else None)
    datums = tuple(dict.fromkeys(n for d in chosen.datums for n in d.faces)) if chosen is not None else ()
    if chosen is None and job.plan is not None:
        datums = job.plan.datums
    return Task(aims, datums, job.circumstances.environment, MATERIALS.get(job.brief.material))


def planned_coating(job: Job, applied: datetime) -> Coating | None:
    """The coat that the plan proposes, put on now: on the faces that are not matt, or on all where none is named."""
    if job.plan is None or job.plan.coat == "none":
        return None
    return Coating.of(job.plan.coat, tuple(face for face, _ in job.plan.finishes), applied)


def planned_instrument(job: Job) -> Instrument | None:
    """The instrument and chain that the plan proposes."""
    if job.plan is None:
        return None
    return job.plan.instrument.as_instrument(job.plan.instrument.chain(job.plan.chain))


def with_circumstances(job: Job, **update: object) -> Job:
    """The job with other circumstances."""
    return job.model_copy(update={"circumstances": job.circumstances.model_copy(update=update)})


def with_material(job: Job, material: Material | None) -> Job:
    """The job whose part is of a material: its expansion corrects temperatures from now on."""
    job = job.model_copy(update={"brief": job.brief.model_copy(update={"material": material.name if material else ""})})
    if material is None:
        return job
    known = {"expansion": material.expansion, "expansion_u": material.expansion_u}
    return with_circumstances(job, environment=job.circumstances.environment.model_copy(update=known))


def with_temperature(job: Job, temperature: float) -> Job:
    """The job with the temperature at which the part is measured."""
    return with_circumstances(
        job, environment=job.circumstances.environment.model_copy(update={"temperature": temperature})
    )


def with_room(job: Job, temperature: float) -> Job:
    """The job with the temperature of the room, in which the instrument is calibrated."""
    return with_circumstances(job, environment=job.circumstances.environment.model_copy(update={"room": temperature}))


def with_tick(job: Job, key: str, at: datetime | None) -> Job:
    """The job in which its operator says that something is done since a moment, or no longer."""
    others = tuple(tick for tick in job.prepared if tick.key != key)
    mine = () if at is None else (Tick(key=key, by=job.brief.operator, at=at),)
    return job.model_copy(update={"prepared": (*others, *mine)})


def with_coating(job: Job, applied: datetime | None) -> Job:
    """The job with the planned coat on the part since a moment, or with no coat."""
    coating = planned_coating(job, applied) if applied is not None else None
    return with_circumstances(job, coats=() if coating is None else (coating,))


def with_captured_circumstances(job: Job, record: CaptureRecord) -> Job:
    """The job as its capture was made: with the plan's instrument if that captured it, and the time in which it did."""
    instrument = (
        planned_instrument(job) if job.plan is not None and job.plan.instrument.kind.value == record.device else None
    )
    if instrument is None:
        model = next(
            (m for m in shipped_instruments() if m.kind.value == _KINDS.get(record.device, record.device)), None
        )
        instrument = model.as_instrument(model.chain()) if model is not None else None
    stated = job.circumstances.instrument
    if instrument is not None and stated is not None and stated.serial:
        instrument = instrument.model_copy(update={"serial": stated.serial})
    began, ended = (_moment(text) for text in (record.began, record.ended))
    return with_circumstances(
        job, origin=Origin.CAPTURED, instrument=instrument, began=began, ended=ended, is_simulated=record.stand_in
    )


def with_foreign_scan(job: Job) -> Job:
    """The job when a scan is brought that nobody captured here: nothing of an earlier capture holds for it."""
    if job.circumstances.origin is Origin.FOREIGN:
        return job
    return job.model_copy(
        update={
            "circumstances": Circumstances(environment=Environment(expansion=job.circumstances.environment.expansion))
        }
    )


_KINDS = {"head": "structured light", "cabinet": "tomography", "camera": "photo"}


def _moment(text: str) -> datetime | None:
    try:
        return datetime.fromisoformat(text)
    except ValueError:
        return None
