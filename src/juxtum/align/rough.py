"""Automatic rough alignment from any pose.

Principal axes give 24 first guesses; a search over all turns gives more where those fail. Each is drawn in by a few
rounds of nearest points on a small sample, and scored by how much of the scan then lies near the nominal.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations, product

import numpy as np
import numpy.typing as npt

from juxtum.align.contest import Contest
from juxtum.align.pairs import rigid_from_pairs
from juxtum.align.result import AXES, Alignment
from juxtum.align.samples import ScanSample, scan_sample
from juxtum.align.symmetry import all_round, near_symmetries, principal_frame
from juxtum.errors import AlignmentError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.mesh import Scan, TriangleMesh
from juxtum.nominal import Nominal
from juxtum.progress import Progress, silent

MARKS = 5000
PROMISING = 28
"""So many guesses are drawn in further after the first rounds."""
DECISIVE = 0.97
"""With so much of the scan near the nominal after the first guesses no others are tried."""


@dataclass(frozen=True, eq=False)
class _Candidate:
    transform: RigidTransform
    inside: float
    """Share of the sample that lies near the nominal."""
    rms: float
    """Of those points, mm."""

    @property
    def score(self) -> float:
        return self.inside - 0.02 * self.rms


def rough_align(scan: Scan, nominal: Nominal, progress: Progress | None = None, choice: int = 0) -> Alignment:
    """Bring a scan near the nominal, whatever its pose.

    The poses that the part's own near-symmetry allows are always tried, and the last candidates are compared on many
    points, by those at which they differ: one keyway decides, if the scan shows it.

    Parameters
    ----------
    choice : int
        Which of the poses that fit equally well is taken: 0 for the likeliest.

    Returns
    -------
    Alignment
        With `alternatives` and a note when other poses fit as well, and a note of what the shape leaves free.

    Raises
    ------
    AlignmentError
        When no pose brings half of the scan near the nominal.
    """
    progress = progress or silent()
    search = _Search(scan, nominal)
    found = search.run(_axis_guesses(search.sample.points, nominal), progress.part(0.0, 0.3))
    if not found or found[0].inside < DECISIVE:
        found = _ranked(found + search.run(_turn_guesses(search.sample.points, nominal), progress.part(0.3, 0.7)))
    if (not found or found[0].inside < 0.5) and _is_inside_out(scan, nominal, found[0].inside if found else 0.0):
        raise AlignmentError("the scan is inside out: its surface looks into the part", "rough alignment", "Flip its triangles and bring it again")
    if not found or found[0].inside < 0.5:
        share = 100 * found[0].inside if found else 0.0
        what = f"no pose brings the scan onto the nominal; the best has {share:.0f} % of it near"
        raise AlignmentError(what, "rough alignment", "Check that this is the right part and unit, or pick pairs by hand")
    progress.phase("trying what the part's symmetry allows", 0.75)
    found = _ranked([*found, search.near_identity(), *search.turned(found[0])])
    best, others, free = Contest(search.scan, nominal, search.near).settle([c.transform for c in found if c.inside > found[0].inside - 0.3])
    poses = [best, *others]
    chosen = poses[choice % len(poses)]
    rest = tuple(pose for pose in poses if pose is not chosen)
    notes = tuple(_told(chosen, pose) for pose in rest)
    notes += (f"the shape leaves the scan {free}",) if free else ()
    last = search.drawn_in(chosen)
    spread = frozen(np.eye(6) * last.rms**2)
    used = int(last.inside * len(search.fine.points))
    return Alignment(chosen, "rough", last.rms, used, spread, nominal.centre, dict.fromkeys(AXES, "rough"), notes, rest)


def _is_inside_out(scan: Scan, nominal: Nominal, share: float) -> bool:
    """Whether the scan fits much better with its triangles flipped."""
    if not isinstance(scan, TriangleMesh):
        return False
    search = _Search(TriangleMesh(scan.points, scan.triangles[:, ::-1]), nominal)
    found = search.run(_axis_guesses(search.sample.points, nominal), silent())
    return bool(found) and found[0].inside > max(share + 0.3, 0.6)


def _told(chosen: RigidTransform, other: RigidTransform) -> str:
    motion = other @ chosen.inverse
    axis = "(" + ", ".join(f"{v:.2f}" for v in motion.axis) + ")"
    if motion.angle < 1:
        return f"not sure where it lies: {np.linalg.norm(motion.offset):.1f} mm away it fits as well"
    return f"not sure which way it lies: turned by {motion.angle:.0f} degrees about {axis} it fits as well"


def _ranked(candidates: list[_Candidate]) -> list[_Candidate]:
    return sorted(candidates, key=lambda c: -c.score)


class _Search:
    def __init__(self, scan: Scan, nominal: Nominal) -> None:
        self.scan = scan
        self.few = scan_sample(scan, 160)
        self.sample = scan_sample(scan, 500)
        self.fine = scan_sample(scan, 3000)
        self.nominal = nominal
        self.near = max(nominal.diagonal / 250, 0.2)
        self.marks = _Marks(nominal, self.sample.normals is not None)

    def run(self, guesses: list[RigidTransform], progress: Progress) -> list[_Candidate]:
        """Draw every guess in against marks, and the best few once more against the surface."""
        begun = []
        for index, guess in enumerate(guesses):
            progress.phase(f"trying pose {index + 1} of {len(guesses)}", index / len(guesses))
            begun.append(self._drawn_near(guess, self.few, 4, 4))
        promising = _ranked(begun)[:PROMISING]
        drawn = [self._drawn_near(c.transform, self.sample, 9, 1) for c in promising]
        best = self._distinct(_ranked(drawn))
        best = [c for c in best if c.inside > best[0].inside - 0.12][:6]
        return _ranked([self.drawn_in(c.transform) for c in best])

    def near_identity(self) -> _Candidate:
        """The scan drawn in from where it lies."""
        return self.drawn_in(RigidTransform.identity())

    def turned(self, best: _Candidate) -> list[_Candidate]:
        """A pose's like: turned as the part's own near-symmetry allows, and slid along its long axis."""
        tried = [symmetry @ best.transform for symmetry in near_symmetries(self.nominal)]
        reach, axis = _long_axis(self.nominal)
        tried += [RigidTransform.translation(axis * reach * k) @ best.transform for k in (-0.2, -0.08, 0.08, 0.2)]
        tried += self._all_round(best)
        return [self.drawn_in(pose) for pose in tried]

    def _all_round(self, best: _Candidate) -> list[RigidTransform]:
        """Of all turns of a part that is nearly round the few that fit best: a keyway is found by its own few points."""
        turns = [turn @ best.transform for turn in all_round(self.nominal)]
        if not turns:
            return []
        tree, sample, cap = self.nominal.mesh.tree, scan_sample(self.scan, 1500), 6 * self.near
        misfits = []
        for pose in turns:
            directions = None if sample.normals is None else pose.turn(sample.normals)
            found = tree.query(pose.apply(sample.points), directions, limit=cap, angle=75.0)
            misfits.append(float(np.where(found.found, np.minimum(found.distances, cap), cap).mean()))
        kept: list[int] = []
        for index in np.argsort(misfits):
            if all(min(abs(index - k), len(turns) - abs(index - k)) > 2 for k in kept):
                kept.append(int(index))
        return [turns[k] for k in kept[:5]]

    @staticmethod
    def _distinct(candidates: list[_Candidate]) -> list[_Candidate]:
        kept: list[_Candidate] = []
        for candidate in candidates:
            if all((candidate.transform.inverse @ other.transform).angle > 3 for other in kept):
                kept.append(candidate)
        return kept

    def _drawn_near(self, transform: RigidTransform, sample: ScanSample, rounds: int, by_points: int) -> _Candidate:
        """Cheap rounds against some thousand marks on the nominal, the first ones towards points."""
        inside, heights = np.zeros(0, dtype=bool), np.zeros(0)
        for index in range(rounds):
            points = transform.apply(sample.points)
            directions = None if sample.normals is None else transform.turn(sample.normals)
            feet, normals, apart = self.marks.nearest(points, directions)
            heights = np.abs(np.einsum("ij,ij->i", points - feet, normals))
            inside = (heights < self.near) & (np.linalg.norm(points - feet, axis=1) < 3 * self.marks.spacing)
            keep = apart <= np.quantile(apart, 0.9)
            transform = self._step(transform, points[keep], feet[keep], normals[keep], index < by_points)
        rms = float(np.sqrt(np.mean(heights[inside] ** 2))) if inside.any() else np.inf
        return _Candidate(transform, float(inside.mean()), rms)

    def drawn_in(self, transform: RigidTransform) -> _Candidate:
        """A pose after some rounds against the surface."""
        mesh, sample = self.nominal.mesh, self.fine
        distances = np.full(len(sample.points), np.inf)
        for index in range(14):
            points = transform.apply(sample.points)
            directions = None if sample.normals is None else transform.turn(sample.normals)
            reach = self.nominal.diagonal / (12 if index < 4 else 40)
            near = mesh.tree.query(points, directions, limit=reach, angle=75.0)
            found = near.found
            if found.sum() < 20:
                return _Candidate(transform, 0.0, np.inf)
            corners = mesh.triangles[near.triangles[found]]
            feet = np.einsum("ij,ijk->ik", near.weights[found], mesh.points[corners])
            distances = np.where(found, near.distances, np.inf)
            keep = near.distances[found] <= np.quantile(near.distances[found], 0.9)
            normals = mesh.triangle_normals[near.triangles[found]][keep]
            transform = self._step(transform, points[found][keep], feet[keep], normals, False)
        inside = distances < self.near
        rms = float(np.sqrt(np.mean(distances[inside] ** 2))) if inside.any() else np.inf
        return _Candidate(transform, float(inside.mean()), rms)

    @staticmethod
    def _step(transform: RigidTransform, points: Floats, feet: Floats, normals: Floats, by_points: bool) -> RigidTransform:
        """First towards the nearest points, which is steady, then towards the planes through them, which is quick."""
        if by_points:
            return rigid_from_pairs(points, feet) @ transform
        centre = points.mean(0)
        jacobian = np.concatenate([normals, np.cross(points - centre, normals)], axis=1)
        residuals = np.einsum("ij,ij->i", points - feet, normals)
        damped = jacobian.T @ jacobian + 1e-6 * np.eye(6) * len(points)
        step = -np.linalg.solve(damped, jacobian.T @ residuals)
        step[3:] = np.clip(step[3:], -0.3, 0.3)
        return RigidTransform.about(centre, step) @ transform


class _Marks:
    """Some thousand points of the nominal with their normals, found by place and direction together."""

    def __init__(self, nominal: Nominal, directed: bool) -> None:
        from scipy.spatial import cKDTree

        chosen = _even_choice(nominal, MARKS)
        self._points = nominal.samples.centres[chosen]
        self._normals = nominal.samples.mesh.triangle_normals[chosen]
        self._weight = nominal.diagonal / 12 if directed else 0.0
        self.spacing = float(np.sqrt(nominal.area / MARKS))
        self._tree = cKDTree(self._features(self._points, self._normals))

    def _features(self, points: Floats, normals: Floats | None) -> Floats:
        return points if normals is None or not self._weight else np.concatenate([points, self._weight * normals], 1)

    def nearest(self, points: Floats, normals: Floats | None) -> tuple[Floats, Floats, Floats]:
        """Place and normal (N, 3) of the most similar mark, and how unlike it is (N,)."""
        apart, index = self._tree.query(self._features(points, normals))
        return self._points[index], self._normals[index], apart


def _even_choice(nominal: Nominal, count: int) -> npt.NDArray[np.int64]:
    areas = np.cumsum(nominal.samples.mesh.triangle_areas)
    steps = (np.arange(count) + 0.5) * areas[-1] / count
    return np.unique(np.searchsorted(areas, steps).clip(0, len(areas) - 1))


def _long_axis(nominal: Nominal) -> tuple[float, Floats]:
    """Length and direction (3,) of the part's longest extent."""
    points = _nominal_points(nominal)
    axis = principal_frame(points)[-1]
    return float(np.ptp(points @ axis)), axis


def _nominal_points(nominal: Nominal) -> Floats:
    return nominal.samples.centres[_even_choice(nominal, 3000)]


def _axis_guesses(points: Floats, nominal: Nominal) -> list[RigidTransform]:
    """The 24 ways in which two sets of principal axes can be laid onto each other."""
    theirs = _nominal_points(nominal)
    a, b = principal_frame(points), principal_frame(theirs)
    guesses = []
    for order, signs in product(permutations(range(3)), product((1, -1), repeat=3)):
        turn = np.zeros((3, 3))
        turn[range(3), order] = signs
        if np.linalg.det(turn) > 0:
            rotation = b.T @ turn @ a
            guesses.append(RigidTransform.from_parts(rotation, theirs.mean(0) - rotation @ points.mean(0)))
    return guesses


def _turn_guesses(points: Floats, nominal: Nominal) -> list[RigidTransform]:
    """140 turns spread evenly over all there are (Alexa 2022, super-Fibonacci spirals)."""
    count, phi, psi = 140, 1.414213562373095, 1.533751168755204
    centre, target = points.mean(0), _nominal_points(nominal).mean(0)
    guesses = []
    for k in range(count):
        s = k + 0.5
        t = s / count
        r, R = np.sqrt(t), np.sqrt(1 - t)
        a, b = 2 * np.pi * s / phi, 2 * np.pi * s / psi
        rotation = _from_quaternion(r * np.sin(a), r * np.cos(a), R * np.sin(b), R * np.cos(b))
        guesses.append(RigidTransform.from_parts(rotation, target - rotation @ centre))
    return guesses


def _from_quaternion(x: float, y: float, z: float, w: float) -> Floats:
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )
