"""The demo job: BC-220, its scan as it came from the device, and the drawing's characteristics."""

from __future__ import annotations

from juxtum.demo.world import nominal_path, scan_path
from juxtum.evaluate.kinds import Profile
from juxtum.instruments import Circumstances, Environment, Instrument
from juxtum.job import Brief, FileStore, Job, Procedure
from juxtum.job.roles import inputs_of
from juxtum.job.steps import DatumChoice, Datums, Decide, Measure, Step
from juxtum.plan.document import Plan
from juxtum.progress import Progress

FACES = {"seat top": 12, "plate top": 14, "seat end": 16, "bore": 51, "shroud": 1, "underside": 63}
FACES |= {"boss 1 top": 68, "boss 2 top": 73, "bolt hole 1": 71}
"""Numbers of the nominal's faces, by what they are."""

BRIEF = Brief(
    part="BC-220 bearing carrier",
    serial="0417",
    drawing="TF-220 rev. C",
    customer="Low Meadow Drainage Board",
    operator="Ilse Maartens",
    date="2026-11-20",
    material="grey cast iron",
    note="Upright on the table; the underside was not scanned.",
)


CIRCUMSTANCES = Circumstances(
    instrument=Instrument(
        name="Handheld scanner WH-3, scanner alone",
        serial="TF-HS-03",
        a=0.0194,
        repeatability=0.0046,
        b=0.066,
        certificate="TF-C-1182",
        certificate_u=0.006,
    ),
    environment=Environment(temperature=20.0, temperature_u=0.5, expansion=10.5, expansion_u=1.0),
)


def characteristics() -> tuple[Profile, ...]:
    """The lines of the drawing."""

    def line(number: int, title: str, limit: float, *names: str) -> Profile:
        faces = tuple(FACES[name] for name in names)
        return Profile(id=str(number), title=title, lower=-limit, upper=limit, faces=faces)

    return (
        line(1, "Profile, whole part", 0.5),
        line(2, "Profile, seat top", 0.05, "seat top"),
        line(3, "Profile, bore", 0.1, "bore"),
        line(4, "Profile, drip shroud", 0.4, "shroud"),
        line(5, "Profile, boss 1 top", 0.15, "boss 1 top"),
        line(6, "Profile, boss 2 top", 0.15, "boss 2 top"),
        line(7, "Profile, bolt hole 1", 0.25, "bolt hole 1"),
        line(8, "Profile, underside", 0.1, "underside"),
    )


def datum_step(start: str) -> Datums:
    """Plate top, bore, end of the seat."""
    rows = (("A", "plate top"), ("B", "bore"), ("C", "seat end"))
    datums = tuple(DatumChoice(letter=letter, faces=(FACES[name],)) for letter, name in rows)
    return Datums(name="datums A|B|C", start=start, datums=datums)


def demo_job(files: FileStore, progress: Progress | None = None, *, with_scan: bool = True) -> Job:
    """The job with its scan loaded and nothing done yet; without its scan where only the plan is wanted."""
    steps: tuple[Step, ...] = (Measure(lower=-0.2, upper=0.2), Decide(), *characteristics())
    return Job(
        brief=BRIEF,
        circumstances=CIRCUMSTANCES,
        inputs=inputs_of(files.adopt(nominal_path()), files.adopt(scan_path(progress)) if with_scan else None),
        procedure=Procedure(steps=steps),
        plan=Plan(
            datums=tuple(FACES[name] for name in ("plate top", "bore", "seat end")),
            allowed=(FACES["plate top"], FACES["underside"]),
            chain="scanner alone",
            start="08:15",
        ),
    )
