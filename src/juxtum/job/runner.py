"""Runs the steps of a job; what was computed once is kept under the hash of all that it depends on."""

from __future__ import annotations

import hashlib
import json
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, TypeVar

import numpy as np
from pydantic import BaseModel

from juxtum.align import Alignment, FrameComparison, compare
from juxtum.align.result import no_alignment
from juxtum.errors import AlignmentError, JobError, JuxtumError
from juxtum.evaluate import (
    Deviation,
    DeviationStatistics,
    LineResult,
    Reading,
    SearchRule,
    grid_places,
    measure_deviation,
    statistics,
    take_reading,
)
from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.kinds import Given
from juxtum.evaluate.uncertainty import Chain
from juxtum.geometry.mesh import Scan
from juxtum.job.document import Job
from juxtum.job.doubts import Doubts, doubts_about_inputs, doubts_about_scan
from juxtum.job.files import FileStore
from juxtum.job.inputs import LoadedScan, load_nominal, load_scan
from juxtum.job.shelf import Shelf
from juxtum.job.steps import AlignStep, AsScanned, BestFit, CleaningStep, Coat, Datums, GridStep, ReadingStep, Trim
from juxtum.nominal import Nominal
from juxtum.progress import Progress, silent

T = TypeVar("T")
MOST_BYTES = 2_000_000_000
"""What kept results may hold together; the newest stay whatever they hold."""
MOST = 2_000
"""More results are not kept, however small."""
FEWEST = 6
LONG = 10_000
"""Longer lists than this hold numbers, not arrays."""


@dataclass(frozen=True, eq=False)
class Evaluation:
    """All that a job says in one of its frames."""

    frame: str
    alignment: Alignment
    deviation: Deviation
    statistics: DeviationStatistics
    readings: tuple[Reading, ...]
    ledger: tuple[LineResult, ...]
    doubts: Doubts

    @property
    def warnings(self) -> tuple[str, ...]:
        """Whatever has to be read beside the numbers: notes first, then places, largest first."""
        return (*self.doubts.notes, *self.deviation.doubts_about(()))


@dataclass(frozen=True, eq=False)
class VerdictChange:
    """A characteristic whose verdict differs between two frames."""

    before: LineResult
    after: LineResult


@dataclass(frozen=True, eq=False)
class Comparison:
    """What changes from one frame to another."""

    first: str
    second: str
    motion: FrameComparison
    changes: tuple[VerdictChange, ...]


@dataclass(frozen=True, eq=False)
class _Surface:
    """A map in a frame, under the key of all that it depends on."""

    key: str
    deviation: Deviation
    alignment: Alignment


def held_bytes(values: Iterable[Any]) -> int:
    """Bytes of all arrays that some objects hold, each array counted once."""
    known: set[int] = set()
    total, left = 0, list(values)
    while left:
        value = left.pop()
        if id(value) in known:
            continue
        known.add(id(value))
        if isinstance(value, np.ndarray):
            base = value if value.base is None else value.base
            if value.base is None or id(base) not in known:
                known.add(id(base))
                total += int(value.nbytes)
        elif isinstance(value, dict):
            left += value.values()
        elif isinstance(value, list | tuple):
            left += value if len(value) < LONG else ()
        elif type(value).__module__.startswith("juxtum"):
            left += getattr(value, "__dict__", {}).values()
    return total


class Runner:
    """Derives results of jobs.

    Parameters
    ----------
    files : FileStore
    lean : bool
        Whether a scan as it was before cleaning is let go as soon as it is clean; for runs that change nothing.
    """

    def __init__(self, files: FileStore, *, lean: bool = False) -> None:
        self.files = files
        self._lean = lean
        self._shelf = Shelf()
        self._kept: OrderedDict[str, Any] = OrderedDict()
        self._lock = threading.RLock()

    def _once(self, key: str, make: Callable[[], T]) -> T:
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]  # type: ignore[no-any-return]
        value = make()
        with self._lock:
            self._kept[key] = value
            self._let_go()
        return value

    def _let_go(self) -> None:
        """Let the oldest results go while they hold too much memory together."""
        while len(self._kept) > MOST or (len(self._kept) > FEWEST and held_bytes(self._kept.values()) > MOST_BYTES):
            self._kept.popitem(last=False)

    def nominal(self, job: Job, progress: Progress | None = None) -> Nominal:
        """The nominal part.

        Raises
        ------
        JuxtumError
            When there is none, or its file cannot be used.
        """
        source = job.nominal
        if source is None:
            raise JobError("the job has no nominal", job.title, "Bring one in Brief")
        return self._once(_nominal_key(job), lambda: load_nominal(self.files.checked(source), source.unit, progress or silent()))

    def loaded_scan(self, job: Job, progress: Progress | None = None) -> LoadedScan:
        """The scan in mm at 20 degrees Celsius, with what was found in its file."""
        source = job.scan
        if source is None:
            raise JobError("the job has no scan", job.title, "Bring one in Assemble")
        nominal = self.nominal(job, progress) if job.nominal else None
        factor = job.circumstances.environment.to_reference
        return self._once(_scan_key(job), lambda: load_scan(self.files.checked(source), source.unit, nominal, factor, progress or silent()))

    def cleaned(self, job: Job, progress: Progress | None = None, count: int | None = None) -> Scan:
        """The scan after its cleaning steps, or after the first `count` of them."""
        progress = progress or silent()
        steps = job.procedure.cleaning[:count]
        keys = [_scan_key(job)]
        for step in steps:
            keys.append(_cleaning_key(job, step, keys[-1]))
        with self._lock:
            done = self._kept.get(keys[-1]) if steps else None
        if done is not None:
            return done  # type: ignore[no-any-return]
        scan = self.loaded_scan(job, progress).scan
        nominal = self.nominal(job, progress) if job.nominal else None
        for step, key in zip(steps, keys[1:], strict=True):
            scan = self._once(key, _cleaning(step, scan, nominal, progress))
        for key in keys[:-1] if self._lean else ():
            self._kept.pop(key, None)
        return scan

    def frame(self, job: Job, name: str, progress: Progress | None = None, inside: frozenset[str] = frozenset()) -> Alignment:
        """The alignment of a name.

        Raises
        ------
        JuxtumError
            When there is none, it starts from itself, or it cannot be found.
        """
        progress = progress or silent()
        if name in inside:
            raise JobError(f"the alignment '{name}' starts from itself", "procedure", "Choose another start")
        step = job.procedure.frame(name)
        if isinstance(step, AsScanned):
            return no_alignment()
        start = self.frame(job, step.start, progress, inside | {name}) if step.start else no_alignment()
        scan, nominal = self.cleaned(job, progress), self.nominal(job, progress)
        key = self._frame_key(job, name)
        given = (progress, _coat(job, nominal))
        return self._once(key, lambda: self._shelf.alignment(key, lambda: _aligned(step, scan, nominal, start, given)))

    def deviation(self, job: Job, name: str, progress: Progress | None = None) -> Deviation:
        """The deviation map in a frame."""
        progress = progress or silent()
        alignment = self.frame(job, name, progress.part(0, 0.5))
        scan, nominal = self.cleaned(job), self.nominal(job)
        rule = SearchRule(job.procedure.measure.limit, job.procedure.measure.angle)
        key = _key("deviation", self._frame_key(job, name), rule.limit, rule.angle)
        return self._once(
            key, lambda: measure_deviation(scan, nominal, alignment.transform, rule, progress.part(0.5, 0.95))
        )

    def evaluation(self, job: Job, name: str | None = None, progress: Progress | None = None) -> Evaluation:
        """Map, statistics, readings and ledger in a frame; in the frame in force when none is named.

        Each of them is kept by itself: other limits of the map change its statistics only, another limit of a
        characteristic its own line.
        """
        progress = progress or silent()
        frame = name or job.procedure.decide.frame
        deviation = self.deviation(job, frame, progress)
        progress.phase("taking readings and deciding", 0.95)
        doubts = self._doubts(job, frame, deviation, progress)
        measure = job.procedure.measure
        searched = _key("deviation", self._frame_key(job, frame), measure.limit, measure.angle)
        numbers = self._once(
            _key("statistics", searched, measure.lower, measure.upper), lambda: statistics(deviation, measure.lower, measure.upper)
        )
        surface = _Surface(searched, deviation, self.frame(job, frame))
        ledger, readings = self._ledger(job, surface, doubts), self._readings(job, surface)
        whole = _key("evaluation", searched, job.circumstances.model_dump_json(), job.readiness.objection, *job.procedure.judging)
        return self._once(whole, lambda: Evaluation(frame, surface.alignment, deviation, numbers, readings, ledger, doubts))

    def _ledger(self, job: Job, surface: _Surface, doubts: Doubts) -> tuple[LineResult, ...]:
        decide = job.procedure.decide
        objection = "; ".join(filter(None, (job.circumstances.objection, job.readiness.objection, *doubts.objections)))
        given = Given(surface.deviation, Judgement(surface.alignment, Chain.of(job.circumstances), decide.rule, decide.guard, objection))
        told = (surface.key, job.circumstances.model_dump_json(), decide.rule, decide.guard, objection)
        return tuple(self._once(_key("line", *told, c.model_dump_json()), partial(c.result, given)) for c in job.procedure.characteristics)

    def _readings(self, job: Job, surface: _Surface) -> tuple[Reading, ...]:
        chain, told = Chain.of(job.circumstances), (surface.key, job.circumstances.model_dump_json())
        found: list[Reading] = []
        for step in job.procedure.readings:
            taken = self._once(_key("reading", *told, step), partial(_taken, step, surface, chain))
            found += (replace(reading, limits=_limits_of(job, reading.face)) for reading in taken)
        return tuple(found)

    def _doubts(self, job: Job, frame: str, deviation: Deviation, progress: Progress) -> Doubts:
        """What must be told of the inputs, and why the scan as a whole may not be judged."""
        scan, nominal = self.cleaned(job), self.nominal(job)
        alignment = self.frame(job, frame)
        loaded = self.loaded_scan(job)
        reach, angle = job.procedure.measure.limit, job.procedure.measure.angle
        about_inputs = self._once(_key("inputs", _nominal_key(job), _scan_key(job), reach), lambda: doubts_about_inputs(nominal, loaded, reach))
        key = _key("doubts", self._frame_key(job, frame), reach, angle)
        about_scan = self._once(key, lambda: self._shelf.sentences(key, lambda: doubts_about_scan(scan, deviation, alignment, progress)))
        return Doubts((*about_inputs, *job.circumstances.notes, *alignment.notes, *about_scan), about_scan)

    def compare(self, job: Job, first: str, second: str, progress: Progress | None = None) -> Comparison:
        """How far the part moves between two frames, and which verdicts change."""
        progress = progress or silent()
        a = self.evaluation(job, first, progress.part(0, 0.5))
        b = self.evaluation(job, second, progress.part(0.5, 1))
        motion = compare(a.alignment.transform, b.alignment.transform, self.nominal(job))
        pairs = zip(a.ledger, b.ledger, strict=True)
        changes = tuple(VerdictChange(x, y) for x, y in pairs if x.verdict is not y.verdict)
        return Comparison(first, second, motion, changes)

    def _frame_key(self, job: Job, name: str, depth: int = 0) -> str:
        step = job.procedure.frame(name)
        start = self._frame_key(job, step.start, depth + 1) if step.start and depth < 20 else ""
        # Only what is fitted to the surface asks how thick its coat is.
        coats = [coat.model_dump_json() for coat in job.circumstances.coats_on if isinstance(step, BestFit | Datums)]
        return _key(step, _cleaned_key(job), _nominal_key(job), start, *coats)


def _taken(step: ReadingStep | GridStep, surface: _Surface, chain: Chain) -> tuple[Reading, ...]:
    """The readings of a step, not yet judged."""
    if isinstance(step, GridStep):
        places = grid_places(surface.deviation.nominal, step.face, step.spacing)
        named = [(f"{step.label}.{k + 1}", place) for k, place in enumerate(places)]
    else:
        named = [(step.label, np.array(step.place))]
    return tuple(take_reading(surface.deviation, surface.alignment, chain, place, label) for label, place in named)


def _limits_of(job: Job, face: int) -> tuple[float, float] | None:
    """The tightest zone of those characteristics that name the face, or else of those of the whole part."""
    zones = [(c.faces, c.zone) for c in job.procedure.characteristics if c.zone is not None]
    naming = [zone for faces, zone in zones if face in faces] or [zone for faces, zone in zones if not faces]
    return min(naming, key=lambda both: both[1] - both[0], default=None)


def _cleaning(step: CleaningStep, scan: Scan, nominal: Nominal | None, progress: Progress) -> Callable[[], Scan]:
    return lambda: step.run(scan, progress, nominal)


def _cleaning_key(job: Job, step: CleaningStep, before: str) -> str:
    """A table that is to be found is told from the part by the nominal."""
    finds = isinstance(step, Trim) and step.plane is None
    return _key(step, before, _nominal_key(job)) if finds else _key(step, before)


def _coat(job: Job, nominal: Nominal) -> Coat:
    """Thickness of what was on each face while it was measured."""
    thickness = Chain.of(job.circumstances).thickness_on(np.arange(len(nominal.faces)))
    return thickness if thickness.any() else None


def _aligned(step: AlignStep, scan: Scan, nominal: Nominal, start: Alignment, given: tuple[Progress, Coat]) -> Alignment:
    try:
        made = step.run(scan, nominal, start.transform, *given)
        # What the start was not sure of, whatever starts from it is not sure of either.
        notes = tuple(dict.fromkeys((*start.notes, *made.notes)))
        return replace(made, notes=notes, alternatives=made.alternatives or start.alternatives)
    except JuxtumError as problem:
        if isinstance(problem, AlignmentError):
            raise
        raise AlignmentError(problem.what, problem.where or step.name, problem.next) from problem


def _key(*parts: Any) -> str:
    texts = [p.model_dump_json() if isinstance(p, BaseModel) else str(p) for p in parts]
    return hashlib.sha256(json.dumps(texts).encode()).hexdigest()


def _nominal_key(job: Job) -> str:
    return _key("nominal", job.nominal.sha256, job.nominal.unit) if job.nominal else _key("no nominal")


def _scan_key(job: Job) -> str:
    if job.scan is None:
        return _key("no scan")
    # Whether there is a nominal decides what is asked about units, not what the numbers are.
    return _key("scan", job.scan.sha256, job.scan.unit, job.circumstances.environment.to_reference)


def _cleaned_key(job: Job) -> str:
    key = _scan_key(job)
    for step in job.procedure.cleaning:
        key = _cleaning_key(job, step, key)
    return key
