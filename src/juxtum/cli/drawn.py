"""Characteristics that the command line names: of a table, of the model itself, typed."""

from __future__ import annotations

import argparse
import sys

from juxtum.errors import InputError
from juxtum.evaluate.drawing import read_drawing
from juxtum.evaluate.drawing_model import model_drawing
from juxtum.evaluate.drawing_words import Rules
from juxtum.evaluate.kinds import Kind
from juxtum.evaluate.typed import typed_characteristic, typed_datum
from juxtum.job import Job
from juxtum.job.drawn import known_datums, known_sizes
from juxtum.nominal import Nominal

MODEL = "model"
"""In place of a drawing's table: what the model states."""


def with_drawing(job: Job, options: argparse.Namespace, nominal: Nominal) -> Job:
    """What the drawing's table asks for, and after it what is typed."""
    rules = Rules(options.rules)
    for made in _drawn(options, nominal, rules):
        job = job.with_step(made)
    typed = {d.letter: d for d in (typed_datum(text, nominal) for text in options.datum or ())}
    for text in options.characteristic or ():
        datums = known_datums(job) | typed
        number = job.procedure.next_number
        job = job.with_step(typed_characteristic(text, number, nominal, datums, known_sizes(job), rules))
    return job


def _drawn(options: argparse.Namespace, nominal: Nominal, rules: Rules) -> tuple[Kind, ...]:
    """What a drawing's table asks for, or the model itself; what is left out of it is said, and stays a line that is not decided."""
    if options.drawing is None:
        return ()
    if str(options.drawing) != MODEL:
        return read_drawing(options.drawing, nominal, rules)
    made = model_drawing(nominal, rules)
    for sentence in made.left:
        print(f"note: {options.nominal.name}: left out of what the model states: {sentence}", file=sys.stderr)
    if not made.characteristics:
        raise InputError("nothing of what the model states could be taken", str(options.nominal), "Give a table")
    return made.lines
