"""A region of a scan that belongs to one feature, grown from the place that was clicked."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.associate.seed import plane_through
from juxtum.associate.solve import approached
from juxtum.errors import FitError, InputError
from juxtum.evaluate.features.beginnings import BEGINNINGS, SLIM, opening_about, walls_met
from juxtum.geometry.arrays import Floats, Ints, frozen, unit
from juxtum.geometry.features import OPENINGS, Cone, Cylinder, Feature, Opening, Plane, Slot, Sphere, Torus
from juxtum.geometry.mesh import TriangleMesh
from juxtum.geometry.topology import beside

PATCHES = (60, 400, 3000, 20000, 80000)
"""Triangles of the patches about the seed from which features are begun."""
AROUND = 25
"""Triangles that tell which way the surface looks at a place."""
SMOOTH = 16.0
"""Degrees between neighbouring triangles over which a patch goes on."""
LOOKS = 25.0
"""Degrees by which a triangle may look another way than its feature."""
SIMPLER = {"plane": 1.0, "cylinder": 1.15, "sphere": 1.15, "cone": 1.3, "torus": 1.5}
"""A kind with more freedom has to make the region so much larger than a simpler one."""
NOISES = 5.0
"""Without a tolerance a region goes on to so many times the noise."""
WIDE = 0.15
"""A wall is first looked for within this share of the width of an opening, then within the square of it."""
BINS, HELD = 60, 0.5
"""Of so many parts of the way round a wall this share lies on it; a square touches a bore at four places."""
TRIED, ROUNDS, AT_MOST = 2, 4, 10
"""Rounds of growing and fitting, while kinds are tried and for the one that is chosen; where it still spreads, more."""
SPREADS = 1.3
"""So many times as large as in the round before."""
AS_FAR = 40_000
"""Triangles that are grown over while kinds are tried: what reaches so far reaches on."""
EVENED, ENOUGH = 12, 10_000
"""Of a patch the directions are taken over cells of so many to its length, from no more triangles than that."""
MOVED = 0.2
"""A feature that moves by less than this share of its tolerance has the same region."""
FEW, MANY = 300, 3000
"""Points that are fitted in them."""
ENOUGH_BETTER = 1.1
"""By this factor, root mean square, what is bent has to fit better than a plane does."""
FLAT = 30.0
"""What bends with a radius of more than so many times its own size is a plane."""


@dataclass(frozen=True, eq=False)
class Region:
    """Triangles of a scan that make a feature.

    Parameters
    ----------
    feature : Feature
    triangles : array (K,)
        Rows of those that belong to it.
    strays : array (J,)
        Of those among them that do not.
    tolerance, noise : float
        Within which they lie of it, and how rough the surface is about the seed, standard deviation; mm.
    """

    feature: Feature
    triangles: Ints
    strays: Ints
    tolerance: float
    noise: float


def grow(mesh: TriangleMesh, seed: int, kind: str = "", tolerance: float | None = None) -> Region:
    """Grow a region from a triangle: its kind is the simplest that makes it large, unless it is given.

    Features are begun from patches about the seed, whose normals tell where they bend; what hangs together with the seed,
    lies within a tolerance of the feature and looks its way is taken; the feature is fitted to that, and so on.

    Parameters
    ----------
    seed : int
        Row of a triangle.
    kind : str
        "plane", "sphere", "cylinder", "cone", "torus", "slot", "rectangle", or empty for the simplest of the first five.
    tolerance : float, optional
        mm; from the roughness of the surface where it is not given.

    Raises
    ------
    InputError
        When the kind is none of these.
    FitError
        When the surface about the seed makes no such feature.
    """
    if kind and kind not in BEGINNINGS and kind not in OPENINGS:
        choices = ", ".join((*BEGINNINGS, *OPENINGS))
        raise InputError(f"no region of a {kind} can be grown", next=f"Choose {choices}, or name faces")
    ground = _Ground(mesh, seed, tolerance)
    if kind in OPENINGS:
        return ground.opening(kind)
    best: tuple[float, Region] | None = None
    for name in (kind,) if kind else BEGINNINGS:
        region = ground.largest(name)
        if region is not None:
            if ground.is_certain(region):
                return ground.settled(region)
            size = len(region.triangles) / SIMPLER[name]
            best = (size, region) if best is None or size > best[0] else best
    if best is None:
        what = f"the surface there makes no {kind}" if kind else "the surface there makes no feature"
        raise FitError(what, next="Click elsewhere, choose another kind, or allow more")
    return ground.settled(best[1])


def grow_smooth(mesh: TriangleMesh, seed: int) -> Ints:
    """Triangles (K,) that are reached from one without crossing an edge, for what is of free form.

    Which way the surface looks is taken from its corners, each of which knows it from all its triangles: noise turns
    single triangles.
    """
    from juxtum.evaluate.features import _growing_kernels as kernels

    looks = unit(mesh.normals[mesh.triangles].sum(1))
    cosine = float(np.cos(np.radians(SMOOTH)))
    found: Ints = kernels.over_smooth_edges(looks, neighbours_of(mesh), seed, cosine, len(mesh.triangles))
    return found


class _Ground:
    """The surface about a seed, on which features are tried."""

    def __init__(self, mesh: TriangleMesh, seed: int, tolerance: float | None) -> None:
        from juxtum.evaluate.features import _growing_kernels as kernels

        self._mesh, self._all = mesh, len(mesh.triangles) + 1
        self._beside, self._centres = _kept(mesh)
        cosine = float(np.cos(np.radians(SMOOTH)))

        def patch_of(triangle: int, size: int) -> Ints:
            found: Ints = kernels.over_smooth_edges(mesh.triangle_normals, self._beside, triangle, cosine, size)
            return found

        # A triangle that noise has turned leads nowhere: then one of those about it is as good.
        self._seed = max(self._about(seed), key=lambda triangle: len(patch_of(triangle, PATCHES[0])))
        self._seeds, self._patches = [self._seed], [patch_of(self._seed, PATCHES[0])]
        for size in PATCHES[1:]:
            patch = patch_of(self._seed, size)
            if len(patch) == len(self._patches[-1]):
                break
            self._patches.append(patch)
        self.noise = self._roughness(self._patches[-1][:ENOUGH])
        self.tolerance = tolerance if tolerance is not None else max(NOISES * self.noise, 0.01 * mesh.spacing)

    def _about(self, seed: int) -> list[int]:
        """A triangle, those beside it and those beside them, itself first."""
        near = self._beside[seed]
        further = self._beside[near[near >= 0]].ravel()
        return list(dict.fromkeys([seed, *near[near >= 0].tolist(), *further[further >= 0].tolist()]))

    def _looks(self, triangle: int) -> Floats:
        """Which way (3,) the surface looks about a triangle."""
        from juxtum.evaluate.features import _growing_kernels as kernels

        normals = self._mesh.triangle_normals
        near = kernels.over_smooth_edges(normals, self._beside, triangle, np.cos(np.radians(LOOKS)), AROUND)
        return unit(normals[near].sum(0))

    def _roughness(self, patch: Ints) -> float:
        """Standard deviation of points, mm, by how far triangles lie off the mean of those beside them.

        That is a ninth of what the sum of their corners and the sum of the corners beyond differ by: 0.272 times the
        deviation of one corner. Half the triangles may lie at edges without it being changed much.
        """
        others = self._beside[patch]
        whole = (others >= 0).all(1)
        if whole.sum() < 4:
            return 0.05 * self._mesh.spacing
        rows = patch[whole]
        off = self._centres[rows] - self._centres[others[whole]].mean(1)
        heights = np.einsum("nd,nd->n", off, self._mesh.triangle_normals[rows])
        return 1.4826 * float(np.median(np.abs(heights - np.median(heights)))) / 0.272

    def largest(self, kind: str) -> Region | None:
        """The largest region of a kind that any of the patches leads to; None where there is none."""
        best: Region | None = None
        for patch in reversed(self._patches):
            region = self._led_to(kind, patch)
            if region is not None and (best is None or len(region.triangles) > 1.02 * len(best.triangles)):
                best = region
            if best is not None and len(best.triangles) >= AS_FAR:
                break
        return best

    def _led_to(self, kind: str, patch: Ints) -> Region | None:
        if len(patch) < 6:
            return None
        places, looks = self._evened(patch)
        some = self._centres[patch[:: max(1, len(patch) // FEW)]]
        try:
            feature = BEGINNINGS[kind](places, looks)
        except (FitError, InputError, np.linalg.LinAlgError):
            return None
        # The places themselves know better how far the patch bends than which way noise has turned its triangles.
        better = self._fitted(feature, patch, FEW)
        if better is not None:
            some = self._centres[patch[:: max(1, len(patch) // FEW)]]
            feature = better if _missed(better, some) < _missed(feature, some) else feature
        region = self._grown(feature, TRIED, FEW)
        if region is None:
            return None
        feature, taken = region.feature, region.triangles
        size = float(np.linalg.norm(np.ptp(self._centres[taken], axis=0)))
        if not isinstance(feature, Plane) and self._is_flat(feature, taken):
            return None
        if kind != "plane" and getattr(feature, "radius", 0.0) > FLAT * size:
            return None
        if isinstance(feature, Cone) and abs(feature.half_angle) < np.radians(SLIM):
            return None
        if isinstance(feature, Torus) and max(feature.minor_radius, feature.radius) > FLAT / 3 * size:
            return None
        return region

    def _evened(self, patch: Ints) -> tuple[Floats, Floats]:
        """Places and directions (N, 3) of a patch, each the mean over about a hundredth of it: noise turns triangles more
        the smaller they are."""
        patch = patch[:: max(1, len(patch) // ENOUGH)]
        centres = self._centres[patch]
        cells = np.floor((centres - centres.min(0)) / max(float(np.ptp(centres, axis=0).max()) / EVENED, 1e-12))
        which = np.unique(cells.astype(np.int64) @ (1, 1000, 1_000_000), return_inverse=True)[1]
        sums = [np.bincount(which, row) for row in (*centres.T, *self._mesh.triangle_normals[patch].T)]
        count = np.bincount(which)
        looks = np.stack(sums[3:], axis=1)
        agree = np.linalg.norm(looks, axis=1) > 0.5 * count
        return (np.stack(sums[:3], axis=1) / count[:, None])[agree], unit(looks[agree])

    def _is_flat(self, feature: Feature, taken: Ints) -> bool:
        """Whether a plane fits about as well."""
        some = self._centres[taken[:: max(1, len(taken) // MANY)]]
        flat, bent = plane_through(some).distances(some), feature.distances(some)
        return float(flat @ flat) < ENOUGH_BETTER**2 * float(bent @ bent)

    def is_certain(self, region: Region) -> bool:
        """Whether a region reaches as far as is looked and lies off its feature by no more than noise.

        A plane reaches as far along a wall that bends, but in a strip of all that its tolerance lets in.
        """
        some = self._centres[region.triangles[:: max(1, len(region.triangles) // MANY)]]
        return len(region.triangles) >= AS_FAR and _missed(region.feature, some) < len(some) * self.noise**2

    def settled(self, region: Region) -> Region:
        """A region grown to its end, its feature fitted to more of it."""
        begun = self._grown(region.feature, ROUNDS, MANY) or region
        if len(begun.triangles) < AS_FAR:
            return begun
        whole = self._grown(begun.feature, 1, MANY, most=self._all) or begun
        some = self._centres[whole.triangles[:: max(1, len(whole.triangles) // FEW)]]
        moved = np.abs(whole.feature.distances(some) - begun.feature.distances(some)).max()
        if moved < MOVED * self.tolerance:
            return whole
        return self._grown(whole.feature, ROUNDS, MANY, most=self._all) or whole

    def opening(self, kind: str) -> Region:
        """The wall of a slot or a rectangle about the seed: begun across the opening, then ever nearer.

        Raises
        ------
        FitError
            When there is no wall all round, or it is none of that kind.
        """
        wrong = FitError(f"the wall there makes no {kind}", next="Click another side of it, or name its faces")
        start = opening_about(self._mesh, self._seed, kind, self._looks)
        # From each side: round corners, which a milled pocket has, lie off the feature and part its walls.
        self._seeds = walls_met(self._mesh, start, self._seed)
        region: Region | None = None
        for within in (WIDE * start.width, WIDE**2 * start.width, 0.0):
            begun = start if region is None else region.feature
            region = self._grown(begun, ROUNDS, MANY, max(within, self.tolerance), self._all)
            if region is None:
                raise wrong
        assert region is not None
        feature = region.feature
        size = np.linalg.norm(np.ptp(self._centres[region.triangles], axis=0))
        if not isinstance(feature, Opening) or not self.tolerance < feature.width <= feature.length * 1.001 < 2 * size:
            raise wrong
        around = (feature.round_about(self._centres[region.triangles]) * BINS).astype(np.int64)
        if len(np.unique(around)) < HELD * BINS:
            raise wrong
        if feature.is_round:
            raise FitError("the wall there is round all the way", next="Choose a cylinder")
        return region

    def _grown(
        self, feature: Feature, rounds: int, count: int, within: float | None = None, most: int = AS_FAR
    ) -> Region | None:
        taken, strays, before = np.empty(0, dtype=np.int64), np.empty(0, dtype=np.int64), 0
        for done in range(1, AT_MOST + 1):
            taken, strays = self._along(feature, self.tolerance if within is None else within, most)
            if len(taken) < 6:
                return None
            refined = self._fitted(feature, taken, count)
            if refined is None:
                return None
            feature = refined
            spreads = len(taken) > SPREADS * before and len(taken) < most
            if abs(len(taken) - before) < 0.005 * len(taken) or (done >= rounds and (most == self._all or not spreads)):
                break
            before = len(taken)
        return Region(feature, frozen(taken, np.int64), frozen(strays, np.int64), self.tolerance, self.noise)

    def _along(self, feature: Feature, tolerance: float, most: int) -> tuple[Ints, Ints]:
        from juxtum.evaluate.features import _growing_kernels as kernels

        code, numbers = _numbers(feature)
        cosine = float(np.cos(np.radians(LOOKS)))
        found = [
            kernels.along_feature(
                self._centres, self._mesh.triangle_normals, self._beside, seed, code, numbers, tolerance, cosine, most
            )
            for seed in self._seeds
        ]
        if len(found) == 1:
            first: tuple[Ints, Ints] = found[0]
            return first
        taken = np.unique(np.concatenate([mine for mine, _ in found]))
        return taken, np.setdiff1d(np.concatenate([strays for _, strays in found]), taken)

    def _fitted(self, feature: Feature, triangles: Ints, count: int) -> Feature | None:
        some = triangles[np.linspace(0, len(triangles) - 1, min(len(triangles), count)).astype(np.int64)]
        try:
            return approached(feature, self._centres[some])
        except FitError:
            return None


def _missed(feature: Feature, points: Floats) -> float:
    """Sum of the squares of what points lie off a feature by, mm2; endless where it has none."""
    off = feature.distances(points)
    return float(off @ off) if np.isfinite(off).all() else np.inf


def _kept(mesh: TriangleMesh) -> tuple[Ints, Floats]:
    """What lies beside each triangle, and their middles, kept with the mesh: the first click pays for all that follow."""
    found = mesh.__dict__.get("_grown_over")
    if found is None:
        neighbours = beside(mesh.triangles.astype(np.int64), len(mesh.points))[0]
        one, two, three = (mesh.points[corner] for corner in mesh.triangles.T)
        found = mesh.__dict__["_grown_over"] = (neighbours, (one + two + three) / 3)
    made: tuple[Ints, Floats] = found
    return made


def neighbours_of(mesh: TriangleMesh) -> Ints:
    """The triangle beside each edge (M, 3), -1 where there is none."""
    return _kept(mesh)[0]


def _numbers(feature: Feature) -> tuple[int, Floats]:
    """What the kernel knows a feature by."""
    from juxtum.evaluate.features import _growing_kernels as kernels

    numbers = np.zeros(12)
    numbers[:3] = feature.point
    if isinstance(feature, Plane):
        numbers[3:6] = feature.normal
        return kernels.PLANE, numbers
    if isinstance(feature, Sphere):
        numbers[5], numbers[6] = 1.0, feature.radius
        return kernels.SPHERE, numbers
    if isinstance(feature, Opening):
        numbers[3:6], numbers[6], numbers[8:11] = feature.axis, feature.width / 2, feature.along
        numbers[7] = feature.half if isinstance(feature, Slot) else feature.length / 2
        return (kernels.SLOT if isinstance(feature, Slot) else kernels.RECTANGLE), numbers
    assert isinstance(feature, Cylinder | Cone | Torus)
    numbers[3:6], numbers[6] = feature.axis, feature.radius
    if isinstance(feature, Cylinder):
        return kernels.CYLINDER, numbers
    if isinstance(feature, Torus):
        numbers[7] = feature.minor_radius
        return kernels.TORUS, numbers
    numbers[7] = np.tan(feature.half_angle)
    return kernels.CONE, numbers
