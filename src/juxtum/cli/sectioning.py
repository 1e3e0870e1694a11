"""`juxtum section`: nominal and scan cut with planes."""

from __future__ import annotations

import argparse
import json
import sys
from typing import Any

from pydantic import ValidationError

from juxtum.cli.commands import check_limits, check_same_part, check_tied, job_of
from juxtum.cli.progress import end_progress, show_progress
from juxtum.errors import InputError
from juxtum.evaluate.sections import Section, between
from juxtum.guide.sections import dimension_words, feature_words, section_words
from juxtum.job import Evaluation, FileStore, Runner
from juxtum.job.joins import measured_title, naming_files
from juxtum.job.steps import SectionStep
from juxtum.report.result import clean
from juxtum.report.sections import SUFFIXES, section_document, write_sections
from juxtum.scene.palette import MapScale
from juxtum.units import parse_length

SCHEMA = "juxtum-sections-1"
AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}
HOW = "Use for example z=12.5, face:14, face:14+2, or 0,0,12.5,0,0,1 for a point and a normal"


def section(options: argparse.Namespace) -> int:
    """Cut, write what was asked for, and say what the planes show."""
    check_limits(options)
    if options.out.suffix.lower() not in SUFFIXES:
        raise InputError(
            f"'{options.out.suffix}' is not a format for sections", str(options.out), "Use .dxf, .svg or .csv"
        )
    if not options.out.resolve().parent.is_dir():
        raise InputError("the folder does not exist", str(options.out.parent), "Make it first, or name another one")
    steps = [planes_from(text, options) for text in options.plane]
    files = FileStore()
    job = job_of(options, files)
    for step in steps:
        job = job.with_step(step)
    runner, progress = Runner(files, lean=True), show_progress()
    check_tied(job, runner, None)
    evaluation = runner.evaluation(job, None, progress)
    check_same_part(job, evaluation)
    missed = [s.plane.name for s in evaluation.sections if not s.drawn.curves]
    if len(missed) == len(evaluation.sections):
        raise InputError(
            "no plane meets the part", ", ".join(missed), "Choose planes within its bounds; see 'juxtum info'"
        )
    write_sections(options.out, evaluation.sections, MapScale(options.lower, options.upper), options.enlarge)
    end_progress()
    for note in evaluation.warnings:
        print(f"note: {measured_title(job) or job.title}: {naming_files(job, note)}", file=sys.stderr)
    dimensions = [_dimension(text, evaluation.sections) for text in options.between or ()]
    if options.json:
        print(json.dumps(clean(_document(evaluation, dimensions)), indent=1, allow_nan=False))
    else:
        print("\n".join([*_lines(evaluation.sections, dimensions), f"written to {options.out}"]))
    return 0


def _document(evaluation: Evaluation, dimensions: list[dict[str, Any]]) -> dict[str, Any]:
    return {
        "schema": SCHEMA,
        "units": {"length": "mm", "angle": "degree"},
        "alignment": {"name": evaluation.name, "notes": list(evaluation.alignment.notes)},
        "notes": list(evaluation.doubts.notes),
        "sections": [section_document(s) for s in evaluation.sections],
        "dimensions": dimensions,
    }


def _lines(sections: tuple[Section, ...], dimensions: list[dict[str, Any]]) -> list[str]:
    lines = []
    for one in sections:
        lines.append(f"{one.plane.name}: {section_words(one)}")
        lines += [f"  {feature_words(feature)}" for feature in one.features]
    return [*lines, *(found["words"] for found in dimensions)]


def planes_from(text: str, options: argparse.Namespace) -> SectionStep:
    """The step that `--plane` asks for.

    Raises
    ------
    InputError
    """
    try:
        given: dict[str, Any] = {"label": text.strip(), **_place(text.strip())}
        if options.radial is not None:
            given |= {"series": "radial", "count": options.radial}
        elif options.series is not None:
            given |= {"count": options.series[0], "spacing": options.series[1]}
        return SectionStep(along=options.along, **given)
    except ValidationError as problem:
        what = str(problem.errors()[0]["msg"]).removeprefix("Value error, ")
        raise InputError(f"{what[:1].lower()}{what[1:]}", f"--plane {text}", HOW) from problem


def _place(text: str) -> dict[str, Any]:
    name, sign, value = text.partition("=")
    if sign and name.strip().lower() in AXES:
        axis = AXES[name.strip().lower()]
        at = parse_length(value)
        return {"normal": axis, "point": tuple(at * a for a in axis)}
    if text.lower().startswith("face:"):
        number, sign, offset = text[5:].replace("+-", "-").partition("+")
        if not sign and "-" in number:
            number, _, offset = number.partition("-")
            offset = f"-{offset}"
        if number.strip().isdigit():
            return {"face": int(number), "offset": parse_length(offset) if offset else 0.0}
    words = text.replace(";", ",").split(",")
    if len(words) == 6:
        numbers = [parse_length(word) for word in words]
        return {"point": tuple(numbers[:3]), "normal": tuple(numbers[3:])}
    raise InputError(f"'{text}' is not a plane", "--plane", HOW)


def _dimension(text: str, sections: tuple[Section, ...]) -> dict[str, Any]:
    """`--between 2,5`: numbers of two features of the first section that has both."""
    words = [word.strip() for word in text.split(",")]
    if len(words) == 2:
        for one in sections:
            known = {feature.name.split()[-1]: feature for feature in one.features}
            if all(word in known for word in words):
                first, second = (known[word] for word in words)
                found = between(first, second)
                return {
                    "section": one.plane.name,
                    "first": first.name,
                    "second": second.name,
                    "kind": found.kind,
                    "nominal": found.nominal,
                    "measured": found.measured,
                    "deviation": found.measured - found.nominal,
                    "expanded_uncertainty": found.expanded,
                    "words": dimension_words(first.name, second.name, found),
                }
    raise InputError(
        f"'{text}' names no two features of a section", "--between", "Use the numbers of its list, such as 2,5"
    )
