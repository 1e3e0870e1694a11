"""Pieces that look the other way than what lies beside them: turned where borders tell it, left where they do not."""

from __future__ import annotations

import numpy as np
import pytest

from juxtum.assemble.finishing import repair
from juxtum.geometry import RigidTransform, TriangleMesh


def strip(low: float, high: float, level: float = 0.0, up: bool = True) -> tuple[np.ndarray, np.ndarray]:
    """A flat strip along X, 40 wide, in squares of 1 mm, looking up or down."""
    xs, ys = np.arange(low, high + 0.5), np.arange(41.0)
    x, y = np.meshgrid(xs, ys, indexing="ij")
    points = np.stack([x, y, level + 0.002 * x * x], -1).reshape(-1, 3)
    at = np.arange(len(points)).reshape(len(xs), len(ys))
    a, b, c, d = (v.ravel() for v in (at[:-1, :-1], at[1:, :-1], at[1:, 1:], at[:-1, 1:]))
    triangles = np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])
    return points, triangles if up else triangles[:, ::-1]


def together(*pieces: tuple[np.ndarray, np.ndarray]) -> TriangleMesh:
    starts = np.cumsum([0, *(len(points) for points, _ in pieces)])
    triangles = [piece[1] + start for piece, start in zip(pieces, starts, strict=False)]
    return TriangleMesh(np.concatenate([points for points, _ in pieces]), np.concatenate(triangles))


def share_up(mesh: TriangleMesh) -> float:
    return float(mesh.triangle_areas[mesh.triangle_normals[:, 2] > 0].sum() / mesh.area)


@pytest.mark.parametrize("turn", [0.0, 40.0])
def test_a_piece_that_looks_the_other_way_is_turned(turn: float) -> None:
    """Three beside each other, the middle one flipped; wherever they lie."""
    pose = RigidTransform.about(np.zeros(3), np.array([5.0, -3, 2, np.radians(turn), 0, 0]))
    mesh = together(strip(0, 30), strip(31.2, 50, up=False), strip(51.2, 80)).moved(pose)
    made = repair(mesh)
    assert share_up(made.mesh.moved(pose.inverse)) == 1.0
    assert any(note.startswith("1 piece looked the other way than what lies beside") for note in made.notes)


def test_the_larger_area_has_it_right() -> None:
    made = repair(together(strip(0, 15), strip(16.2, 31), strip(32.2, 90, up=False)))
    assert share_up(made.mesh) == 0.0 and any(note.startswith("2 pieces looked the other way") for note in made.notes)


@pytest.mark.parametrize("gap", [0.05, 0.3, 1.0, 2.5])
def test_the_sides_of_a_thin_wall_stay(gap: float) -> None:
    """Over each other they look opposite ways, as they should; so do two strips that nothing joins."""
    for mesh in (
        together(strip(0, 40, gap), strip(0, 40, 0.0, up=False)),
        together(strip(0, 40), strip(60, 90, up=False)),
    ):
        made = repair(mesh)
        assert not any("looked the other way" in note for note in made.notes)
        assert share_up(made.mesh) == pytest.approx(share_up(mesh))
