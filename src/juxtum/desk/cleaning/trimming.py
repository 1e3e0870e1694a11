"""Trimming by planes: where each lies, what would go, and the cut."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from juxtum.associate.fit import fit_plane
from juxtum.desk.cleaning.picturing import picture_of
from juxtum.desk.cleaning.plane_handle import PlaneHandle
from juxtum.desk.overlays import Pin
from juxtum.desk.stage_pointer import Mode
from juxtum.desk.widgets import Choice, LengthField, button, column, form, label, line, row
from juxtum.errors import InputError, JuxtumError
from juxtum.exchange.named_places import read_named_places
from juxtum.geometry import Plane, RigidTransform
from juxtum.geometry.arrays import Bools, Floats
from juxtum.geometry.mesh import Scan
from juxtum.guide.facts import thousands
from juxtum.job.steps import CleaningStep, PlaneChoice, Trim
from juxtum.nominal import Nominal
from juxtum.progress import Progress
from juxtum.scene.drawables import Surface
from juxtum.scene.picking import Hit
from juxtum.wording import percent

if TYPE_CHECKING:
    from juxtum.desk.desk import Desk

SIDES = [("above", "above the plane"), ("below", "below the plane")]
NOTHING = "Lay a plane: what would go is shown before it goes."


@dataclass(frozen=True, eq=False)
class Foreseen:
    """What a trim would do: its plane with the normal to what stays, how far above it is cut, and what goes."""

    step: Trim
    cut: tuple[Plane, float] | None
    going: Bools
    shown: Surface | None


def foresee(step: Trim, scan: Scan, nominal: Nominal | None, progress: Progress) -> Foreseen:
    """What a trim would take off a scan."""
    cut = step.cut(scan, nominal, progress)
    if cut is None:
        return Foreseen(step, None, np.zeros(len(scan.points), dtype=bool), None)
    going = cut[0].distances(scan.points) <= cut[1]
    return Foreseen(step, cut, going, picture_of(scan, going))


class TrimPanel(QWidget):
    """Lays a plane through a scan, shows what would go, and cuts.

    Parameters
    ----------
    desk : Desk
    clean : callable
        Takes the step that cuts.
    begun : callable
        Told when a plane is laid, so that other modes of the stage end.
    """

    def __init__(self, desk: Desk, clean: Callable[[CleaningStep], None], begun: Callable[[], None]) -> None:
        super().__init__()
        self._desk, self._clean, self._begun = desk, clean, begun
        self._scan: Scan | None = None
        self._placement = RigidTransform.identity()
        self._points: list[Floats] = []
        self.step: Trim | None = None
        """The trim that is proposed."""
        self.handle = PlaneHandle(desk.view, self._offset_chosen)
        lines = column(self, 8)
        lines.addWidget(line())
        lines.addWidget(label("Trim by a plane", "heading"))
        self._words = label(NOTHING, "soft", wrap=True)
        self._words.setAccessibleName("What would go")
        lines.addWidget(self._words)
        self._build_planes(lines)
        self._offset = LengthField("Offset", 0.5, "What lies less than this above the plane goes too")
        self._offset.chosen.connect(self._offset_chosen)
        self._keep = Choice("Side to keep")
        self._keep.show_options(SIDES, "above")
        self._keep.picked.connect(lambda _: self._change())
        lines.addLayout(form([("Offset, mm", self._offset), ("Keep", self._keep)]))
        self._cut = button("Cut", self.cut, tip="Take off what is shown as going")
        self._away = button("Put the plane away", self.put_away)
        lines.addLayout(row(self._cut, self._away))
        self._show(None)

    def _build_planes(self, lines: QVBoxLayout) -> None:
        self._pick = button("Pick points", self._toggle_pick, tip="Click three places or more of the scan on the plane")
        self._pick.setCheckable(True)
        self._targets = button(
            "Through targets\u2026", self._through_targets, tip="Three places or more from a list, in scan coordinates"
        )
        self._face = button(
            "Along a face", self._along_face, tip="The plane of a flat face of the drawing, where the scan is aligned"
        )
        self._number = LengthField("Number of the face", 1.0, "As the face is numbered in the drawing")
        lines.addLayout(row(button("Find the table", self.find_table), self._pick))
        lines.addLayout(row(self._targets))
        lines.addLayout(row(self._face, self._number))

    def take_scan(self, scan: Scan | None, placement: RigidTransform) -> None:
        """Work on a scan from now on; a plane that was laid belonged to the one before."""
        if scan is not self._scan or not np.allclose(placement.matrix, self._placement.matrix):
            self._scan, self._placement = scan, placement
            self.put_away()
        derived = self._desk.session.derived
        aligned = derived.evaluation is not None and scan is derived.scan
        self._face.setVisible(aligned)
        self._number.setVisible(aligned)

    # -- where the plane lies ---------------------------------------------------------------------------------

    def find_table(self) -> None:
        """Lay the plane along the largest flat region under the part."""
        self._begun()
        self._propose(None)

    def _toggle_pick(self) -> None:
        begins = self._pick.isChecked()
        self._begun()
        self._pick.setChecked(begins)
        self._points = []
        self._desk.view.set_pins([])
        if begins:
            self._desk.view.set_mode(Mode.PICK, "Click three places or more on the plane; Esc ends")
        else:
            self._desk.view.set_mode(Mode.LOOK)

    def picked(self, hit: Hit, layer: str) -> bool:
        """A click on the stage; whether it was for this panel."""
        if not self._pick.isChecked() or hit.layer != layer:
            return False
        self._points.append(hit.place)
        self._desk.view.set_pins([Pin(p, str(k + 1)) for k, p in enumerate(self._points)])
        if len(self._points) >= 3:
            self._through(self._placement.inverse.apply(np.array(self._points)))
        return True

    def _through_targets(self) -> None:
        path = self._desk.asking.point_list()
        if path is None:
            return
        try:
            places = np.array([row.place for row in read_named_places(path, "targets")]).reshape(-1, 3)
            if len(places) < 3:
                what = f"a plane needs three targets, and there are {len(places)}"
                raise InputError(what, str(path), "Name more in the list")
        except JuxtumError as problem:
            self._desk.session.failed.emit(problem)
            return
        self._begun()
        self._through(places)

    def _along_face(self) -> None:
        derived, number = self._desk.session.derived, round(self._number.value)
        nominal, made = derived.nominal, derived.evaluation
        if nominal is None or made is None:
            return
        try:
            if not 1 <= number <= len(nominal.faces):
                raise InputError(
                    f"there is no face {number}", "trim", f"Faces are numbered from 1 to {len(nominal.faces)}"
                )
            plane = nominal.faces[number - 1].feature
        except InputError as problem:
            self._desk.session.failed.emit(problem)
            return
        if not isinstance(plane, Plane):
            self._desk.tell(f"face {number} is not flat", "trim", "Choose a flat one")
            return
        self._begun()
        back = made.alignment.transform.inverse
        self._lay(Plane(back.apply(plane.point[None])[0], back.turn(plane.normal[None])[0]))

    def _through(self, points: Floats) -> None:
        try:
            plane = fit_plane(points).feature if len(points) > 3 else Plane.through(points)
        except JuxtumError as problem:
            self._desk.session.failed.emit(problem)
            return
        self._lay(plane)

    def _lay(self, plane: Plane) -> None:
        scan = self._scan
        if scan is None:
            return
        # "Above" is the side with more of the scan, whichever way the points were picked.
        if np.median(plane.distances(scan.points[:: max(1, len(scan.points) // 10_000)])) < 0:
            plane = plane.flipped()
        self._propose(PlaneChoice(point=_triple(plane.point), normal=_triple(plane.normal)))

    # -- what would go ----------------------------------------------------------------------------------------

    def _propose(self, plane: PlaneChoice | None) -> None:
        self._foresee(Trim(plane=plane, offset=self._offset.value, keep=self._keep.currentData()))

    def _offset_chosen(self, value: float) -> None:
        self._offset.set_value(round(value, 3))
        self._change()

    def _change(self) -> None:
        if self.step is not None:
            self._propose(self.step.plane)

    def _foresee(self, step: Trim) -> None:
        """Show what would go once it is found, away from the interface."""
        scan, nominal = self._scan, self._desk.session.derived.nominal
        if scan is not None:
            self.step = step
            self._desk.session.compute(lambda progress: foresee(step, scan, nominal, progress), self._foreseen)

    def _foreseen(self, found: Foreseen) -> None:
        if found.step is not self.step:
            return
        if found.cut is None:
            self.put_away()
            self._desk.tell("no table was found in the scan", "trim", "Pick points on the plane instead")
            return
        self._show(found)

    def _show(self, found: Foreseen | None) -> None:
        view, handle = self._desk.view, self.handle
        self._cut.setEnabled(found is not None and bool(found.going.any()) and not bool(found.going.all()))
        self._away.setEnabled(found is not None)
        view.put("going", None if found is None else found.shown, self._placement)
        if found is None or found.cut is None or self._scan is None:
            handle.show(None, 1.0, 0.0)
            if view.handles is handle:
                view.handles = None
            self._words.setText(NOTHING)
            return
        count, share = int(found.going.sum()), percent(float(found.going.mean()))
        self._words.setText(_words(count, share, found))
        handle.show(*self._drawn(found.cut))
        view.handles = handle

    def _drawn(self, cut: tuple[Plane, float]) -> tuple[Plane, float, float]:
        """Plane in stage coordinates about the middle of the scan, half its width, its offset; the side that stays is up."""
        assert self._scan is not None
        plane, offset = cut
        if self._keep.currentData() == "below":
            plane, offset = plane.flipped(), -offset
        bounds = self._scan.bounds
        middle = bounds.mean(0)
        middle = middle - float(plane.distances(middle)) * plane.normal
        place, normal = self._placement.apply(middle[None])[0], self._placement.turn(plane.normal[None])[0]
        return Plane(place, normal), 0.3 * float(np.linalg.norm(bounds[1] - bounds[0])), offset

    # -- the cut ----------------------------------------------------------------------------------------------

    def cut(self) -> None:
        """Take off what is shown as going."""
        step = self.step
        if step is not None:
            self.put_away()
            self._clean(step)

    def put_away(self) -> None:
        """Let the plane go."""
        self.stop()
        self.step = None
        self._show(None)

    def stop(self) -> None:
        """Picking ends."""
        if self._pick.isChecked():
            self._desk.view.set_mode(Mode.LOOK)
            self._desk.view.set_pins([])
        self._pick.setChecked(False)
        self._points = []


def _words(count: int, share: str, found: Foreseen) -> str:
    if found.going.all():
        return "All of the scan would go: choose the other side, or another offset."
    if count == 0:
        return "Nothing would go: nothing of the scan lies beyond the plane."
    limited = ""
    if (
        found.cut is not None
        and found.step.plane is None
        and abs(found.cut[1] - found.step.offset) > 1e-9
        and found.step.keep == "above"
    ):
        limited = f" Cut {found.cut[1]:.2g} mm above it, because the part is thin."
    return f"{thousands(count)} points ({share}) would go; drag the grip or type an offset.{limited}"


def _triple(values: Floats) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z
