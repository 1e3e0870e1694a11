"""Taking procedures and surfaces out of a job."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import TYPE_CHECKING

from juxtum.exchange.limits import content_hash
from juxtum.job.revision import named_fingerprints
from juxtum.job.store import save_procedure
from juxtum.progress import Progress
from juxtum.report.handing_out import hand_out

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk


def hand_out_procedure(desk: Desk, path: Path | None) -> None:
    """Write the procedure beside a copy of its nominal."""
    session = desk.session
    job, nominal = session.job, session.job.nominal
    if path is None or nominal is None:
        return
    target, place = path if path.suffix else path.with_suffix(".json"), session.files.locate(nominal)

    def work(_: Progress) -> None:
        copy = target.with_name(nominal.name)
        if copy.exists() and content_hash(copy) != nominal.sha256:
            copy = copy.with_name(f"{copy.stem} {nominal.sha256[:8]}{copy.suffix}")
        if not copy.exists():
            shutil.copyfile(place, copy)
        save_procedure(job, target, copy, named_fingerprints(job, session.runner.nominal(job)))

    session.compute(work, lambda _: desk.announce(f"The procedure is in {target}"))


def hand_out_surface(desk: Desk, path: Path | None) -> None:
    """Write the surface as the part lies in the alignment in force."""
    derived = desk.session.derived
    scan, made = derived.scan, derived.evaluation
    if path is None or scan is None:
        return
    target = path if path.suffix else path.with_suffix(".ply")
    pose, frame = (None, "") if made is None else (made.alignment.transform, made.name)
    desk.session.compute(
        lambda progress: hand_out(target, scan, pose, frame, progress), lambda out: desk.announce(out.sentence)
    )
