"""The job of HB-36: a long beam that is planned and not yet scanned."""

from __future__ import annotations

from juxtum.demo.world import nominal_path
from juxtum.evaluate.kinds import Profile
from juxtum.instruments import Circumstances, Environment, Instrument
from juxtum.job import Brief, FileStore, Job, Procedure
from juxtum.job.document import usual_alignment, usual_cleaning
from juxtum.job.roles import inputs_of
from juxtum.job.steps import DatumChoice, Datums, Decide, Measure, Step
from juxtum.plan.document import Plan
from juxtum.plan.targets.views import Stance

FACES = {"near hinge bore": 62, "near hinge side": 45, "first seat": 79, "middle seat": 80, "far seat": 81}
FACES |= {"gusset hole": 52, "grease hole": 65, "far hinge bore": 78}
"""Numbers of the nominal's faces, by what they are."""

BRIEF = Brief(
    part="HB-36 sluice hinge beam",
    serial="0036",
    drawing="TF-36 rev. A",
    customer="Low Meadow Drainage Board",
    operator="Ilse Maartens",
    date="2026-11-24",
    material="carbon steel",
    note="Planned; to be scanned on stands in the yard hall.",
)


CIRCUMSTANCES = Circumstances(
    instrument=Instrument(
        name="Handheld scanner WH-3, with photo set and bars",
        serial="TF-HS-03",
        a=0.0253,
        b=0.0165,
        repeatability=0.0046,
    ),
    environment=Environment(temperature=18.0, temperature_u=0.8, expansion=11.8, expansion_u=0.8),
)


def characteristics() -> tuple[Profile, ...]:
    """The lines of the drawing."""

    def line(number: int, title: str, limit: float, *names: str) -> Profile:
        return Profile(
            id=str(number), title=title, lower=-limit, upper=limit, faces=tuple(FACES[name] for name in names)
        )

    return (
        line(1, "Profile, whole beam", 3.0),
        line(2, "Profile, near hinge bore", 0.2, "near hinge bore"),
        line(3, "Profile, middle paddle seat", 0.4, "middle seat"),
        line(4, "Profile, far paddle seat", 0.5, "far seat"),
        line(5, "Profile, gusset hole", 0.3, "gusset hole"),
        line(6, "Profile, grease hole", 0.3, "grease hole"),
        line(7, "Profile, far hinge bore", 0.7, "far hinge bore"),
    )


def beam_job(files: FileStore) -> Job:
    """The job, with a plan begun and no scan yet."""
    rows = (("A", "first seat"), ("B", "near hinge bore"), ("C", "near hinge side"))
    datums = tuple(DatumChoice(letter=letter, faces=(FACES[name],)) for letter, name in rows)
    steps: tuple[Step, ...] = (
        *usual_cleaning(),
        *usual_alignment(),
        Datums(name="datums A|B|C", start="best fit", datums=datums),
        Measure(lower=-1.0, upper=1.0),
        Decide(alignment="datums A|B|C"),
        *characteristics(),
    )
    plan = Plan(stance=Stance.STANDS, chain="with photo set and bars", start="07:30")
    return Job(
        brief=BRIEF,
        circumstances=CIRCUMSTANCES,
        inputs=inputs_of(files.adopt(nominal_path("HB-36"))),
        procedure=Procedure(steps=steps),
        plan=plan,
    )
