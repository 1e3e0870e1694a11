"""Left or right: parts that are nearly their own mirror image, told by the one feature that is not."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
import trimesh
from benchmarks.starts import pump_cover

from helpers import HOLES, plate, turned
from juxtum.align import best_fit, rough_align
from juxtum.align import hand as module
from juxtum.align.hand import Fit, is_opposite_hand, mirrored
from juxtum.demo.solids import box, cut, cylinder, fused
from juxtum.geometry import TriangleMesh
from juxtum.geometry.mesh import Scan
from juxtum.nominal import Nominal


def square() -> Any:
    """Mirror image of itself across a diagonal but for one boss."""
    whole = fused(
        box((0, 0, 0), (60, 60, 8)), [cylinder((12, 12, 8), (0, 0, 1), 6, 10), cylinder((40, 20, 8), (0, 0, 1), 4, 6)]
    )
    return cut(whole, [cylinder((48, 48, -1), (0, 0, 1), 5, 10)])


PARTS = {"plate": lambda: plate((*HOLES[:3], (26.0, 45.0))), "square": square, "pump cover": pump_cover}


def scan_of(nominal: Nominal, noise: float) -> Scan:
    """The whole part, scanned somewhere else."""
    fine = trimesh.Trimesh(nominal.mesh.points, nominal.mesh.triangles, process=False).subdivide_to_size(4.0)
    points = np.asarray(fine.vertices) + np.random.default_rng(3).normal(0, noise, (len(fine.vertices), 3))
    return TriangleMesh(turned((20, 30, 140), (100, -40, 20)).apply(points), np.asarray(fine.faces))


@pytest.mark.parametrize("name", PARTS)
def test_the_mirror_image_is_told_by_the_one_feature_that_differs(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """As told by the part's own mirror symmetries, and just so by the search over all poses (for one of them)."""
    nominal = Nominal.from_shape(PARTS[name]())
    right = scan_of(nominal, 0.01)
    for scan, expected in ((right, False), (mirrored(right), True)):
        pose = best_fit(scan, nominal, rough_align(scan, nominal).transform).transform
        fit = Fit(pose, 0.01, 1.0)
        assert is_opposite_hand(scan, nominal, fit) is expected
    monkeypatch.setattr(module, "NEARLY", 0.0)
    assert name != "square" or is_opposite_hand(scan, nominal, fit), "searched through all poses"
