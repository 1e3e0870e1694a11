"""All files of a report into one folder, whole or not at all."""

from __future__ import annotations

import errno
import json
import os
import shutil
import tempfile
import time
from pathlib import Path

from juxtum.errors import InputError
from juxtum.exchange.meshes import write_ply
from juxtum.geometry.mesh import PointCloud, Scan, TriangleMesh
from juxtum.job import Evaluation, Job
from juxtum.job.runner import Comparison
from juxtum.job.shares import shown_map
from juxtum.progress import Progress, silent
from juxtum.report.pictures import take_pictures
from juxtum.report.result import result_document
from juxtum.report.tables import write_csv, write_xlsx
from juxtum.scene.palette import MapScale

OUTPUTS = ("result.json", "report.pdf", "ledger.csv", "ledger.xlsx", "deviation.ply")
UNFINISHED = ".unfinished-"
STALE = 3600.0
"""Seconds after which an unfinished folder belongs to a program that was killed."""


def check_folder(folder: Path) -> None:
    """Refuse a folder that cannot be made or written, before any work is done.

    Raises
    ------
    InputError
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder):
            pass
    except OSError as problem:
        if problem.errno == errno.ENAMETOOLONG:
            raise InputError(
                "the name is too long for this disk", f"\u2026{str(folder)[-80:]}", "Choose a shorter one"
            ) from problem
        what = "this is a file, not a folder" if os.path.isfile(folder) else "the folder cannot be written"
        raise InputError(what, str(folder), "Name a folder that may be written") from problem


def write_outputs(
    folder: Path,
    job: Job,
    evaluation: Evaluation,
    scan: Scan,
    progress: Progress | None = None,
    comparison: Comparison | None = None,
) -> list[Path]:
    """Write result, report, tables and coloured scan; they appear together when all of them are ready."""
    # Late: the library that sets pages takes its time to load.
    from juxtum.report.blocks import ReportContent
    from juxtum.report.pdf import write_pdf

    progress = progress or silent()
    check_folder(folder)
    _sweep(folder)
    measure = job.procedure.measure
    scale = MapScale(measure.lower, measure.upper)
    with tempfile.TemporaryDirectory(dir=folder, prefix=UNFINISHED) as name:
        work = Path(name)
        progress.phase("writing tables", 0.0)
        text = json.dumps(result_document(job, evaluation), indent=1, allow_nan=False)
        (work / "result.json").write_text(text + "\n", "utf-8")
        write_csv(work / "ledger.csv", evaluation)
        write_xlsx(work / "ledger.xlsx", job, evaluation)
        progress.phase("writing the coloured scan", 0.1)
        write_map(work / "deviation.ply", evaluation, scan)
        progress.phase("taking pictures", 0.2)
        shown = shown_map(job, evaluation.deviation)
        pictures = take_pictures(evaluation, scan, shown)
        progress.phase("setting the pages", 0.8)
        write_pdf(work / "report.pdf", ReportContent(job, evaluation, pictures, scale, comparison, shown))
        for output in OUTPUTS:
            os.replace(work / output, folder / output)
    return [folder / output for output in OUTPUTS]


def _sweep(folder: Path) -> None:
    """Take away what programs that were killed have left."""
    for left in folder.glob(f"{UNFINISHED}*"):
        if left.is_dir() and not left.is_symlink() and time.time() - left.lstat().st_mtime > STALE:
            shutil.rmtree(left, ignore_errors=True)


def write_map(path: Path, evaluation: Evaluation, scan: Scan) -> None:
    """The scan in part coordinates with `deviation` at each point (NaN where there is no nominal)."""
    points = evaluation.deviation.points
    moved: Scan = TriangleMesh(points, scan.triangles) if len(scan.triangles) else PointCloud(points)
    write_ply(path, moved, {"deviation": evaluation.deviation.distances})
