"""How well an alignment says it is known, against how it scatters over many scans of the same part."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from juxtum.align import DatumFeature, best_fit, datum_alignment, rough_align
from juxtum.align.best_fit import BestFitOptions
from juxtum.demo import solids
from juxtum.geometry import PointCloud, RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.nominal import Nominal

NOISE = 0.02
SEEDS = 16


@pytest.fixture(scope="module")
def bar() -> Nominal:
    """A long bar: what is known of its long and its short axis differs by a factor of ten."""
    return Nominal.from_shape(solids.box((0, 0, 0), (300, 40, 20)))


def field(length: float, rng: np.random.Generator) -> Floats:
    """Errors on a grid of 1 mm, alike over `length` mm, of standard deviation one."""
    made = gaussian_filter(rng.normal(size=(310, 50, 30)).astype(np.float32), length, mode="wrap", truncate=3)
    return np.asarray(made / made.std())


def scanned(nominal: Nominal, length: float, rng: np.random.Generator) -> PointCloud:
    """Points every 1.5 mm or so, each moved along its normal by errors that go together over `length` mm."""
    some = rng.choice(len(nominal.samples.centres), 20_000, replace=False)
    normals = nominal.samples.mesh.triangle_normals[some]
    places = nominal.samples.centres[some] + rng.uniform(-0.3, 0.3, normals.shape) * (np.abs(normals) < 0.5)
    # Beyond an edge there is no part: a place there would be off by far more than the noise.
    places = np.clip(places, *nominal.mesh.bounds)
    errors = field(length, rng)[tuple(np.floor(places + 4).astype(int).T)] if length else rng.normal(size=len(places))
    return PointCloud(places + NOISE * errors[:, None] * normals, normals)


@pytest.mark.parametrize("length", [0.0, pytest.param(3.0, marks=pytest.mark.long)])
@pytest.mark.parametrize("way", ["datums", pytest.param("best fit", marks=pytest.mark.long)])
def test_pose_scatters_as_far_as_it_says(bar: Nominal, way: str, length: float) -> None:
    """Predicted over observed scatter, for each of the six motions: the geometric mean and every single one."""
    numbers = {tuple(np.round(face.feature.normal, 6)): face.number for face in bar.faces if face.feature}
    datums = tuple(
        DatumFeature(letter, (numbers[n],)) for letter, n in (("A", (0, 0, 1)), ("B", (0, 1, 0)), ("C", (1, 0, 0)))
    )
    twists, said = [], []
    for seed in range(SEEDS):
        scan = scanned(bar, length, np.random.default_rng(seed))
        start = RigidTransform.identity()
        found = (
            datum_alignment(scan, bar, start, datums)
            if way == "datums"
            else best_fit(scan, bar, start, BestFitOptions(trim=0.0))
        )
        centre = found.centre
        moved = found.transform.apply(centre[None])[0] - centre
        turn = found.transform.rotation
        twists.append([*moved, turn[2, 1], turn[0, 2], turn[1, 0]])
        said.append(np.sqrt(np.diag(found.covariance)))
    ratio = np.median(said, axis=0) / np.sqrt(np.mean(np.square(twists), axis=0))
    assert 0.6 < np.exp(np.log(ratio).mean()) < 1.8, ratio
    assert ratio.min() > 0.4, ratio
    assert ratio.max() < 3.0, ratio


def test_rough_alignment_says_what_it_leaves(bar: Nominal) -> None:
    """Shifts in mm and turns in radians: the far end of the part is known to about as much as the middle."""
    scan = scanned(bar, 0.0, np.random.default_rng(1))
    found = rough_align(scan, bar)
    far = found.point_uncertainty(np.array([[300.0, 20, 10]]), np.array([[0.0, 0, 1]]))[0]
    assert found.rms <= far < 3 * found.rms
