"""A job whose nominal is replaced: everything that names a face finds it again, or says that it is lost."""

from __future__ import annotations

from juxtum.instruments import Circumstances, Coating
from juxtum.job.document import Job
from juxtum.job.procedure import Procedure
from juxtum.job.steps import FeatureStep, GridStep, SectionStep
from juxtum.nominal import Nominal
from juxtum.nominal.fingerprints import Fingerprint, FoundAgain, find_again, fingerprints
from juxtum.plan.document import Plan


def faces_named(job: Job) -> tuple[int, ...]:
    """Numbers of all faces that something in a job is about, each once, rising."""
    steps = (number for step in job.procedure.steps for number in step.faces_named)
    coats = (number for coat in job.circumstances.coats for number in coat.faces)
    plan = (
        ()
        if job.plan is None
        else (*job.plan.datums, *(n for n, _ in job.plan.finishes), *(t.face for t in job.plan.targets if t.face))
    )
    return tuple(sorted({*steps, *coats, *plan}))


def named_fingerprints(job: Job, nominal: Nominal) -> tuple[Fingerprint, ...]:
    """What the faces are known by that something in a job is about."""
    return fingerprints(nominal, faces_named(job))


def revised(job: Job, before: tuple[Fingerprint, ...], nominal: Nominal) -> tuple[Job, tuple[str, ...]]:
    """A job on another revision of its nominal, with what has to be told of it.

    Parameters
    ----------
    before : tuple of Fingerprint
        What its faces were known by.
    nominal : Nominal
        The new one.
    """
    found = find_again(before, nominal)
    notes = list(found.notes)
    steps = []
    for step in job.procedure.steps:
        if isinstance(step, GridStep) and step.face in found.lost:
            notes.append(f"the readings {step.label} went with it")
        elif isinstance(step, SectionStep) and step.face in found.lost:
            notes.append(f"the section {step.label} went with it")
        elif isinstance(step, FeatureStep) and set(step.faces) & set(found.lost):
            notes.append(f"the feature {step.label} went with it")
        else:
            steps.append(step.on_faces(found))
    update = {
        "procedure": Procedure(steps=tuple(steps)),
        "circumstances": _circumstances(job.circumstances, found, notes),
        "plan": None if job.plan is None else _plan(job.plan, found, notes),
    }
    return job.model_copy(update=update), tuple(notes)


def _circumstances(circumstances: Circumstances, found: FoundAgain, notes: list[str]) -> Circumstances:
    """A coat of no faces would be one on all of them: where all of its faces are lost, it goes."""
    coats: list[Coating] = []
    for coat in circumstances.coats:
        numbers, lost = found.renumbered(coat.faces)
        if numbers or not coat.faces:
            coats.append(coat.model_copy(update={"faces": numbers}))
        else:
            notes.append(
                f"{coat.name} was on {lost[0].text} only; state again what is coated"
                if lost
                else f"{coat.name} is on no face any more"
            )
    return circumstances.model_copy(update={"coats": tuple(coats)})


def _plan(plan: Plan, found: FoundAgain, notes: list[str]) -> Plan:
    kept = [t for t in plan.targets if t.face not in found.lost]
    if len(kept) < len(plan.targets):
        notes.append(f"{len(plan.targets) - len(kept)} planned targets were on faces that are lost, and went with them")
    targets = tuple(t.model_copy(update={"face": found.numbers.get(t.face, t.face)}) for t in kept)
    update = {
        "datums": found.renumbered(plan.datums)[0],
        "finishes": tuple((found.numbers[n], finish) for n, finish in plan.finishes if n in found.numbers),
        "targets": targets,
    }
    # What was expected of the plan was of the part as it was.
    return plan.model_copy(update={**update, "expected": None} if found.numbers or found.lost else {})
