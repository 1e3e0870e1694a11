"""Runs the steps of a job; what was computed once is kept under the hash of all that it depends on."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

from juxtum.align import Alignment, FrameComparison, compare
from juxtum.errors import JobError, JuxtumError
from juxtum.evaluate import Deviation, LineResult
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.job.document import Job
from juxtum.job.files import FileStore
from juxtum.job.graph import Graph
from juxtum.job.inputs import LoadedScan
from juxtum.job.kept import Kept
from juxtum.job.outcomes import Evaluation, Families
from juxtum.job.shelf import Shelf
from juxtum.job.sources import deviation_map, evaluation, loaded
from juxtum.job.steps.base import NOMINAL, Outcomes, Source, alignment, surface
from juxtum.nominal import Nominal
from juxtum.progress import Progress, silent

MAKING = {"nominal": 0.2, "scan": 0.3, "tied": 2.0, "surface": 0.3, "alignment": 1.0, "map": 1.0, "suspicion": 0.5}
"""How long outcomes of a family take beside each other; all others take next to nothing."""
QUICK = 0.02


@dataclass(frozen=True, eq=False)
class VerdictChange:
    """A characteristic whose verdict differs between two alignments."""

    before: LineResult
    after: LineResult


@dataclass(frozen=True, eq=False)
class Comparison:
    """What changes from one alignment to another."""

    first: str
    second: str
    motion: FrameComparison
    changes: tuple[VerdictChange, ...]


class Runner:
    """Derives the outcomes of jobs.

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
        self._kept = Kept()
        self._families = Families(files).all
        self._newest: Graph | None = None

    def outcome(self, job: Job, source: Source, progress: Progress | None = None) -> Any:
        """An outcome of a job, with all that it is made from.

        Raises
        ------
        JuxtumError
            When the job has no such outcome, or a step cannot be carried out.
        """
        graph, progress = self._graph(job), progress or silent()
        held: dict[Source, Any] = {}
        order = graph.order(source, lambda read: self._take(graph, read, held))
        wanted = Counter(read for now in order for read in graph.node(now).needed)
        for now, span in zip(order, _shares(order), strict=True):
            progress.check()
            node = graph.node(now)
            given = {aside: held[aside] for aside in node.aside} | {
                name: held[read] for name, read in node.reads.items()
            }
            held[now] = self._keep(graph, now, node.run(Outcomes(given), progress.part(*span)))
            wanted.subtract(node.needed)
            # A long row of cuts must not hold every scan between them.
            for read in node.needed:
                if wanted[read] == 0:
                    held.pop(read, None)
            for consumed in node.consumes if self._lean else ():
                self._kept.drop(graph.key(consumed))
        return held[source]

    def is_kept(self, job: Job, source: Source) -> bool:
        """Whether an outcome is at hand without any work; what the job cannot have is not."""
        try:
            return self._kept.get(self._graph(job).key(source)) is not None
        except JuxtumError:
            return False

    def _graph(self, job: Job) -> Graph:
        newest = self._newest
        if newest is None or newest.job is not job:
            newest = self._newest = Graph(job, self._families)
        return newest

    def _take(self, graph: Graph, source: Source, held: dict[Source, Any]) -> bool:
        """Put an outcome to those held if it is kept in memory or on disk; whether it was."""
        key, shelf = graph.key(source), graph.node(source).shelf
        found = self._kept.get(key)
        if found is None and shelf:
            found = self._shelf.take(shelf, key)
            if found is not None:
                self._kept.put(key, found)
        if found is not None:
            held[source] = found
        return found is not None

    def _keep(self, graph: Graph, source: Source, made: Any) -> Any:
        """Keep an outcome; the one that is there already if somebody was faster, so that all have the same."""
        key, shelf = graph.key(source), graph.node(source).shelf
        if shelf:
            self._shelf.put(shelf, key, made)
        return self._kept.put(key, made)

    def nominal(self, job: Job, progress: Progress | None = None) -> Nominal:
        """The nominal part.

        Raises
        ------
        JuxtumError
            When there is none, or its file cannot be used.
        """
        found: Nominal = self.outcome(job, NOMINAL, progress)
        return found

    def loaded_scan(self, job: Job, progress: Progress | None = None) -> LoadedScan:
        """The scan in force in mm at 20 degrees Celsius, with what was found in its file."""
        found: LoadedScan = self.outcome(job, loaded(job.scan_in_force), progress)
        return found

    def cleaned(self, job: Job, progress: Progress | None = None) -> Scan:
        """The scan in force after its cleaning steps."""
        found: Scan = self.outcome(job, surface(job.scan_in_force), progress)
        return found

    def measured(self, job: Job, progress: Progress | None = None) -> Scan:
        """The same without what is invented: what deviations are of."""
        found = self.cleaned(job, progress)
        return found.measured if isinstance(found, TriangleMesh) else found

    def alignment(self, job: Job, name: str, progress: Progress | None = None) -> Alignment:
        """The alignment of a name.

        Raises
        ------
        JuxtumError
            When there is none, it starts from itself, or it cannot be found.
        """
        found: Alignment = self.outcome(job, alignment(name), progress)
        return found

    def deviation(self, job: Job, name: str, progress: Progress | None = None) -> Deviation:
        """The deviation map in an alignment."""
        found: Deviation = self.outcome(job, deviation_map(name), progress)
        return found

    def evaluation(self, job: Job, name: str | None = None, progress: Progress | None = None) -> Evaluation:
        """Map, statistics, readings and ledger in an alignment; in the one in force when none is named."""
        found: Evaluation = self.outcome(job, evaluation(name or job.procedure.decide.alignment), progress)
        return found

    def compare(self, job: Job, first: str, second: str, progress: Progress | None = None) -> Comparison:
        """How far the part moves between two alignments of one scan, and which verdicts change.

        Raises
        ------
        JobError
            When they lay different scans: these lie wherever their devices stood.
        """
        progress = progress or silent()
        scans = {job.procedure.alignment(name).scan for name in (first, second)}
        if len(scans) > 1:
            raise JobError(
                f"'{first}' and '{second}' are alignments of different scans",
                "comparison",
                "Choose two of the same scan",
            )
        a = self.evaluation(job, first, progress.part(0, 0.5))
        b = self.evaluation(job, second, progress.part(0.5, 1))
        motion = compare(a.alignment.transform, b.alignment.transform, self.nominal(job))
        pairs = zip(a.ledger, b.ledger, strict=True)
        changes = tuple(VerdictChange(x, y) for x, y in pairs if x.verdict is not y.verdict)
        return Comparison(first, second, motion, changes)


def _shares(sources: list[Source]) -> list[tuple[float, float]]:
    """From where to where of the whole each of some outcomes goes."""
    weights = [MAKING.get(source.family, QUICK) for source in sources]
    whole, at = sum(weights), 0.0
    spans = []
    for weight in weights:
        spans.append((at / whole, (at + weight) / whole))
        at += weight
    return spans
