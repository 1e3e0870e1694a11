"""What is done to a surface at Assemble: holes filled, targets taken off, repair, smoothing, thinning."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from juxtum.assemble.holes import Hole, holes_of
from juxtum.desk.finishing.hole_list import HoleList
from juxtum.desk.finishing.layers_box import LayersBox
from juxtum.desk.finishing.targets_box import TargetsBox, lie_on
from juxtum.desk.mapping.values import Values, show_values
from juxtum.desk.widgets import Choice, LengthField, button, column, form, label, line, row
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.guide.finishing import default_bound, holes_words
from juxtum.job.steps import CleaningStep, Fill, Repair, Smooth, Thin
from juxtum.scene.drawables import plain_surface, segments
from juxtum.scene.palette import MapScale
from juxtum.wording import sentence

if TYPE_CHECKING:
    from juxtum.desk.derived import Derived
    from juxtum.desk.desk import Desk

LAYERS = ("rims", "rim", "invented", "moved")
WAYS = [("curvature", "as the surface round it curves"), ("flat", "flat")]
ROOM = 3.0
"""A hole is looked at with so many times its width about it."""


class SurfacePanel(QWidget):
    """Works on the surface of the scan that is chosen.

    Parameters
    ----------
    desk : Desk
    work : callable
        Takes a step of work on the chosen scan.
    dress : callable
        Puts the station's layers on the stage anew.
    """

    def __init__(self, desk: Desk, work: Callable[[CleaningStep], None], dress: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._work, self._dress = desk, work, dress
        self._scan: TriangleMesh | None = None
        self._asked: TriangleMesh | None = None
        self._placement = RigidTransform.identity()
        lines = column(self, 8)
        lines.addWidget(line())
        lines.addWidget(label("Surface", "heading"))
        self._words = label("", "soft", wrap=True)
        self._words.setAccessibleName("About the surface")
        lines.addWidget(self._words)
        self.holes = HoleList()
        self.holes.chosen.connect(self._chose)
        lines.addWidget(self.holes)
        self._way = Choice("Fill")
        self._way.show_options(WAYS, "curvature")
        self._next = button("Next hole", self.look_at_next, tip="Choose the next open border and look at it")
        self._fill = button("Fill it", self.fill, tip="Close what is chosen with faces that are never measured")
        lines.addWidget(self._way)
        lines.addLayout(row(self._next, self._fill))
        self._fill_targets = button(
            "Fill round ones",
            self.fill_targets,
            tip="Close all round holes of the size of a target; on the next part too",
        )
        lines.addWidget(self._fill_targets)
        self.targets = TargetsBox(desk, work, dress)
        lines.addWidget(self.targets)
        self._build_moving()
        self.layers = LayersBox(desk, dress)
        lines.addWidget(self.layers)

    def _build_moving(self) -> None:
        lines = self.layout()
        assert isinstance(lines, QVBoxLayout)
        self._bound = LengthField("Largest displacement", 0.02, "mm; smoothing and thinning move no place farther")
        self._rest = [
            button(
                "Repair", self.repair, tip="Slivers, repeated, crossing and turned triangles, pinched points, specks"
            ),
            button("Smooth", self.smooth, tip="Take noise off and keep edges, within the largest displacement"),
            button("Thin", self.thin, tip="As few triangles as the largest displacement allows"),
        ]
        self._show_moved = button("Show what moved", self._dress)
        self._show_moved.setCheckable(True)
        lines.addLayout(form([("Move at most, mm", self._bound)]))
        lines.addLayout(row(*self._rest))
        lines.addWidget(self._show_moved)
        self._done = label("", "soft", wrap=True)
        self._done.setAccessibleName("What was done to the surface")
        lines.addWidget(self._done)

    @property
    def _derived(self) -> Derived:
        return self._desk.session.derived

    @property
    def _is_in_force(self) -> bool:
        return self._scan is not None and self._scan is self._derived.scan

    def show_scan(self, scan: Scan | None, placement: RigidTransform) -> None:
        """Show the surface of a scan; its holes are looked for away from the interface."""
        mesh = scan if isinstance(scan, TriangleMesh) else None
        self._placement = placement
        self.setVisible(mesh is not None)
        self.layers.show_scan(mesh, placement)
        self.targets.show_scan(mesh, placement)
        if mesh is not self._scan:
            self._scan = mesh
            self.holes.show_holes(())
            self._fill_targets.hide()
            self._bound.set_value(default_bound(self._derived.job))
        worked = self._derived.worked if self._is_in_force else None
        self._show_moved.setVisible(worked is not None and worked.moved is not None)
        self._done.setText(" ".join(sentence(note) for note in self._derived.work_notes) if self._is_in_force else "")
        self._done.setVisible(bool(self._done.text()))
        if mesh is not None and self._asked is not mesh:
            self._asked = mesh
            self._words.setText("Looking for open borders\u2026")
            places = self.targets.places
            self._desk.session.compute(
                lambda _: (mesh, holes_of(mesh), places if lie_on(mesh, places) else places[:0]), self._found
            )

    def _found(self, answer: tuple[TriangleMesh, tuple[Hole, ...], Floats]) -> None:
        mesh, holes, captured = answer
        if mesh is not self._scan:
            return
        self._words.setText(holes_words(holes, mesh.invented_area))
        self.holes.show_holes(holes)
        self.targets.show_captured(captured)
        self._fill_targets.setVisible(any(hole.kind == "target" for hole in holes))
        self._dress()

    def _chose(self) -> None:
        taken = self.holes.taken
        text = "Fill it" if len(taken) < 2 else f"Fill these {len(taken)}"
        self._fill.setText(text)
        self._fill.setAccessibleName(text)
        self._fill.setEnabled(bool(taken))
        has_holes = bool(self.holes.holes)
        for widget in (self._next, self._fill, self._way):
            widget.setVisible(has_holes)
        self._put_rim()
        self._desk.view.redraw()

    def look_at_next(self) -> None:
        """Choose the next open border and look at it."""
        self.holes.step()
        taken = self.holes.taken
        if not taken or self._scan is None:
            return
        hole = taken[0]
        place, half = self._placement.apply(hole.place[None])[0], ROOM * max(hole.across, 1.0) / 2
        facing = self._placement.turn(self._scan.normals[hole.ring].mean(0)[None])[0]
        length = float(np.linalg.norm(facing))
        self._desk.view.frame(np.stack([place - half, place + half]), facing / length if length > 1e-6 else None)

    # -- work -------------------------------------------------------------------------------------------------

    def fill(self) -> None:
        """Fill the holes that are chosen."""
        places = tuple(_triple(hole.place) for hole in self.holes.taken)
        if places:
            self._work(Fill(how=self._how, places=places))

    def fill_targets(self) -> None:
        """Fill all places of targets."""
        self._work(Fill(how=self._how))

    @property
    def _how(self) -> str:
        return str(self._way.currentData())

    def repair(self) -> None:
        """Repair the surface."""
        self._work(Repair())

    def smooth(self) -> None:
        """Smooth it within the bound."""
        self._move(lambda bound: Smooth(bound=bound))

    def thin(self) -> None:
        """Thin it within the bound."""
        self._move(lambda bound: Thin(bound=bound))

    def _move(self, make: Callable[[float], CleaningStep]) -> None:
        bound = self._bound.value
        if not 0 < bound <= 10:
            self._desk.tell(
                f"a displacement of {bound:g} mm cannot be allowed", "surface", "Give one over 0 and up to 10 mm"
            )
            return
        self._work(make(bound))

    # -- the stage --------------------------------------------------------------------------------------------

    def take_off(self) -> None:
        """Take what belongs to this panel off the stage."""
        for layer in LAYERS:
            self._desk.view.put(layer, None)
        self.layers.take_off()
        self.targets.take_off()

    def dress(self) -> None:
        """Rims, what is invented, and where the last work moved the surface."""
        self.take_off()
        mesh, view = self._scan, self._desk.view
        if mesh is None:
            return
        if self.holes.holes and mesh is self._asked:
            view.put("rims", segments(np.concatenate([_rim(mesh, hole) for hole in self.holes.holes])), self._placement)
        self._put_rim()
        if mesh.invented is not None:
            view.put("invented", plain_surface(mesh.kept_triangles(mesh.invented)), self._placement)
        self.layers.dress()
        self.targets.dress()
        worked = self._derived.worked if self._is_in_force else None
        if worked is None or worked.moved is None or not self._show_moved.isChecked():
            return
        view.put("scan", None)
        scale = MapScale(-worked.largest / 3, worked.largest / 3)
        show_values(view, "moved", Values(worked.mesh, worked.moved, self._placement), scale, "moved")

    def _put_rim(self) -> None:
        mesh, taken = self._scan, self.holes.taken
        if mesh is None:
            return
        chosen = np.concatenate([_rim(mesh, hole) for hole in taken]) if taken else None
        self._desk.view.put("rim", None if chosen is None else segments(chosen), self._placement)


def _rim(mesh: TriangleMesh, hole: Hole) -> Floats:
    places = mesh.points[hole.ring]
    return np.stack([places, np.roll(places, -1, axis=0)], axis=1)


def _triple(values: Floats) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z
