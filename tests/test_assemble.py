"""Cleaning: the table, loose pieces, selections, and what is left."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import box_mesh, turned
from juxtum.assemble import Prism, drop_fragments, find_fragments, find_table, inside_prism, trim
from juxtum.demo import solids
from juxtum.demo.truth import Truth
from juxtum.errors import InputError
from juxtum.geometry import Plane, PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.mesh import Scan
from juxtum.job.steps import Trim
from juxtum.job.steps.base import NOMINAL, Outcomes, surface
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from juxtum.progress import silent


def test_table_is_found_under_the_part(raw_scan: Scan, clean_scan: Scan, known: Truth) -> None:
    table = find_table(raw_scan)
    assert table is not None
    up = known.pose.rotation[:, 2]
    assert np.degrees(np.arccos(table.normal @ up)) < 0.02
    assert abs(table.distances(known.pose.offset[None])[0]) < 0.02
    assert find_table(clean_scan) is None
    heights = known.pose.inverse.apply(clean_scan.points)[:, 2]
    assert heights.min() > 0.45


def test_table_is_found_in_a_point_list(raw_scan: Scan, known: Truth) -> None:
    table = find_table(PointCloud(raw_scan.points[::6]))
    assert table is not None and table.normal @ known.pose.rotation[:, 2] > 0.9999


def test_flat_underside_of_a_part_is_no_table() -> None:
    assert find_table(box_mesh(cuts=5)) is None


@pytest.mark.parametrize(
    ("size", "noise"),
    [((80, 60, 0.2), 0.01), ((5, 4, 3), 0.002), ((3000, 120, 80), 0.05), ((300, 200, 10), 0.02)],
    ids=["sheet of 0.2 mm", "part of 5 mm", "beam of 3 m", "plate"],
)
@pytest.mark.parametrize("has_table", [True, False])
def test_the_table_goes_and_the_part_stays(size: tuple[float, float, float], noise: float, has_table: bool) -> None:
    """Of every part 99 % stay, however thin, small or long it is, and of the table next to nothing."""
    nominal, rng = Nominal.from_shape(solids.box((0, 0, 0), size)), np.random.default_rng(4)
    part = sample_surface(nominal.mesh, nominal.triangle_faces, max(size) / 60).mesh
    part = part.kept_triangles(part.triangle_normals[:, 2] > -0.5)
    points, triangles, own = part.points, part.triangles, len(part.points)
    if has_table:
        u, v = np.meshgrid(np.linspace(-0.5, 1.5, 120) * size[0], np.linspace(-0.5, 1.5, 120) * size[1], indexing="ij")
        a = (np.arange(119)[:, None] * 120 + np.arange(119)).ravel() + own
        table = np.concatenate([np.stack([a, a + 120, a + 121], 1), np.stack([a, a + 121, a + 1], 1)])
        points = np.concatenate([points, np.stack([u, v, np.zeros_like(u)], -1).reshape(-1, 3)])
        triangles = np.concatenate([triangles, table.astype(np.int32)])
    scan = TriangleMesh(points + rng.normal(0, noise, points.shape), triangles).moved(
        turned((20, -35, 70), (100, 30, -60))
    )
    left = Trim().run(Outcomes({surface("scan"): scan, NOMINAL: nominal}), silent())
    heights = points[:, 2]
    stays = {tuple(p) for p in np.round(left.points, 9)}
    kept = np.array([tuple(p) in stays for p in np.round(scan.points, 9)])
    top = heights[:own] > 0.9 * size[2]
    assert kept[:own][top].mean() > 0.99, "the part's own top"
    if has_table:
        assert kept[own:].mean() < 0.02, "the table"
    else:
        assert kept.mean() > 0.99


def two_boxes() -> TriangleMesh:
    big, small = box_mesh(cuts=2), box_mesh((4, 4, 4), cuts=1).moved(RigidTransform.translation([100, 0, 0]))
    return TriangleMesh(
        np.concatenate([big.points, small.points]), np.concatenate([big.triangles, small.triangles + len(big.points)])
    )


def test_pieces_are_ranked_and_dropped() -> None:
    both = two_boxes()
    assert find_fragments(both).areas == pytest.approx([5200, 96])
    assert drop_fragments(both, None).area == pytest.approx(5200)
    assert drop_fragments(both, 50.0).area == pytest.approx(5296)
    assert drop_fragments(both, None, share=0.05).area == pytest.approx(5200)
    assert drop_fragments(both, 1e9).area == pytest.approx(5200), "the largest piece always stays"


def test_pieces_of_a_point_list(raw_scan: Scan, clean_scan: Scan) -> None:
    table = find_table(raw_scan)
    assert table is not None
    cloud = PointCloud(trim(raw_scan, table, 0.5).points[::2])
    pieces = find_fragments(cloud)
    assert 5 <= len(pieces.areas) <= 40 and pieces.areas[0] > 100 * pieces.areas[1]
    kept = drop_fragments(cloud, None, share=0.006)
    assert 2 * len(kept.points) == pytest.approx(len(clean_scan.points), rel=1e-2)


def test_trim_keeps_whole_triangles_or_nothing() -> None:
    box = box_mesh(cuts=4)
    kept = trim(box, Plane(np.zeros(3), np.array([0.0, 0, 1])), 1.0)
    assert kept.points[:, 2].min() > 1.0
    with pytest.raises(InputError, match="nothing would be left"):
        trim(box, Plane(np.zeros(3), np.array([0.0, 0, 1])), 50.0)


def test_outline_selects_what_appears_inside_it() -> None:
    points = np.array([[0.0, 0, 5], [0.5, 0.5, -5], [2, 0, 0], [-0.9, 0.9, 1]])
    square = np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1]])
    assert inside_prism(points, Prism(np.eye(4), square)).tolist() == [True, True, False, True]
