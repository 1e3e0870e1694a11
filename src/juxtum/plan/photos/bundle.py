"""A light bundle adjustment: targets, camera poses, scale bars and, if wanted, the camera itself, with covariance."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.errors import FitError
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.plan.photos import _bundle_rows as rows

MOST_STEPS = 12


@dataclass(frozen=True, eq=False)
class Lens:
    """A camera's inner geometry in mm: focal length, principal point, radial distortion."""

    focal: float
    centre: tuple[float, float] = (0.0, 0.0)
    radial: tuple[float, float] = (0.0, 0.0)

    @property
    def numbers(self) -> Floats:
        """As the adjustment knows them (5,)."""
        return np.array([self.focal, *self.centre, *self.radial])


@dataclass(frozen=True, eq=False)
class Photos:
    """Where photos were taken: rotations (M, 3, 3) from part to camera, centres (M, 3)."""

    rotations: Floats
    centres: Floats


@dataclass(frozen=True, eq=False)
class Rays:
    """Observations: photo and target of each (N,), place in the picture (N, 2) in mm, its noise in mm."""

    photos: Ints
    targets: Ints
    places: Floats
    noise: float


@dataclass(frozen=True)
class BarTie:
    """A scale bar between two targets: length at the temperature of the work and its standard uncertainty, mm."""

    first: int
    second: int
    length: float
    uncertainty: float


@dataclass(frozen=True, eq=False)
class Network:
    """All that goes into an adjustment."""

    points: Floats
    photos: Photos
    rays: Rays
    bars: tuple[BarTie, ...]
    lens: Lens
    is_self_calibrating: bool = False


@dataclass(frozen=True, eq=False)
class Adjusted:
    """What comes out of it.

    Parameters
    ----------
    points : array (T, 3)
    covariance : array (3T, 3T)
        Of the points, mm2; free network, so that its trace is the smallest there is.
    rms : float
        Of the residuals in the pictures, in units of their noise.
    redundancy : int
        Observations more than unknowns.
    """

    points: Floats
    photos: Photos
    lens: Lens
    covariance: Floats
    rms: float
    steps: int
    redundancy: int

    def length(self, first: int, second: int) -> float:
        """Distance between two targets, mm."""
        return float(np.linalg.norm(self.points[first] - self.points[second]))

    def length_uncertainty(self, first: int, second: int) -> float:
        """Standard uncertainty of the distance between two targets, mm (GUM, propagation of uncertainty)."""
        d = self.points[first] - self.points[second]
        d = d / max(float(np.linalg.norm(d)), 1e-12)
        i, j = slice(3 * first, 3 * first + 3), slice(3 * second, 3 * second + 3)
        c = self.covariance
        variance = d @ (c[i, i] + c[j, j] - c[i, j] - c[j, i]) @ d
        return float(np.sqrt(max(variance, 0.0)))


def adjust(network: Network, steps: int = MOST_STEPS) -> Adjusted:
    """Least squares over everything by Gauss-Newton, with the targets eliminated (Schur complement).

    The datum is free: seven conditions on the targets (six with scale bars) hold position, turn and size of the whole
    (inner constraints; Triggs, McLauchlan, Hartley and Fitzgibbon, "Bundle adjustment - a modern synthesis", 2000).

    Raises
    ------
    FitError
        When targets or photos have too few rays, naming how many.
    """
    _check(network)
    now = network
    size = float(np.abs(network.points - network.points.mean(0)).max())
    for step in range(1, steps + 1):  # noqa: B007
        system = rows.linearise(now)
        solution = rows.solve(system)
        now = _moved(now, solution, system)
        if np.abs(solution.points).max() < 1e-9 * size:
            break
    else:
        if np.abs(solution.points).max() > 1e-5 * size and steps > 1:
            raise FitError(
                "the adjustment of the photos does not settle",
                "photos",
                "Check the targets' numbers, or take more photos",
            )
    system = rows.linearise(now)
    covariance = rows.covariance(system)
    residuals = rows.residuals(now) / network.rays.noise
    unknowns = rows.unknowns(network)
    count = residuals.size + len(network.bars)
    rms = float(np.sqrt(np.mean(residuals**2)))
    return Adjusted(frozen(now.points), now.photos, now.lens, frozen(covariance), rms, step, count - unknowns)


def predict(network: Network) -> Adjusted:
    """Covariance of a planned network, at the planned places, without any observation being needed."""
    _check(network)
    covariance = rows.covariance(rows.linearise(network))
    count = 2 * len(network.rays.photos) + len(network.bars)
    return Adjusted(
        frozen(network.points), network.photos, network.lens, frozen(covariance), 1.0, 0, count - rows.unknowns(network)
    )


def simulate(network: Network, rng: np.random.Generator) -> Network:
    """The network with places in the pictures, and bars, as noise makes them."""
    ideal = rows.projected(network)
    places = ideal + rng.normal(0, network.rays.noise, ideal.shape)
    bars = []
    for bar in network.bars:
        true = float(np.linalg.norm(network.points[bar.first] - network.points[bar.second]))
        bars.append(replace(bar, length=true + float(rng.normal(0, bar.uncertainty))))
    return replace(network, rays=replace(network.rays, places=frozen(places)), bars=tuple(bars))


def _check(network: Network) -> None:
    rays = network.rays
    by_target = np.bincount(rays.targets, minlength=len(network.points))
    by_photo = np.bincount(rays.photos, minlength=len(network.photos.centres))
    if (by_target < 2).any():
        k = int(np.argmin(by_target))
        raise FitError(
            f"target {k + 1} is seen in {by_target[k]} photos, two are the least", "photos", "Take more photos of it"
        )
    if (by_photo < 4).any():
        k = int(np.argmin(by_photo))
        raise FitError(
            f"photo {k + 1} shows {by_photo[k]} targets, four are the least",
            "photos",
            "Leave it out, or add targets there",
        )


def _moved(network: Network, solution: rows.Solution, system: rows.System) -> Network:
    photos = Photos(rows.turned(network.photos.rotations, solution.turns), network.photos.centres + solution.shifts)
    lens = network.lens
    if network.is_self_calibrating:
        n = lens.numbers + solution.lens
        lens = Lens(float(n[0]), (float(n[1]), float(n[2])), (float(n[3]), float(n[4])))
    return replace(network, points=network.points + solution.points, photos=photos, lens=lens)
