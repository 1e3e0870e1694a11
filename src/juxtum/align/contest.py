"""The last round between poses: compared on many points, by those at which they differ."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from juxtum.align.samples import ScanSample, nearest_of_each_facing, pulls, scan_sample
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, box_corners, unit
from juxtum.geometry.mesh import Scan
from juxtum.geometry.registration import Pulls, Rounds, register
from juxtum.nominal import Nominal, Projection

SAMPLE = 12_000
ROUNDS = 8
SETTLED = 0.002
"""Drawing in ends when no corner of the part moves by this share of what counts as near."""
FAR_OFF = 4.0
"""From so many times the median distance on a point pulls no harder."""
NOT_OPPOSITE = 100.0
"""A corner of a mesh may look quite another way than its foot (degrees), but not the opposite one."""
FREE = 3e-5
"""A motion is free when moving along it changes the distances by less than this share (squared) of what others do."""
LEAST_DIFFERENT = 12
"""So many points, at least, must speak for one pose before it wins."""
MAJORITY = 0.75
LOOSE = 1e-6
"""While poses are drawn in, a motion is left alone only when next to nothing holds it."""


@dataclass(frozen=True, eq=False)
class _Pose:
    transform: RigidTransform
    misfits: Floats
    """Distance of each point of the sample from the nominal (N,), capped, mm."""

    @property
    def mean(self) -> float:
        return float(self.misfits.mean())


@dataclass(frozen=True, eq=False)
class Settled:
    """How a contest ended.

    Parameters
    ----------
    best : RigidTransform
        The pose that wins.
    rivals : list of RigidTransform
        Those that it cannot be told from.
    free : str
        What motion the shape leaves free, in words, or "".
    far : float
        Share of the scan (0 to 1) that lies farther off than what counts as near.
    """

    best: RigidTransform
    rivals: list[RigidTransform]
    free: str
    far: float


class Contest:
    """Draws poses in on the exact surface and lets them compete.

    Parameters
    ----------
    near : float
        Farther than this a point does not lie on the part, mm.
    """

    def __init__(self, scan: Scan, nominal: Nominal, near: float) -> None:
        self._nominal = nominal
        self._cap = 4 * near
        self._near = near
        self._sample = scan_sample(scan, SAMPLE)
        self._few = scan_sample(scan, SAMPLE // 6).trusted
        # What lies beside edges is not trusted where a cloud has no normals, yet a keyway is nothing else.
        self._bare = self._sample if self._sample.clear is not None else None

    def settle(self, poses: list[RigidTransform]) -> Settled:
        """Let poses compete."""
        begun = [self._begun(pose) for pose in poses]
        limit = 2 * min(misfit for _, misfit in begun) + 0.02 * self._cap
        drawn = self._distinct([self._drawn_in(pose) for pose, misfit in begun if misfit <= limit])
        drawn.sort(key=lambda p: p.mean)
        best = drawn[0]
        rivals: list[_Pose] = []
        for other in drawn[1:]:
            verdict = self._compare(best, other)
            if verdict < 0:
                best, rivals = other, [r for r in (best, *rivals) if self._compare(other, r) == 0]
            elif verdict == 0:
                rivals.append(other)
        free, twist = self._free(best.transform)
        # What differs from another by nothing but what is free anyway is no other pose: a plain ring lies one way round or the other.
        kept = [best.transform]
        for rival in rivals:
            if twist is None or not any(_is_along(twist, k, rival.transform, self._nominal) for k in kept):
                kept.append(rival.transform)
        return Settled(kept[0], kept[1:], free, float((best.misfits > self._near).mean()))

    def _compare(self, first: _Pose, second: _Pose) -> int:
        """1 when the first pose fits better where the two differ, -1 when the second does, 0 when nothing tells them apart."""
        noise = max(1.4826 * float(np.median(np.minimum(first.misfits, second.misfits))), 1e-4)
        difference = second.misfits - first.misfits
        differ = np.abs(difference) > 5 * noise
        for_first, for_second = int((differ & (difference > 0)).sum()), int((differ & (difference < 0)).sum())
        spoken = for_first + for_second
        if spoken < LEAST_DIFFERENT:
            return 0
        if for_first >= MAJORITY * spoken:
            return 1
        return (
            -1
            if for_second >= MAJORITY * spoken
            else int(np.sign(difference[differ].sum())) * int(abs(first.mean - second.mean) > noise / 3)
        )

    def _distinct(self, poses: list[_Pose]) -> list[_Pose]:
        kept: list[_Pose] = []
        corners = self._nominal.mesh.bounds
        for pose in sorted(poses, key=lambda p: p.mean):
            if all(apart(pose.transform, other.transform, corners) > 2 * self._near for other in kept):
                kept.append(pose)
        return kept

    def _begun(self, pose: RigidTransform) -> tuple[RigidTransform, float]:
        """Gauss-Newton against the exact surface, the worst tenth left out, and the mean misfit that is left."""
        rounds = Rounds(4, 0.0, self._nominal.diagonal / 2, free=LOOSE, largest_turn=np.inf)
        pose = register(partial(self._pulls, 3 * self._cap, 0.9), pose, rounds) or pose
        return pose, float(self._misfits(self._few, pose).mean())

    def _drawn_in(self, pose: RigidTransform) -> _Pose:
        """On with all points, and then every point's distance: a keyway is one point in a hundred."""
        rounds = Rounds(ROUNDS, SETTLED * self._near, self._nominal.diagonal / 2, free=LOOSE, largest_turn=np.inf)
        pose = register(partial(self._pulls, self._cap, 1.0), pose, rounds) or pose
        made = _Pose(pose, self._misfits(self._sample, pose))
        if self._bare is None:
            return made
        closer = register(partial(self._bare_pulls, self._bare, self._cap), pose, rounds) or pose
        other = _Pose(closer, self._misfits(self._sample, closer))
        return other if other.mean < made.mean else made

    def _pulls(self, limit: float, share: float, pose: RigidTransform, _: int) -> Pulls | None:
        """Where the nearest share of the few points is drawn to; None where too few are near."""
        return self._drawn(self._few.points, self._projected(self._few, pose, limit), share, pose)

    def _bare_pulls(self, sample: ScanSample, limit: float, pose: RigidTransform, _: int) -> Pulls | None:
        """The same of a cloud without normals, each point drawn to whatever is nearest."""
        found = self._nominal.projector.project(pose.apply(sample.points), None, limit=limit)
        return self._drawn(sample.points, found, 1.0, pose)

    def _drawn(self, points: Floats, found: Projection, share: float, pose: RigidTransform) -> Pulls | None:
        rows = np.flatnonzero(found.found)
        if len(rows) < 20:
            return None
        p = pose.apply(points[rows])
        n, d = pulls(p, found.feet[rows], found.normals[rows])
        keep = nearest_of_each_facing(np.abs(d), n, share)
        p, n, d = p[keep], n[keep], d[keep]
        # Cauchy's weights: scraps hardly pull, yet a keyway, which is far off too, turns a ring that nothing else holds.
        scale = max(FAR_OFF * float(np.median(np.abs(d))), SETTLED * self._near)
        return Pulls(p, n, d, 1 / (1 + (d / scale) ** 2))

    def _misfits(self, sample: ScanSample, pose: RigidTransform) -> Floats:
        """How far each point lies from the nominal (N,), capped, mm; of a cloud without normals whatever way the surface looks.

        Beside edges and small holes the neighbours of a point do not tell its normal, and just those points decide.
        """
        directions, either = sample.directions(pose)
        points = pose.apply(sample.points)
        found = self._nominal.projector.project(
            points, None if either else directions, limit=self._cap, angle=NOT_OPPOSITE
        )
        return np.where(found.found, np.minimum(np.abs(found.distances), self._cap), self._cap)

    def _projected(self, sample: ScanSample, pose: RigidTransform, limit: float) -> Projection:
        points = pose.apply(sample.points)
        directions, either = sample.directions(pose)
        if directions is not None and either:
            directions = self._outwards(points, directions, limit)
        return self._nominal.projector.project(points, directions, limit=limit)

    def _outwards(self, points: Floats, axes: Floats, limit: float) -> Floats:
        """Axes turned to look the way of the nearest surface that lies along them."""
        near = self._nominal.mesh.tree.query(points, axes, limit=limit, angle=75.0, either_side=True)
        normals = self._nominal.mesh.triangle_normals[near.triangles]
        return np.where(np.einsum("ij,ij->i", normals, axes)[:, None] < 0, -axes, axes)

    def _free(self, pose: RigidTransform) -> tuple[str, Floats | None]:
        """The motion that the data do not hold, in words and as a twist about the origin of the part, or nothing."""
        from juxtum.align.best_fit import free_motion

        sample = self._few if self._bare is None else self._bare
        if self._bare is None:
            found = self._projected(sample, pose, self._cap)
        else:
            found = self._nominal.projector.project(pose.apply(sample.points), None, limit=self._near)
        rows = np.flatnonzero(found.found & ~found.on_border)
        if len(rows) < 20:
            return "", None
        p, size = pose.apply(sample.points[rows]), self._nominal.diagonal / 2
        drawn = Pulls(p, found.normals[rows], found.distances[rows])
        _, _, free = drawn.motions(size, FREE)
        if not free.size:
            return "", None
        twist = free[:, 0] * np.repeat([1, 1 / size], 3)
        moved = np.concatenate([twist[:3] - np.cross(twist[3:], drawn.centre), twist[3:]])
        return free_motion(twist, drawn.centre), moved


def apart(first: RigidTransform, second: RigidTransform, bounds: Floats) -> float:
    """How far at most any corner of the part's bounds is apart in two poses, mm."""
    corners = box_corners(bounds)
    motion = second @ first.inverse
    return float(np.linalg.norm(motion.apply(corners) - corners, axis=1).max())


def _is_along(twist: Floats, first: RigidTransform, second: RigidTransform, nominal: Nominal) -> bool:
    """Whether two poses differ by nothing but a free motion."""
    motion = second @ first.inverse
    slide, turn = twist[:3], twist[3:]
    rate = float(np.linalg.norm(turn))
    if rate * nominal.diagonal < 0.02 * np.linalg.norm(slide):
        return motion.angle < 1 and bool(np.linalg.norm(np.cross(unit(slide), motion.offset)) < 0.01 * nominal.diagonal)
    axis = turn / rate
    foot = np.cross(turn, slide) / rate**2
    stays = motion.apply(foot[None])[0] - foot
    off = np.linalg.norm(stays - (stays @ axis) * axis)
    return bool(abs(motion.axis @ axis) > np.cos(np.radians(2)) or motion.angle < 1) and bool(
        off < 0.01 * nominal.diagonal
    )
