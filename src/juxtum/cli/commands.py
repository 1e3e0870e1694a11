"""What the commands do."""

from __future__ import annotations

import argparse
import json
import os
import sys
from collections.abc import Sequence
from dataclasses import replace
from itertools import count
from pathlib import Path

from juxtum.cli.asking import asked_alignment, asked_feature, asked_walls
from juxtum.cli.checking import known_lines, simulated_lines, simulation_lines
from juxtum.cli.drawn import with_drawing
from juxtum.cli.progress import end_progress, show_progress
from juxtum.errors import AlignmentError, InputError, JuxtumError
from juxtum.evaluate import DecisionRule, Verdict
from juxtum.evaluate.kinds import Profile
from juxtum.exchange.limits import check_file, content_hash
from juxtum.folders import cache_folder
from juxtum.geometry import TriangleMesh
from juxtum.geometry.mesh import Scan
from juxtum.guide.verdicts import headline
from juxtum.guide.walls import wall_facts
from juxtum.instruments import Circumstances, Environment
from juxtum.instruments.circumstances import for_other_parts
from juxtum.instruments.materials import material_named
from juxtum.instruments.models import stated_instrument
from juxtum.job import Evaluation, FileStore, Job, Procedure, Runner, load_job
from juxtum.job.document import scan_behind, usual_alignment, usual_cleaning
from juxtum.job.joins import measured_title, naming_files
from juxtum.job.lot import LotRow, lot_jobs, row_of
from juxtum.job.roles import Input, Role, free_name, inputs_of
from juxtum.job.steps import Decide, Join, Measure, Step, read_readings
from juxtum.job.store import SUFFIX, load_procedure
from juxtum.job.touches import read_touches
from juxtum.job.touching import with_touches
from juxtum.report import result_document, write_outputs
from juxtum.report.handing_out import check_target, hand_out
from juxtum.report.lot import write_lot
from juxtum.report.writer import check_folder

LEAST_NEAR = 0.5
"""With less of the scan's area near the nominal than this it is another part."""


def inspect(options: argparse.Namespace) -> int:
    """`juxtum inspect`."""
    check_limits(options)
    check_folder(options.out)
    if options.surface is not None:
        check_target(options.surface)
    if options.from_nominal is not None and options.from_nominal.suffix.lower() != ".ply":
        raise InputError(
            "only PLY holds a value at each place", str(options.from_nominal), "Name a file that ends in .ply"
        )
    files = FileStore()
    job = job_of(options, files)
    if options.drawing is None and not options.characteristic:
        whole = {"id": "1", "title": "Profile of the whole part", "least_seen": options.least_seen}
        job = job.with_step(Profile.model_validate(whole | {"lower": options.lower, "upper": options.upper}))
    for number, text in enumerate(options.feature or (), 1):
        job = job.with_step(asked_feature(text, f"F{number}"))
    if options.touches is not None:
        read_touches(options.touches)
        job = with_touches(job, str(Role.TOUCHES), files.adopt(options.touches))
    readings = () if options.readings is None else read_readings(options.readings)
    for step in (*readings, *asked_walls(options)):
        job = job.with_step(step)
    runner = Runner(files, lean=True)
    if options.drawing is not None or options.characteristic:
        job = with_drawing(job, options, runner.nominal(job, show_progress()))
    check_tied(job, runner, options.out)
    evaluation = _replay(job, runner, options.out, known_lines(job, options.simulate))
    if options.surface is not None:
        pose = None if options.align == "none" else evaluation.alignment.transform
        made = hand_out(options.surface, runner.cleaned(job), pose, evaluation.name, show_progress())
        end_progress()
        print(made.sentence, file=sys.stderr if options.json else sys.stdout)
    if options.from_nominal is not None:
        words = _from_nominal(options.from_nominal, evaluation, runner.measured(job))
        print(words, file=sys.stderr if options.json else sys.stdout)
    return _finish([(job, evaluation)], options)


def _from_nominal(path: Path, evaluation: Evaluation, scan: Scan) -> str:
    """Write the nominal held against the scan; what came of it, in words."""
    from juxtum.evaluate.held import nominal_against
    from juxtum.exchange.meshes import write_ply
    from juxtum.exchange.writing import write_atomically

    if not isinstance(scan, TriangleMesh):
        raise InputError("a list of points has no surface that the nominal could be held against", str(path), "Mesh it")
    laid = TriangleMesh(evaluation.deviation.points, scan.triangles)
    found = nominal_against(evaluation.deviation.nominal, laid, progress=show_progress())
    end_progress()
    write_atomically(path, lambda target: write_ply(target, found.mesh, {"deviation": found.values}))
    n = found.numbers
    return f"{path.name}: {n['least']:+.3f} to {n['largest']:+.3f} mm, mean {n['mean']:+.3f}; {100 * n['seen']:.1f} % of the nominal has scan over it"


def check_limits(options: argparse.Namespace) -> None:
    """Refuse limits that are the wrong way round."""
    if options.lower >= options.upper:
        limits = f"--lower {options.lower:g} --upper {options.upper:g}"
        raise InputError("the lower limit is not below the upper limit", limits, "Swap them")


def job_of(options: argparse.Namespace, files: FileStore) -> Job:
    """A nominal and its scans, cleaned, joined and aligned as the command line says; nothing is asked of it yet."""
    scans, steps = _several(options, files)
    laid = Join.model_fields["name"].default if options.more else scans[0].name
    steps += [step.model_copy(update={"scan": laid}) for step in asked_alignment(options)]
    frame = steps[-1].name  # type: ignore[union-attr]
    steps += [
        Measure(lower=options.lower, upper=options.upper),
        Decide(alignment=frame, rule=DecisionRule(options.rule)),
    ]
    return Job(
        circumstances=_circumstances(options),
        inputs=(*inputs_of(files.adopt(options.nominal, options.nominal_unit)), *scans),
        procedure=Procedure(steps=tuple(steps)),
    )


def _circumstances(options: argparse.Namespace) -> Circumstances:
    """How it was measured, as far as it is said."""
    instrument = stated_instrument(options.instrument, options.chain or "") if options.instrument else None
    material = material_named(options.material or "")
    room = Environment()
    if material is not None:
        room = Environment(expansion=material.expansion, expansion_u=material.expansion_u)
    if options.expansion is not None:
        room = Environment(expansion=options.expansion)
    room = room.model_copy(update={"temperature": options.temperature})
    return Circumstances(instrument=instrument, environment=room)


def _several(options: argparse.Namespace, files: FileStore) -> tuple[tuple[Input, ...], list[Step]]:
    """The scans under names of their own, each with its cleaning, and what joins them where there are several."""
    scans: list[Input] = []
    given = (options.scan, *options.more)
    for index, path in enumerate(given):
        if path.resolve() in {other.resolve() for other in given[:index]}:
            raise InputError("one file is given twice", str(path), "Name each scan once")
        name = free_name(Role.SCAN, tuple(held.name for held in scans))
        scans.append(Input(name=name, role=Role.SCAN, file=files.adopt(path, options.scan_unit)))
    steps = [step for held in scans for step in _cleaning(options.trim, held.name)]
    if len(scans) > 1:
        steps.append(Join(scans=tuple(held.name for held in scans), by_shape=True))
    return tuple(scans), steps


def check_tied(job: Job, runner: Runner, folder: Path | None) -> None:
    """Say which of several scans is not tied; keep the surface that is made of all, where there is a folder for it."""
    join = job.join_in_force
    if join is None:
        return
    from juxtum.align.scans.proposing import PROPOSED
    from juxtum.exchange.mesh_writing import write_mesh
    from juxtum.job.sources import tied

    made = runner.outcome(job, tied(join.name), show_progress())
    names = {held.name: held.file.name for held in job.scans}
    lost = [names[b.name] for b, pose in zip(made.scans, made.joined.poses, strict=True) if pose is None]
    if lost:
        raise InputError(f"{', '.join(lost)} is not tied to the others", "scans", "Tie it with 'juxtum assemble' first")
    for brought, reason in zip(made.scans, made.joined.reasons, strict=True):
        # Where only edges hold a scan, that is noted and counts in the uncertainty.
        if reason.startswith(PROPOSED):
            raise InputError(
                f"the place of {names[brought.name]} among the others is not sure: {reason}", "scans",
                "Tie it with 'juxtum assemble' and picked pairs or targets first",
            )  # fmt: skip
    if folder is None:
        return
    folder.mkdir(parents=True, exist_ok=True)
    surface = runner.loaded_scan(job, show_progress()).scan
    assert isinstance(surface, TriangleMesh)
    write_mesh(folder / "assembled.ply", surface)


def run(options: argparse.Namespace) -> int:
    """`juxtum run`: the same procedure on each scan, each into its own folder."""
    files = FileStore(cache_folder() / "inputs")
    known = _open_procedure(options.procedure, files)
    if known.nominal is None:
        raise InputError("the job has no nominal", str(options.procedure), "Bring one in Brief and save it again")
    for scan in options.scans:
        check_file(scan)
    check_folder(options.out)
    runner = Runner(files, lean=True)
    results = []
    joined = known.join_in_force
    groups = _groups(options.scans, joined)
    for scans, folder in zip(groups, _folders(options.out, [group[0] for group in groups]), strict=True):
        unit = options.scan_unit or (known.measured[0].unit if known.measured else None)
        how = for_other_parts(known.circumstances)
        if options.instrument:
            how = how.model_copy(update={"instrument": stated_instrument(options.instrument, options.chain or "")})
        names = joined.used if joined is not None else (scan_behind(known),)
        job = known.model_copy(update={"circumstances": how})
        for name, scan in zip(names, scans, strict=True):
            job = job.with_file(name, FileStore.adopt(files, scan, unit))
        if job.procedure.separation is not None:
            results += _replay_lot(job, runner, folder)
        else:
            results.append((job, _replay(job, runner, folder)))
    return _finish(results, options)


def _groups(scans: list[Path], joined: Join | None) -> list[list[Path]]:
    """The scans of each part: one, or as many as the procedure joins, in its order."""
    count = 1 if joined is None else len(joined.used)
    if len(scans) % count:
        what = f"the procedure joins {count} scans of each part, and {len(scans)} were given"
        raise InputError(what, "run", f"Give {count} scans for each part, in the order of the procedure")
    return [scans[k : k + count] for k in range(0, len(scans), count)]


def _open_procedure(path: Path, files: FileStore) -> Job:
    check_file(path)
    if path.suffix.lower() == SUFFIX:
        return load_job(path, files, cache_folder() / "inputs")
    return load_procedure(path, files, lambda note: print(f"note: {path}: {note}", file=sys.stderr))


def _folders(out: Path, scans: list[Path]) -> list[Path]:
    """One folder a scan, named after it; numbered where that name holds another scan, in this run or from an earlier one."""
    taken: set[str] = set()
    folders = []
    for scan in scans:
        digest = content_hash(scan)
        names = (scan.stem if k == 1 else f"{scan.stem} {k}" for k in count(1))
        name = next(n for n in names if n.casefold() not in taken and _is_free(out / n, digest))
        taken.add(name.casefold())
        folders.append(out / name)
    return folders


def _is_free(folder: Path, digest: str) -> bool:
    """Whether a folder holds no result of another scan."""
    try:
        found = json.loads((folder / "result.json").read_bytes())
    except (OSError, ValueError, RecursionError):
        return True
    return not isinstance(found, dict) or found.get("scan_sha256") in (None, digest)


def _cleaning(trim: str, scan: str = "scan") -> list[Step]:
    return list(usual_cleaning(scan)) if trim == "auto" else []


def _replay(job: Job, runner: Runner, folder: Path, checked: Sequence[str] | None = None) -> Evaluation:
    progress = show_progress()
    evaluation = runner.evaluation(job, None, progress.part(0, 0.6))
    check_same_part(job, evaluation)
    if checked:
        evaluation = replace(evaluation, simulated=simulated_lines(job, runner, checked, progress.part(0.6, 0.7)))
    write_outputs(folder, job, evaluation, runner.measured(job), progress.part(0.7, 1))
    end_progress()
    return evaluation


def _replay_lot(job: Job, runner: Runner, folder: Path) -> list[tuple[Job, Evaluation]]:
    """Each part in the scan into a folder of its own, and all of them into one table.

    Raises
    ------
    JuxtumError
        When nothing came of any of them.
    """
    results: list[tuple[Job, Evaluation]] = []
    rows, problems = [], []
    for name, its in lot_jobs(job):
        try:
            made = _replay(its, runner, folder / name)
        except JuxtumError as problem:
            rows.append(LotRow(name, problem=problem.sentence))
            problems.append(problem)
            print(f"note: {name}: {problem.sentence}", file=sys.stderr)
            continue
        rows.append(row_of(name, made))
        results.append((its, made))
    if not results:
        raise problems[0]
    write_lot(folder / "lot.csv", tuple(rows))
    return results


def check_same_part(job: Job, evaluation: Evaluation) -> None:
    """Refuse the scan of another part."""
    d = evaluation.deviation
    share = float(d.weights[d.found].sum() / max(d.weights.sum(), 1e-12))
    if share < LEAST_NEAR:
        what = f"only {100 * share:.0f} % of the scan lies within {job.procedure.measure.limit:g} mm of the nominal"
        where = measured_title(job) or "scan"
        raise AlignmentError(what, where, "Check that it is a scan of this part, its unit and its alignment")


def _finish(results: list[tuple[Job, Evaluation]], options: argparse.Namespace) -> int:
    documents = [result_document(job, evaluation) for job, evaluation in results]
    for job, evaluation in results:
        for note in evaluation.warnings:
            print(f"note: {measured_title(job) or job.title}: {naming_files(job, note)}", file=sys.stderr)
    if options.json:
        print(json.dumps(documents[0] if len(documents) == 1 else documents, indent=1, allow_nan=False))
    else:
        for job, evaluation in results:
            s = evaluation.statistics
            name = measured_title(job)
            print(f"{name}: {headline(evaluation)}; RMS {s.rms:.4f} mm, {100 * s.area_seen:.1f} % of the area seen")
            for name, text in () if evaluation.walls is None else wall_facts(evaluation.walls):
                print(f"     walls, {name}: {text}")
            for words in simulation_lines(evaluation):
                print(f"     {words}")
        print(f"written to {options.out}")
    failed = any(v is not Verdict.CONFORMS for _, evaluation in results for v in evaluation.verdicts)
    return 1 if options.strict and failed else 0


def open(options: argparse.Namespace) -> int:
    """`juxtum open`: hands over to the desk."""
    for path in options.files:
        check_file(path)
    if not _has_display():
        raise InputError("this machine has no display", "open", "Use 'juxtum inspect' or 'juxtum run' instead")
    return _start_desk([str(path) for path in options.files])


def demo(options: argparse.Namespace) -> int:
    """`juxtum demo`: the desk on the demo job; without a display the same job from here, with pictures."""
    prepare(options)
    if _has_display():
        return _start_desk(["--demo"])
    print("This machine has no display: the demo job runs on the command line instead.", file=sys.stderr)
    from juxtum.demo.job import datum_step, demo_job

    check_folder(options.out)
    files = FileStore()
    job = demo_job(files, show_progress())
    for step in (*_cleaning("auto"), *usual_alignment(), datum_step("best fit")):
        job = job.with_step(step)
    evaluation = _replay(job, Runner(files), options.out)
    print(f"BC-220: {headline(evaluation)}; report and tables are in {options.out}")
    status = _start_desk(["--shots", str(options.out)], wait=True)
    print(f"pictures of the stations are in {options.out}" if status == 0 else "the pictures could not be taken")
    return 0


def prepare(options: argparse.Namespace) -> int:
    """`juxtum prepare`: compile the kernels and make the demo, so that nobody waits for it later."""
    from juxtum.cli.preparing import prepare_demo

    path = prepare_demo(show_progress())
    end_progress()
    if options.command == "prepare":
        print(path)
    return 0


def _has_display() -> bool:
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def _start_desk(arguments: list[str], wait: bool = False) -> int:
    command = [sys.executable, "-m", "juxtum.desk", *arguments]
    if wait:
        import subprocess

        from juxtum.cli.display import virtual_display

        with virtual_display() as environment:
            return subprocess.run(command, env=environment, check=False).returncode
    os.execv(sys.executable, command)
