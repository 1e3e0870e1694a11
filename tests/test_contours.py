"""Lines along a level: against an analytic field, and against the toolkit's own contouring."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import sheet
from juxtum.scene.contours import Field, smoothed
from juxtum.scene.drawables import polydata

pytestmark = pytest.mark.quick


def length(segments: np.ndarray) -> float:
    return float(np.linalg.norm(segments[:, 1] - segments[:, 0], axis=1).sum())


@given(st.floats(-0.9, 0.9), st.floats(0, 2 * np.pi))
@settings(max_examples=40, deadline=None)
def test_a_slope_is_cut_in_a_straight_line(level: float, turn: float) -> None:
    """Every end lies on the line at the level, and the pieces together are as long as the line within the sheet."""
    mesh = sheet(2.0)
    along = np.array([np.cos(turn), np.sin(turn)])
    values = mesh.points[:, :2] @ along / 30
    found = Field(mesh.points, mesh.triangles, values).along(level)
    assert np.abs(found[..., :2] @ along / 30 - level).max() < 1e-9
    across = np.array([-along[1], along[0]])
    ends = [
        t
        for k in (0, 1)
        for side in (-30, 30)
        if abs(across[k]) > 1e-9
        for t in [(side - 30 * level * along[k]) / across[k]]
    ]
    inside = sorted(t for t in ends if np.abs(30 * level * along + t * across).max() < 30 + 1e-6)
    assert length(found) == pytest.approx(inside[-1] - inside[0] if inside else 0.0, abs=1e-6)


def test_it_is_what_the_toolkit_finds() -> None:
    from vtkmodules.util.numpy_support import vtk_to_numpy
    from vtkmodules.vtkFiltersCore import vtkContourFilter

    mesh = sheet(1.0)
    values = np.sin(mesh.points[:, 0] / 6) * np.cos(mesh.points[:, 1] / 5)
    contour = vtkContourFilter()
    contour.SetInputData(polydata(mesh.points, mesh.triangles, None, values))
    contour.SetValue(0, 0.3)
    contour.Update()
    cells = vtk_to_numpy(contour.GetOutput().GetLines().GetConnectivityArray()).reshape(-1, 2)
    theirs = vtk_to_numpy(contour.GetOutput().GetPoints().GetData())[cells]
    ours = Field(mesh.points, mesh.triangles, values).along(0.3)
    assert length(ours) == pytest.approx(length(theirs), rel=1e-4) and len(ours) == len(theirs)


def test_no_line_goes_where_nothing_is_known() -> None:
    mesh = sheet(2.0)
    values = mesh.points[:, 0] / 30
    hidden = np.where(mesh.points[:, 1] > 0, np.nan, values)
    found = Field(mesh.points, mesh.triangles, hidden).along(0.1)
    assert found[..., 1].max() <= 0 and length(found) == pytest.approx(30.0, abs=2.1)
    assert np.isnan(smoothed(hidden, mesh.triangles)[mesh.points[:, 1] > 0]).all()
    assert np.isfinite(smoothed(hidden, mesh.triangles)[mesh.points[:, 1] <= 0]).all()
    assert len(Field(mesh.points, mesh.triangles, values).along(7.0)) == 0
