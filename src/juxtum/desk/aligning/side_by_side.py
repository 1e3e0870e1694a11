"""Two alignments side by side: two stages under one camera."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from juxtum.desk.stage_view import StageView
from juxtum.desk.style import THEME
from juxtum.desk.widgets import Choice, button, label, row
from juxtum.evaluate import Verdict, histogram
from juxtum.evaluate.statistics import Histogram
from juxtum.geometry.mesh import Scan
from juxtum.job import Evaluation, Job
from juxtum.job.shares import shown_map
from juxtum.progress import Progress
from juxtum.scene.actors import Shown
from juxtum.scene.drawables import Lines, Surface
from juxtum.scene.map_layers import MapGiven, draw_map
from juxtum.scene.palette import MapScale

if TYPE_CHECKING:
    from juxtum.desk.derived import Derived
    from juxtum.desk.desk import Desk


@dataclass(frozen=True, eq=False)
class _Side:
    """What one of the stages shows."""

    evaluation: Evaluation
    layers: dict[str, Surface | Lines | None]
    scale: MapScale
    area: Histogram
    unit: str


class LinkedStage(StageView):
    """A stage whose camera another one follows."""

    def __init__(self) -> None:
        super().__init__()
        self.peer: LinkedStage | None = None
        self._is_following = False

    def redraw(self) -> None:
        """Draw again, and have the other one look from here."""
        super().redraw()
        if self.peer is not None and not self._is_following:
            self.peer.follow(self)

    def follow(self, other: LinkedStage) -> None:
        """Look from where another stage looks."""
        self._is_following = True
        try:
            self.stage.eye.camera.DeepCopy(other.stage.eye.camera)
            if other.pointer.is_down or other.is_moving:
                self.start_moving()
            else:
                self.redraw()
        finally:
            self._is_following = False


class SideBySide(QWidget):
    """Covers the stage with two, each with the map in an alignment of its own.

    Parameters
    ----------
    desk : Desk
    """

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk.view)
        self._desk = desk
        self.setAccessibleName("Two alignments")
        self.setObjectName("worksheet")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.stages: tuple[LinkedStage, ...] = ()
        """Made when they are first asked for."""
        self._choices: tuple[Choice, ...] = ()
        self._words: tuple[QLabel, ...] = ()
        self._names = ["", ""]
        self._asked = 0
        self.hide()
        desk.view.resized.connect(self._place)

    def _build(self) -> None:
        left, right = LinkedStage(), LinkedStage()
        left.peer, right.peer = right, left
        self.stages = (left, right)
        self._choices = (Choice("Left alignment"), Choice("Right alignment"))
        self._words = (label("", "soft"), label("", "soft"))
        lines = QVBoxLayout(self)
        lines.setContentsMargins(8, 8, 8, 8)
        lines.addLayout(
            row(button("Back to one stage", self.close_view), label("Two alignments, one camera", "heading"))
        )
        across = QHBoxLayout()
        for k, (stage, choice, words) in enumerate(zip(self.stages, self._choices, self._words, strict=True)):
            stage.setAccessibleName(("Left stage", "Right stage")[k])
            choice.picked.connect(lambda name, k=k: self._choose(k, name))
            down = QVBoxLayout()
            down.addLayout(row(choice))
            down.addWidget(words)
            down.addWidget(stage, 1)
            across.addLayout(down, 1)
        lines.addLayout(across, 1)

    def _place(self) -> None:
        self.setGeometry(self._desk.view.rect())

    @property
    def _derived(self) -> Derived:
        return self._desk.session.derived

    @property
    def is_open(self) -> bool:
        """Whether it covers the stage."""
        return not self.isHidden()

    def toggle(self) -> None:
        """Show the two that the job compares, or one stage again."""
        compared = self._derived.comparison
        if self.is_open or compared is None:
            self.close_view()
            return
        if not self.stages:
            self._build()
        self._names = [compared.first, compared.second]
        self._place()
        self.show()
        self.raise_()
        self.show_job(anew=True)

    def close_view(self) -> None:
        """One stage again."""
        if self.is_open:
            self.hide()
            self._desk.enable_actions()

    def release(self) -> None:
        """Free both renderers."""
        for stage in self.stages:
            stage.release()

    def show_job(self, *, anew: bool = False) -> None:
        """The job as it is now, worked out away from the interface; nothing where it is not open."""
        if not self.is_open:
            return
        d = self._derived
        names = [s.name for s in d.job.procedure.alignments if s.scan == d.job.scan_in_force]
        if len(names) < 2 or d.evaluation is None:
            self.close_view()
            return
        self._names = [name if name in names else names[-1] for name in self._names]
        for choice, name in zip(self._choices, self._names, strict=True):
            choice.show_options([(n, n) for n in names], name)
        self._asked += 1
        job, asked, wanted, runner = d.job, self._asked, tuple(self._names), self._desk.session.runner

        def work(progress: Progress) -> list[_Side]:
            scan = runner.measured(job, progress)
            return [
                _side(runner.evaluation(job, name, progress.part(k / 2, (k + 1) / 2)), job, scan)
                for k, name in enumerate(wanted)
            ]

        def found(sides: list[_Side]) -> None:
            if asked == self._asked and self.is_open:
                self._dress(sides, anew)

        self._desk.session.compute(work, found)

    def _choose(self, side: int, name: str) -> None:
        self._names[side] = name
        self.show_job()

    def _dress(self, sides: list[_Side], anew: bool) -> None:
        for stage, side, words in zip(self.stages, sides, self._words, strict=True):
            stage.stage.set_look(THEME.look)
            for name, what in side.layers.items():
                stage.put(name, what)
            stage.put("edges", self._derived.nominal_edges)
            stage.show_layer("map", Shown.SOLID)
            # One legend is enough where both are coloured alike.
            stage.set_legend(side.scale, side.area if stage is self.stages[1] else None, "", side.unit, is_fixed=True)
            stage.stage.set_scale(side.scale)
            words.setText(_words(side.evaluation))
        if anew:
            self.stages[1].stage.eye.camera.DeepCopy(self._desk.view.stage.eye.camera)
            # The one with the legend has less room: the other follows it.
            self.stages[1].fit()


def _words(evaluation: Evaluation) -> str:
    """How it comes out in an alignment, in a line."""
    verdicts = [line.verdict for line in evaluation.ledger]
    told = {Verdict.CONFORMS: "conform", Verdict.DOES_NOT_CONFORM: "do not", Verdict.NOT_DECIDED: "open"}
    counts = [f"{verdicts.count(v)} {word}" for v, word in told.items() if v in verdicts]
    return "; ".join([f"RMS {evaluation.statistics.rms:.3f} mm", *([", ".join(counts)] if counts else [])])


def _side(evaluation: Evaluation, job: Job, scan: Scan) -> _Side:
    shown = shown_map(job, evaluation.deviation)
    scale = MapScale(shown.lower, shown.upper, shown.colours)
    normals = None if scan.normals is None else evaluation.alignment.transform.turn(scan.normals)
    given = MapGiven(
        shown.deviation,
        scan.triangles,
        normals,
        (shown.lower, shown.upper),
        lambda _, __, make: make(),
        every=shown.every,
    )
    return _Side(evaluation, draw_map(given), scale, histogram(shown.deviation, *scale.ends), shown.unit)
