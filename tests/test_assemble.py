"""Cleaning: the table, loose pieces, selections, and what is left."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import box_mesh
from juxtum.assemble import Prism, drop_fragments, find_fragments, find_table, inside_prism, trim
from juxtum.demo.truth import Truth
from juxtum.errors import InputError
from juxtum.geometry import Plane, PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.mesh import Scan


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


def two_boxes() -> TriangleMesh:
    big, small = box_mesh(cuts=2), box_mesh((4, 4, 4), cuts=1).moved(RigidTransform.translation([100, 0, 0]))
    return TriangleMesh(np.concatenate([big.points, small.points]), np.concatenate([big.triangles, small.triangles + len(big.points)]))


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
