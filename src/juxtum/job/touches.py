"""The touches that a job holds: read, and laid where the alignment in force puts them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from juxtum.align.targets import match_targets
from juxtum.capture.kept.document import CaptureRecord
from juxtum.errors import FitError, InputError
from juxtum.evaluate.touched import AllTouched, Touched, Touches, placed
from juxtum.exchange.documents import Form, read_document
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.instruments.circumstances import Origin
from juxtum.job.files import FileStore
from juxtum.job.graph import Graph, Node, under_their_names
from juxtum.job.steps.base import NOMINAL, Outcomes, Source, alignment
from juxtum.job.touching import touches_in
from juxtum.nominal import Nominal
from juxtum.progress import Progress

SAME = 0.25
"""Targets that two instruments measured lie within this of each other, mm; what lies farther off was stuck anew."""
FORM = Form(Touches, "a document of touches", "See docs/touches-format.md", most=20_000_000)
SIMULATED = "the touches are simulated: a stand-in made them, and nothing was touched"


def read_touches(path: Path) -> Touches:
    """Read what a probe touched from its JSON document.

    Raises
    ------
    InputError
        When it is not JSON or says something impossible.
    """
    return read_document(path, FORM)


def touched_node(files: FileStore, graph: Graph, source: Source) -> Node:
    """All that was touched, in an alignment; nothing where nothing was."""
    job = graph.job
    held = touches_in(job)
    factor, record = job.circumstances.environment.to_reference, job.capture
    is_captured = job.circumstances.origin is Origin.CAPTURED

    def run(outcomes: Outcomes, progress: Progress) -> AllTouched | None:
        pose, features, notes = outcomes.alignment(source.name).transform, [], []
        for one in held:
            try:
                document = read_touches(files.checked(one.file))
                laid = _where(document, record if is_captured else None, pose)
                mine, told = _laid(document, outcomes.nominal, laid, factor)
            except InputError as problem:
                mine, told = [], [f"{one.file.name}: {problem.what}, so its touches do not count"]
            features += mine
            notes += told
        return AllTouched(features, tuple(dict.fromkeys(notes)))

    def nothing(outcomes: Outcomes, progress: Progress) -> None:
        return None

    if not held:
        return Node((), {}, nothing)
    parts = (*(one.file.sha256 for one in held), factor, is_captured, "" if record is None else str(record.targets))
    return Node(parts, under_their_names(NOMINAL, alignment(source.name)), run)


@dataclass(frozen=True, eq=False)
class _Laid:
    """How touches come to the part: into the coordinates of the scan, there to 20 degrees, then as the scan is laid."""

    to_scan: RigidTransform
    pose: RigidTransform
    spread: float


def _where(document: Touches, record: CaptureRecord | None, pose: RigidTransform) -> _Laid:
    still = RigidTransform.identity()
    if document.frame == "part":
        return _Laid(still, still, document.placed_u)
    if document.frame == "scan":
        return _Laid(still, pose, 0.0)
    if record is None:
        raise InputError("its targets belong to a capture, and the scan was not captured here", "touches")
    known = np.array([target.place for target in record.targets]).reshape(-1, 3)
    match = match_targets(np.array(document.targets).reshape(-1, 3), known, SAME)
    if match is None:
        raise InputError("fewer than four of its targets are among those that the capture found", "touches")
    own = np.array(document.targets)[match.pairs[:, 0]]
    return _Laid(match.transform, pose, _spread(own, match.rms, _middle(document)))


def _middle(document: Touches) -> Floats:
    middles = [touch.middle for feature in document.features for touch in feature.touches]
    return np.asarray(np.array(middles, dtype=np.float64).reshape(-1, 3).mean(0))


def _spread(targets: Floats, rms: float, place: Floats) -> float:
    """Standard uncertainty of a place that targets (N, 3) lay, mm: a shift known to their mean, a turn over their reach."""
    count, middle = len(targets), targets.mean(0)
    sigma = rms / np.sqrt(3) * np.sqrt(3 * count / (3 * count - 6))
    reach = float(np.sum((targets - middle) ** 2))
    return float(sigma * np.sqrt(1 / count + 1.5 * float(np.sum((place - middle) ** 2)) / max(reach, 1e-9)))


def _laid(document: Touches, nominal: Nominal, laid: _Laid, factor: float) -> tuple[list[Touched], list[str]]:
    found: list[Touched] = []
    notes = [SIMULATED] if document.is_simulated else []
    for feature in document.features:
        middles = laid.pose.apply(factor * laid.to_scan.apply(np.array([touch.middle for touch in feature.touches])))
        normals = np.array([touch.normal for touch in feature.touches])
        size = np.linalg.norm(normals, axis=1, keepdims=True)
        try:
            if (size < 0.5).any():
                raise FitError("a touch without a direction does not tell where the surface is")
            turned = laid.pose.turn(laid.to_scan.turn(normals / size))
            by_what = document.instrument, document.tip_radius, laid.spread
            found.append(placed(feature, middles, turned, nominal, by_what))
        except FitError as problem:
            notes.append(f"{feature.title}: {problem.what}")
    return found, notes
