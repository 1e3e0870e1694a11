"""Everything the window shows of a job, computed in one go away from the interface."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

from juxtum.assemble import find_fragments, find_table
from juxtum.assemble.assembling import Tied
from juxtum.assemble.finishing import Worked
from juxtum.capture.ways.probing import can_be_probed
from juxtum.desk.comparing import compared, worth_comparing
from juxtum.errors import JuxtumError
from juxtum.evaluate import Histogram, histogram
from juxtum.geometry import Plane, RigidTransform
from juxtum.geometry.arrays import Floats, orthonormal_frame
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.job import Evaluation, Job, Runner, sources
from juxtum.job.inputs import LoadedScan
from juxtum.job.planning import task_of
from juxtum.job.runner import Comparison
from juxtum.job.shares import shown_map
from juxtum.job.sources import tied, told, worked
from juxtum.job.steps import FinishingModel, Trim
from juxtum.job.steps.base import surface
from juxtum.nominal import Nominal
from juxtum.plan.blind import known_spots, methods
from juxtum.plan.cost.schedule import machine_memory
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner
from juxtum.plan.rough_part import part_from_scan
from juxtum.progress import Progress
from juxtum.scene.drawables import (
    Lines,
    Surface,
    nominal_edges,
    nominal_surface,
    scan_surface,
)
from juxtum.scene.map_layers import MapGiven, draw_map
from juxtum.scene.palette import MapScale

T = TypeVar("T")
MOST_AHEAD, SHARE_AHEAD, BYTES_AHEAD = 4, 0.25, 1_000
"""Of so many alignments that are not in force the map is made before somebody asks, in so much of the machine's memory; so much a point takes."""
MOST_KEPT = 240
"""Drawables and the like that are kept: some for each of very many scans."""


@dataclass(frozen=True, eq=False)
class Pieces:
    """Connected pieces of a scan: their areas in mm2, falling."""

    areas: Floats


@dataclass(frozen=True, eq=False)
class BroughtScan:
    """One of several scans as the stage shows it.

    Parameters
    ----------
    name, file : str
    scan : Scan
        As its cleaning left it.
    surface : Surface
    pose : RigidTransform, optional
        Into the assembly; None for one that is not tied or not joined.
    """

    name: str
    file: str
    scan: Scan
    surface: Surface
    pose: RigidTransform | None


@dataclass(frozen=True, eq=False)
class Derived:
    """Results of a job and their drawables; what could not be had yet is None."""

    job: Job
    nominal: Nominal | None = None
    nominal_surface: Surface | None = None
    nominal_edges: Lines | None = None
    stand_in: Nominal | None = None
    """The scan in place of a nominal, where a plan is made before there is one; it stands upright."""
    stand_in_surface: Surface | None = None
    stand_in_edges: Lines | None = None
    methods: dict[str, str] = field(default_factory=dict)
    """How each characteristic is to be measured, by its number."""
    probed: tuple[int, ...] = ()
    """Faces that can be probed."""
    loaded: LoadedScan | None = None
    scan: Scan | None = None
    scan_surface: Surface | None = None
    work_notes: tuple[str, ...] = ()
    """What all work on the surface in force has to tell."""
    worked: Worked | None = None
    """The last work on it, where nothing was done to it since."""
    upright: RigidTransform = field(default_factory=RigidTransform.identity)
    """From scan coordinates to a display in which the scan stands on its table."""
    table: Plane | None = None
    pieces: Pieces | None = None
    brought: tuple[BroughtScan, ...] = ()
    """Every scan, where there are several."""
    lot: tuple[BroughtScan, ...] = ()
    """The parts in the scan, where it is told apart."""
    tied: Tied | None = None
    """Where they lie, where the scan in force is joined of them."""
    in_force: str = ""
    """The name of the alignment whose map is shown."""
    evaluation: Evaluation | None = None
    layers: dict[str, Surface | Lines | None] = field(default_factory=dict)
    """Of the map, by name; none before there is a map."""
    area: Histogram | None = None
    scale: MapScale | None = None
    map_unit: str = "mm"
    comparison: Comparison | None = None
    """With the newest other alignment; None before the map of that one is made."""
    uncompared: str = ""
    """Why there is none, where there is another alignment."""

    @property
    def has_map(self) -> bool:
        """Whether there is a map to be shown."""
        return "map" in self.layers

    @property
    def measured(self) -> Scan | None:
        """The scan without what is invented: what deviations are of."""
        return self.scan.measured if isinstance(self.scan, TriangleMesh) else self.scan

    @property
    def part(self) -> Nominal | None:
        """What is planned on."""
        return self.nominal or self.stand_in

    @property
    def part_surface(self) -> Surface | None:
        """Its surface, to be drawn."""
        return self.nominal_surface or self.stand_in_surface

    @property
    def part_edges(self) -> Lines | None:
        """Its edges, to be drawn."""
        return self.nominal_edges or self.stand_in_edges


class Deriver:
    """Derives what is shown; drawables are kept by what they were made from."""

    def __init__(self, runner: Runner) -> None:
        self.runner = runner
        self._kept: OrderedDict[tuple[str, int], tuple[Any, Any]] = OrderedDict()
        self._lock = threading.Lock()

    def _of(self, name: str, source: Any, make: Callable[[], T]) -> T:
        key = (name, id(source))
        with self._lock:
            if key in self._kept and self._kept[key][0] is source:
                self._kept.move_to_end(key)
                return self._kept[key][1]  # type: ignore[no-any-return]
        made = make()
        with self._lock:
            self._kept[key] = (source, made)
            while len(self._kept) > MOST_KEPT:
                self._kept.popitem(last=False)
        return made

    def derive(self, job: Job, progress: Progress) -> Derived:
        """Compute it all, from the cache where it is known.

        Raises
        ------
        JuxtumError
            When a step of the job cannot be carried out.
        """
        values: dict[str, Any] = {"job": job}
        if job.nominal:
            nominal = self.runner.nominal(job, progress)
            values |= {
                "nominal": nominal,
                "nominal_surface": self._of("nominal", nominal, lambda: nominal_surface(nominal)),
                "nominal_edges": self._of("edges", nominal, lambda: nominal_edges(nominal)),
                "methods": self._methods(job, nominal),
                "probed": self._probed(job, nominal),
            }
        if job.measured:
            values |= self._scan(job, progress)
        if len(job.scans) > 1:
            values |= self._several(job, progress)
        if job.measured and job.procedure.separation is not None:
            values["lot"] = self._lot(job, progress)
        if job.nominal is None and job.plan is not None and isinstance(values.get("scan"), TriangleMesh):
            values |= self._stand_in(values["scan"], values["upright"])
        if job.nominal and job.measured and job.procedure.alignments:
            values |= self._map(job, progress)
        return Derived(**values)

    def look_ahead(self, derived: Derived, progress: Progress) -> Derived:
        """Compare with the newest other alignment, where that is not done; then make what is shown in the others of the scan, the newest first.

        Of as many as memory allows. The same object comes back where there is nothing more to show.
        """
        job, in_force = derived.job, derived.in_force
        if not in_force:
            return derived
        if derived.uncompared:
            made = replace(derived, **compared(self.runner, job, in_force, progress))
            if made.uncompared != derived.uncompared:
                return made
        room = SHARE_AHEAD * machine_memory() / BYTES_AHEAD
        count = min(MOST_AHEAD, int(room / max(len(self.runner.measured(job, progress).points), 1)))
        for name in worth_comparing(job, in_force)[: max(count, 1)]:
            try:
                self._map(job.with_step(job.procedure.decide.model_copy(update={"alignment": name})), progress)
            except JuxtumError:
                continue
        return derived

    def _comparison(self, job: Job, name: str, progress: Progress) -> dict[str, Any]:
        """With the newest other alignment, where that is at hand: whoever waits for a map does not wait for two."""
        other = next(iter(worth_comparing(job, name)), None)
        if other is None or self.runner.is_kept(job, sources.evaluation(other)):
            return compared(self.runner, job, name, progress.part(0.95, 1.0))
        return {"uncompared": f"What changes from '{other}' is told here once its map is made"}

    def _stand_in(self, scan: TriangleMesh, upright: RigidTransform) -> dict[str, Any]:
        part = self._of("stand-in", scan, lambda: part_from_scan(scan.moved(upright)))
        return {
            "stand_in": part,
            "stand_in_surface": self._of("nominal", part, lambda: nominal_surface(part)),
            "stand_in_edges": self._of("edges", part, lambda: nominal_edges(part)),
        }

    def _methods(self, job: Job, nominal: Nominal) -> dict[str, str]:
        """How the plan has each characteristic measured, as far as the drawing alone tells."""
        if job.plan is None or not job.procedure.characteristics:
            return {}
        planner = Planner(
            nominal, task_of(job), job.plan.model_copy(update={"targets": (), "expected": None}), Grounds()
        )
        question = f"methods {planner.task} {planner.plan.model_dump_json()}"
        return self._of(question, nominal, lambda: _methods_of(planner))

    def _probed(self, job: Job, nominal: Nominal) -> tuple[int, ...]:
        """Faces that can be probed; asked for only where something is planned."""
        if job.plan is None:
            return ()
        named = tuple(sorted({face for c in job.procedure.characteristics for face in c.faces}))
        return self._of(f"probed {named}", nominal, lambda: can_be_probed(nominal, named))

    def _scan(self, job: Job, progress: Progress) -> dict[str, Any]:
        loaded = self.runner.loaded_scan(job, progress)
        raw = loaded.scan
        progress.phase("looking for the table", 0.2)
        standing = self._of("standing", raw, lambda: find_table(raw))
        scan = self.runner.cleaned(job, progress)
        progress.phase("preparing the picture", 0.3)
        nominal = self.runner.nominal(job, progress) if job.nominal else None
        table = self._of(f"table {id(nominal)}", scan, lambda: Trim.table(scan, nominal, progress))
        pieces = self._of("pieces", scan, lambda: Pieces(find_fragments(scan).areas))
        upright = self._of("upright", raw, lambda: _upright(standing, raw))
        surface = self._of("scan", scan, lambda: scan_surface(scan))
        # Asked for on the interface's thread as well: worked out here, it is kept there.
        self._of("bounds", scan, lambda: scan.bounds)
        return {
            "loaded": loaded, "scan": scan, "scan_surface": surface, "table": table, "pieces": pieces, "upright": upright,
            **self._finishing(job, progress),
        }  # fmt: skip

    def _finishing(self, job: Job, progress: Progress) -> dict[str, Any]:
        """What work on the surface has to tell, and the last of it."""
        name = job.scan_in_force
        steps = job.procedure.cleaning_of(name)
        if not any(isinstance(step, FinishingModel) for step in steps):
            return {}
        last = worked(name, len(steps)) if isinstance(steps[-1], FinishingModel) else None
        return {
            "work_notes": self.runner.outcome(job, told(name), progress),
            "worked": None if last is None else self.runner.outcome(job, last, progress),
        }

    def _several(self, job: Job, progress: Progress) -> dict[str, Any]:
        """Each scan by itself, and where it lies."""
        join = job.join_in_force
        made: Tied | None = None if join is None else self.runner.outcome(job, tied(join.name), progress)
        used = () if join is None else join.used
        poses = {} if made is None else dict(zip(used, made.joined.poses, strict=True))
        several = []
        for held in job.scans:
            progress.phase(f"preparing the picture of {held.name}", 0.3)
            scan = self.runner.outcome(job, surface(held.name), progress)
            drawn = self._of(f"scan {held.name}", scan, lambda scan=scan: scan_surface(scan))  # type: ignore[misc]
            several.append(BroughtScan(held.name, held.file.name, scan, drawn, poses.get(held.name)))
        return {"brought": tuple(several), "tied": made}

    def _lot(self, job: Job, progress: Progress) -> tuple[BroughtScan, ...]:
        """Each part in the scan by itself."""
        step = job.procedure.separation
        assert step is not None
        parts = []
        for name in step.names:
            progress.phase(f"preparing the picture of {name}", 0.3)
            scan = self.runner.outcome(job, surface(name), progress)
            drawn = self._of(f"scan {name}", scan, lambda scan=scan: scan_surface(scan))  # type: ignore[misc]
            parts.append(BroughtScan(name, name, scan, drawn, None))
        return tuple(parts)

    def _map(self, job: Job, progress: Progress) -> dict[str, Any]:
        laid = job.procedure.in_force
        assert laid is not None
        name = laid.name
        evaluation = self.runner.evaluation(job, name, progress.part(0.3, 0.9))
        progress.phase("colouring the map", 0.92)
        d, scan = evaluation.deviation, self.runner.measured(job)
        shown = self._of(f"shown {_asked(job)}", d, lambda: shown_map(job, d))
        scale = MapScale(shown.lower, shown.upper, shown.colours)
        # The first reading needs it: nobody shall wait for it then.
        self._of("feet", d, lambda: d.foot_tree)
        normals = scan.normals
        turned = (
            None if normals is None else self._of("turned", d, lambda: evaluation.alignment.transform.turn(normals))
        )
        invented = _invented(self.runner.cleaned(job), evaluation.alignment.transform)
        given = MapGiven(
            shown.deviation, scan.triangles, turned, (shown.lower, shown.upper), self._of, invented, shown.every
        )
        return {
            "in_force": name,
            "evaluation": evaluation,
            "layers": draw_map(given),
            "scale": scale,
            "map_unit": shown.unit,
            "area": self._of(
                f"histogram {scale.ends}", shown.deviation, lambda: histogram(shown.deviation, *scale.ends)
            ),
            **self._comparison(job, name, progress),
        }


def _asked(job: Job) -> str:
    """Of what the map that is shown depends on: with shares, the tolerances too."""
    measure = job.procedure.measure
    if measure.shown == "mm":
        return f"{measure.lower} {measure.upper} {measure.colours} {measure.lines}"
    return f"{measure.colours} {measure.lines} {[(c.faces, c.zone) for c in job.procedure.characteristics]}"


def _invented(scan: Scan, pose: RigidTransform) -> TriangleMesh | None:
    """What of a scan was not measured, in part coordinates."""
    if not isinstance(scan, TriangleMesh) or scan.invented is None:
        return None
    return scan.kept_triangles(scan.invented).moved(pose)


def _methods_of(planner: Planner) -> dict[str, str]:
    try:
        finishes = dict(planner.plan.finishes)
        spots = known_spots(planner.nominal, planner.task, planner.model, planner.mode, planner.spacing(), finishes)
    except JuxtumError:
        return {}
    return {name: str(method) for name, method in methods(planner.task, spots).items()}


def _upright(table: Plane | None, scan: Scan) -> RigidTransform:
    """Table normal to Z, middle of the scan to the origin."""
    middle = scan.bounds.mean(0)
    if table is None:
        return RigidTransform.translation(-middle)
    return _turned(orthonormal_frame(table.normal), middle)


def _turned(rows: Floats, middle: Floats) -> RigidTransform:
    return RigidTransform.from_parts(rows, -rows @ middle)
