"""`juxtum plan`: the same planning as the desk's, for scripts."""

from __future__ import annotations

import argparse
import csv
import io
import json
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from pydantic import ValidationError

from juxtum.cli.progress import end_progress, show_progress
from juxtum.errors import InputError
from juxtum.exchange.documents import validation_sentence
from juxtum.exchange.limits import check_file
from juxtum.folders import cache_folder
from juxtum.instruments.equipment import Equipment, equipment_named
from juxtum.instruments.materials import material_named
from juxtum.instruments.models import InstrumentModel, Kind, instrument_named, shipped, shipped_instruments
from juxtum.instruments.owned import Owned
from juxtum.job import FileStore, Job, Runner, load_job
from juxtum.job.planning import task_of
from juxtum.job.roles import inputs_of
from juxtum.job.store import SUFFIX
from juxtum.nominal import Nominal
from juxtum.plan.blind import finishes_of
from juxtum.plan.document import Plan
from juxtum.plan.equipping import check_equipment, planned_first, ways
from juxtum.plan.foretold import with_foretold
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner, default_plan, with_expectation
from juxtum.plan.rough_part import part_from_scan
from juxtum.plan.suitability import Fitness, chain_chart
from juxtum.plan.targets.listing import read_targets
from juxtum.plan.targets.views import Stance
from juxtum.plan.targets.ways import WayResult
from juxtum.report import plan_result as results
from juxtum.report.writer import check_folder
from juxtum.units import Unit

DEMO = "demo:"
CLEARLY_MORE = 0.02
"""Of the area that another way has to show more before it is called better."""
MOST_TRIANGLES = 150_000
"""A mesh of more triangles is a rough scan, and thinned."""


class Answer(NamedTuple):
    """A topic's document, its lines, whether it meets what is asked, and the plan as it became by it."""

    document: dict[str, Any]
    lines: list[str]
    is_met: bool
    plan: Plan | None = None


"""Document, lines for people, and whether the plan meets what is asked."""


def plan(options: argparse.Namespace) -> int:
    """`juxtum plan WHAT NOMINAL`."""
    planner, job = make_planner(options)
    if options.out is not None:
        check_folder(options.out)
    document, lines, met, plan = ANSWERS[options.what](planner, options)
    planner = planner if plan is None else replace(planner, plan=plan)
    end_progress()
    part = job.title
    document = results.plan_head(options.what, planner, part) | document
    if options.out is not None:
        _write(options.out, options.what, planner, job, document)
        lines.append(f"written to {options.out}")
    lines += [f"note: {words}" for words in results.notes(planner)]
    if options.json:
        print(json.dumps(document, indent=1, allow_nan=False))
    else:
        print("\n".join(lines))
    return 1 if options.strict and not met else 0


def make_planner(options: argparse.Namespace) -> tuple[Planner, Job]:
    """The planner for the part, task and choices that were given."""
    files = FileStore()
    job = open_part(options.nominal, files, options.nominal_unit)
    runner = Runner(files)
    nominal = runner.nominal(job, show_progress())
    if not nominal.is_exact and len(nominal.mesh.triangles) > MOST_TRIANGLES:
        nominal = part_from_scan(nominal.mesh)
    task = task_of(job, (options.lower, options.upper))
    owned = _owned(options)
    plan = _chosen(job.plan or default_plan(nominal, task), options, nominal, owned)
    if options.material is not None:
        task = replace(task, material=material_named(options.material))
    if options.datums is not None or not task.datums:
        task = replace(task, datums=plan.datums)
    task.check(nominal)
    made = Planner(nominal, task, plan, Grounds(), owned)
    check_equipment(made, plan.equipment)
    return made, job


def open_part(name: str, files: FileStore, unit: Unit | None = None) -> Job:
    """A job from a nominal, a job file, or the name of a demo part."""
    if name.startswith(DEMO):
        return _demo(name[len(DEMO) :], files)
    path = Path(name)
    check_file(path)
    if path.suffix.lower() == SUFFIX:
        return load_job(path, files, cache_folder() / "inputs")
    return Job(inputs=inputs_of(files.adopt(path, unit)))


def _demo(part: str, files: FileStore) -> Job:
    from juxtum.demo.beam_job import beam_job
    from juxtum.demo.job import demo_job
    from juxtum.demo.world import PARTS, nominal_path

    if part not in PARTS:
        raise InputError(f"there is no demo part '{part}'", "demo", f"Parts are: {', '.join(PARTS)}")
    if part == "BC-220":
        return demo_job(files, with_scan=False)
    return beam_job(files) if part == "HB-36" else Job(inputs=inputs_of(files.adopt(nominal_path(part))))


def _instrument(text: str, owned: Owned) -> InstrumentModel:
    """One of the shop's own by its id, or one by its file, or one that ships."""
    return next((model for model in owned.documents if model.id == text), None) or instrument_named(text)


def _piece(text: str, owned: Owned) -> Equipment:
    return next((piece for piece in owned.pieces if piece.id == text), None) or equipment_named(text)


def _chosen(plan: Plan, options: argparse.Namespace, nominal: Nominal, owned: Owned) -> Plan:
    """The plan with what was said on the command line."""
    model = _instrument(options.instrument[0], owned) if options.instrument else None
    changes: dict[str, Any] = {}
    if model is not None and model.kind in (Kind.HANDHELD, Kind.TRACKED):
        changes |= {"instrument": model, "mode": "", "chain": ""}
    names = ("mode", "chain", "diameter", "goal", "bars", "spacing", "coat", "start")
    changes |= {name: getattr(options, name) for name in names if getattr(options, name) is not None}
    if options.allow_faces is not None:
        changes["allowed"] = options.allow_faces
    if options.datums is not None:
        changes["datums"] = options.datums
    if options.stance is not None:
        changes["stance"] = {"table": Stance.TABLE, "stands": Stance.STANDS}[options.stance]
    if options.target_spacing is not None:
        changes["target_spacing"] = options.target_spacing
    if options.fixed_camera:
        changes["self_calibration"] = False
    if options.finish:
        finishes = finishes_of(nominal, dict(word.partition("=")[::2] for word in options.finish))
        changes["finishes"] = tuple(sorted(finishes.items()))
    if options.equipment is not None:
        changes["equipment"] = tuple(_piece(name, owned) for name in options.equipment if name != "none")
        changes["joined"] = "by shape" if options.joined == "shape" and changes["equipment"] else "by targets"
    if options.parts is not None:
        changes["parts_in_tray"] = options.parts
    try:
        made = Plan.model_validate_json(plan.model_copy(update=changes).model_dump_json(by_alias=True))
    except ValidationError as problem:
        raise InputError(validation_sentence(problem), "plan", "See 'juxtum plan --help'") from problem
    made.instrument.mode(made.mode)
    made.instrument.chain(made.chain)
    return made


def _owned(options: argparse.Namespace) -> Owned:
    """What the register holds, where it was asked for."""
    if options.register is None:
        return Owned()
    from juxtum.logbook import Logbook
    from juxtum.logbook.register import Register

    book = Logbook(options.register or None)
    try:
        return Register(book).owned()
    finally:
        book.close()


def _models(options: argparse.Namespace, owned: Owned) -> tuple[InstrumentModel, ...]:
    given = tuple(_instrument(text, owned) for text in options.instrument or ())
    return given or owned.instruments_of(shipped_instruments())


def _of_kind(options: argparse.Namespace, kind: Kind, owned: Owned) -> InstrumentModel:
    """The instrument given on the command line that is of a kind; when none was given the shop's own, or the shipped one."""
    if not options.instrument:
        return next((model for model in owned.documents if model.kind is kind), None) or shipped(kind)
    models = _models(options, owned)
    return next((m for m in models if m.kind is kind), models[0])


def _suitability(planner: Planner, options: argparse.Namespace) -> Answer:
    models = _models(options, planner.owned)
    if planner.model.chain(planner.plan.chain).needs == "bars":
        # The method rests on a photo network, which is planned for this part before it is judged.
        planner.photos(progress=show_progress())
    table = planner.suitability(models)
    told = {made.needs: made for made in planner.grounds.foretold(planner.nominal, planner.task)}
    models = tuple(with_foretold(model, told) for model in models)
    chart = chain_chart(table, models)
    lines = []
    for aim in planner.task.aims:
        best = table.of_aim(aim.id)[0]
        lines.append(
            f"{aim.id:>3}  {aim.title}: {best.verdict} with {best.instrument}, {best.chain}; U {best.expanded:.3f} mm; {best.reason}"
        )
    lines += [
        f"     {made.source}: methods that need it are judged by that"
        for made in planner.grounds.foretold(planner.nominal, planner.task)
    ]
    lines += [f"     {sentence}" for sentence in chart.sentences(table)]
    for price in planner.prices():
        lines.append(f"     spacing {price.title}: {price.effort.capture:.0f} min, {price.effort.peak / 1e9:.1f} GB")
    met = all(table.of_aim(aim.id)[0].verdict is not Fitness.NOT_SUITABLE for aim in planner.task.aims)
    return Answer(results.suitability_document(table, chart, planner), lines, met)


def _targets(planner: Planner, options: argparse.Namespace) -> Answer:
    progress = show_progress()
    if options.targets is not None:
        listed = read_targets(options.targets, planner.nominal, planner.rules().diameter)
        made = replace(planner, plan=planner.plan.with_targets(listed))
    elif (options.keep and planner.plan.is_tracked) or planner.plan.joined == "by shape":
        made = planner
    else:
        made = replace(planner, plan=planned_first(planner, progress.part(0, 0.6)))
    assessment = made.assess(progress.part(0.6, 0.7))
    compared = ways(made, progress.part(0.7, 1))
    lines = [
        f"{len(assessment.targets)} targets: {100 * assessment.share:.1f} % of the area is seen while tracking, from two directions "
        f"where more than one sees it; weakest: {assessment.weakest_words}"
    ]
    lines += [*better_ways(planner, assessment.share, compared), *(_way_line(way) for way in compared)]
    document = results.targets_document(made, assessment, compared)
    return Answer(document, lines, assessment.share >= planner.plan.goal, with_expectation(made, assessment))


def better_ways(planner: Planner, share: float, compared: Sequence[WayResult]) -> list[str]:
    """Where what was planned shows too little: the way with equipment that shows more, and how to ask for it."""
    better = [w for w in compared if w.equipment and np.isfinite(w.expanded) and w.share > share + CLEARLY_MORE]
    if share >= planner.plan.goal or not better:
        return []
    best = max(better, key=lambda way: (round(way.share, 2), -way.expanded))
    asked = " ".join(f"--equipment {piece.id}" for piece in best.equipment)
    asked += " --joined shape" if not best.targets else ""
    return [f"better: {best.way} ({asked}), which shows {100 * best.share:.1f} %"]


def _u_words(expanded: float) -> str:
    if np.isfinite(expanded):
        return f"U {expanded:.3f} mm"
    return "U not known" if np.isnan(expanded) else "positions not tied"


def _way_line(way: WayResult) -> str:
    if not way.is_possible:
        return f"     {way.way}: not possible; {way.words}"
    on = "".join(f" on {e.name}" if e.is_under else f", {e.name}" for e in way.equipment)
    return (
        f"     {way.way}{on}: {len(way.targets)} targets on the part, {100 * way.share:.1f} % of the area seen while tracking, "
        f"{way.minutes:.1f} min, {_u_words(way.expanded)}; {way.words}"
    )


def _photos(planner: Planner, options: argparse.Namespace) -> Answer:
    made = planner.photos(_of_kind(options, Kind.PHOTO, planner.owned), show_progress())
    lines = [
        f"{len(made.views)} photos ({int(made.rolled.sum())} rolled), {made.codes} codes, {len(made.bars)} bars; "
        f"U = {made.a:.3f} + {made.b:.3f} L/m mm, {made.minutes:.0f} min"
    ]
    lines += [
        f"     {v.title}: U {v.expanded:.3f} mm at the longest length, {v.ratio:.2f} times" for v in made.variants
    ]
    document = results.photos_document(planner, made)
    lines.insert(1, f"     {document['words']}")
    return Answer(document, lines, all(t["enough"] for t in document["targets"]))


def _stations(planner: Planner, options: argparse.Namespace) -> Answer:
    made = planner.stations(_of_kind(options, Kind.TRACKED, planner.owned), show_progress())
    proven = "proven" if made.is_proven else "not proven"
    lines = [
        f"{len(made.stations)} stations ({proven} to be the fewest) serve {100 * made.share:.1f} % of the poses; "
        f"range {made.nearest / 1000:.1f} to {made.farthest / 1000:.1f} m, error up to {made.worst_error:.3f} mm"
    ]
    lines += [
        f"     station {k + 1} at {', '.join(f'{v:.0f}' for v in s.place)}: {s.poses} poses"
        for k, s in enumerate(made.stations)
    ]
    lines += [f"     stations {a} and {b} share {n} reference targets" for a, b, n in made.ties]
    if made.turns is not None and len(made.stations) > 1:
        lines.append(f"     or {made.turns.words}; the references then turn with the part")
    return Answer(results.stations_document(made), lines, made.share >= 0.95)


def _blind(planner: Planner, options: argparse.Namespace) -> Answer:
    del options
    spots = planner.blind(show_progress())
    lines = [f"{s.cause}, face {', '.join(map(str, s.faces))}: {s.reason}; {s.instead}" for s in spots]
    return Answer(
        results.blind_document(planner, spots),
        lines or ["scanning will give everything"],
        not any(s.aims for s in spots),
    )


def _turntable(planner: Planner, options: argparse.Namespace) -> Answer:
    made = planner.turntable(_of_kind(options, Kind.HEAD, planner.owned), show_progress())
    lines = [
        f"{made.steps} steps x {len(made.tilts)} positions: {100 * made.coverage:.1f} % of the surface, "
        f"overlap {100 * made.overlap:.0f} %, {made.minutes:.0f} min"
    ]
    return Answer(results.turntable_document(made), lines + [f"     {w}" for w in made.warnings], not made.warnings)


def _tray(planner: Planner, options: argparse.Namespace) -> Answer:
    made = planner.tray(_of_kind(options, Kind.CABINET, planner.owned))
    lines = [
        f"{made.count} parts, tilted by {made.tilt:g} degrees: {made.minutes_each:.1f} min a part, {made.minutes_single:.0f} min one by one"
    ]
    lines += [
        f"     {words}" for words in (made.words, made.fineness.words if made.fineness else "", made.left_out) if words
    ]
    met = made.count >= (planner.plan.parts_in_tray or 1) and made.is_seen_through
    return Answer(results.tray_document(made), lines, met)


def _effort(planner: Planner, options: argparse.Namespace) -> Answer:
    del options
    made = planner.effort()
    lines = [
        f"spacing {made.spacing:g} mm: {made.effort.points / 1e6:.1f} M points, {made.effort.peak / 1e9:.1f} of {made.memory / 1e9:.0f} GB, "
        f"{made.effort.capture:.0f} min of scanning; the finest spacing that fits is {made.finest:.2f} mm"
    ]
    lines += [f"     {e.clock}  {e.minutes:4.0f} min  {e.what}" for e in made.schedule.entries]
    lines += [f"     {w}" for w in made.schedule.warnings]
    return Answer(
        results.effort_document(made), lines, made.effort.peak < 0.7 * made.memory and not made.schedule.warnings
    )


ANSWERS: dict[str, Callable[[Planner, argparse.Namespace], Answer]] = {
    "suitability": _suitability, "targets": _targets, "photos": _photos, "stations": _stations,
    "blind": _blind, "turntable": _turntable, "tray": _tray, "effort": _effort,
}  # fmt: skip


def _write(folder: Path, what: str, planner: Planner, job: Job, document: dict[str, Any]) -> None:
    """The document, a table for targets and photos, and for targets the set-up sheet."""
    from juxtum.exchange.writing import write_atomically

    folder.mkdir(parents=True, exist_ok=True)
    text = json.dumps(document, indent=1, allow_nan=False)
    write_atomically(folder / f"plan-{what}.json", lambda path: path.write_text(text + "\n", "utf-8"))
    if what == "photos":
        table = _table(document["photos"])
        write_atomically(folder / "photos.csv", lambda path: path.write_text(table, "utf-8"))
    if what == "targets":
        from juxtum.report.setup_sheet import write_setup_sheet

        write_setup_sheet(folder, job, planner)
        choices = planner.plan.model_dump_json(by_alias=True, indent=1)
        write_atomically(folder / "plan.json", lambda path: path.write_text(choices + "\n", "utf-8"))


def _table(rows: list[dict[str, Any]]) -> str:
    """Rows as CSV; vectors become one column an axis."""
    text = io.StringIO()
    flat = [
        {
            f"{k}_{'xyz'[i]}" if isinstance(v, list) else k: x
            for k, v in row.items()
            for i, x in enumerate(v if isinstance(v, list) else [v])
        }
        for row in rows
    ]
    writer = csv.DictWriter(text, fieldnames=list(flat[0]))
    writer.writeheader()
    writer.writerows(flat)
    return text.getvalue()
