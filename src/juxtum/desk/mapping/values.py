"""A surface coloured by a value at each of its places, with its legend: what all maps but that of the deviations are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.desk.stage_view import StageView
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.scene.actors import Shown
from juxtum.scene.drawables import moved_surface, spread_of
from juxtum.scene.palette import MapScale

NOWHERE = -1e9
"""Counted in no class of a legend."""


@dataclass(frozen=True, eq=False)
class Values:
    """A surface and a value at each of its points (N,), NaN where there is none.

    Parameters
    ----------
    placement : RigidTransform, optional
        How the surface lies on the stage; as its own coordinates say where none is given.
    """

    mesh: TriangleMesh
    at_points: Floats
    placement: RigidTransform | None = None


def show_values(view: StageView, layer: str, values: Values, scale: MapScale, note: str) -> None:
    """Put a layer on the stage and the legend beside it; of neither can the limits be dragged."""
    view.put(layer, moved_surface(values.mesh, values.at_points), values.placement)
    area = spread_of(values.mesh, np.nan_to_num(values.at_points, nan=NOWHERE), scale)
    view.set_legend(scale, area, note, is_fixed=True)
    view.show_layer(layer, Shown.SOLID)
