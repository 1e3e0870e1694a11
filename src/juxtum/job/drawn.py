"""What a job says about its drawing: datums by letter, and limits of size by feature."""

from __future__ import annotations

from juxtum.evaluate.drawn.references import Datum, Faces
from juxtum.evaluate.kinds import Toleranced
from juxtum.evaluate.kinds.size import Diameter, Width
from juxtum.job.document import Job
from juxtum.job.steps import Datums


def known_datums(job: Job) -> dict[str, Datum]:
    """Datums by their letter: of characteristics first, then those that alignments are locked to."""
    found: dict[str, Datum] = {}
    for made in job.procedure.characteristics:
        for datum in made.datums if isinstance(made, Toleranced) else ():
            found.setdefault(datum.letter, datum)
            if datum.is_common:
                for letter, faces in zip(datum.letter.split("-"), datum.of, strict=True):
                    found.setdefault(letter, Datum(letter=letter, of=(faces,), association=datum.association))
    for step in job.procedure.of(Datums):
        for choice in step.datums:
            if choice.faces:
                found.setdefault(choice.letter, Datum(letter=choice.letter, of=(choice.faces,), association="gauss"))
    return found


def known_sizes(job: Job) -> dict[tuple[Faces, ...], tuple[float, float]]:
    """Smallest and largest size of each feature that has a diameter or a width with a nominal."""
    found: dict[tuple[Faces, ...], tuple[float, float]] = {}
    for made in job.procedure.characteristics:
        if isinstance(made, Diameter | Width) and made.nominal is not None:
            for member in made.members:
                found[member] = (made.nominal + made.lower, made.nominal + made.upper)
    return found
