"""What is looked at: a line of the ledger, a reading."""

from __future__ import annotations

import numpy as np

from juxtum.desk.desk import Desk
from juxtum.desk.stations.measure import MeasureStation
from juxtum.guide.findings import Key


class Selecting:
    """Frames on the stage what is chosen and opens how its number came to be."""

    def __init__(self, desk: Desk, measure: MeasureStation) -> None:
        self._desk, self._measure = desk, measure

    def select_line(self, name: str) -> None:
        """Look at a characteristic."""
        self._measure.look_at_line(name)
        d = self._desk.session.derived
        step = next((p for p in d.job.procedure.characteristics if name == p.id), None)
        if step is None or d.nominal is None:
            return
        if d.evaluation is not None and not self._measure.is_here:
            self._desk.go(Key.MEASURE)
        if step.faces:
            mesh = d.nominal.face_mesh(step.faces)
            normal = mesh.triangle_normals.T @ mesh.triangle_areas
            flat = float(np.linalg.norm(normal)) > 0.5 * mesh.area
            self._desk.view.frame(mesh.bounds, normal / np.linalg.norm(normal) if flat else None)
        else:
            self._desk.look_home()
        self._measure.show_results()
        if self._measure.is_here:
            self._measure.dress()

    def forget_lost(self) -> None:
        """A line that is no more is looked at no more."""
        if self._measure.line not in [p.id for p in self._desk.session.job.procedure.characteristics]:
            self._measure.line = ""
