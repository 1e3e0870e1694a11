"""Automatic rough alignment from any pose.

Principal axes and the directions in which much of the surface faces give first guesses; a search over all turns gives
more where those do not decide. The likeliest are drawn in by a few rounds of nearest points on a small sample, and
scored by how much of the scan then lies near the nominal.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial import cKDTree

from juxtum.align.contest import Contest, Settled, apart
from juxtum.align.guesses import Marks, axis_turns, even_turns, facing_turns, likely, long_axis
from juxtum.align.result import AXES, Alignment
from juxtum.align.samples import ScanSample, nearest_of_each_facing, pulls, scan_sample
from juxtum.align.symmetry import all_round, half_turns, near_symmetries, principal_frame, through_walls
from juxtum.errors import AlignmentError
from juxtum.geometry import Nearest, RigidTransform
from juxtum.geometry.arrays import Floats, frozen, value_at_share
from juxtum.geometry.mesh import PointCloud, Scan, TriangleMesh
from juxtum.geometry.registration import Pulls, Rounds, register, rigid_from_pairs
from juxtum.nominal import Nominal
from juxtum.progress import Progress, silent

PROMISING = 20
"""So many guesses are drawn in further after the first rounds."""
LIKELY = 9
"""So many turns, at most, that the part's symmetry allows are drawn in."""
DIFFERENT = 10.0
"""Turns (degrees) that lie closer come to the same pose when they are drawn in; so do places nearer than so many times what counts as near."""
SETTLED = 0.01
"""Drawing in ends when no corner of the part moves by this share of what counts as near."""
DECISIVE = 0.97
"""With so much of the scan near the nominal after the first guesses no others are tried, unless what is not near lies together."""
TOGETHER = 0.004
"""Of the scan so much may miss the part side by side, as the rim of a hole does where none was drawn."""
FEW_MISSED, BESIDE = 4, 5
FEW_SLID = 2
"""Of the likes of what won so many are slid too: a tab on a rail fits another's place in both ways round."""
MANY = 600
"""So many guesses by the grid are looked at on the surface where the first ones do not decide."""

ALONG = 0.9998
"""An axis whose part along X, Y or Z is longer lies along it for whoever reads, within a degree."""
ODD = 0.03
"""With more of the scan far from the part even the best pose is doubted."""


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
    found = search.found(progress)
    if not found or found[0].inside < 0.5:
        raise _not_found(scan, nominal, found[0].inside if found else 0.0)
    progress.phase("trying what the part's symmetry allows", 0.75)
    settled = _contested(search, found)
    poses = [settled.best, *settled.rivals]
    chosen = poses[choice % len(poses)]
    rest = tuple(pose for pose in poses if pose is not chosen)
    notes = (*(_told(chosen, pose) for pose in rest), *_doubts(settled, search.near))
    last = search.drawn_in(chosen)
    spread = frozen(np.diag(np.repeat([last.rms, 2 * last.rms / nominal.diagonal], 3) ** 2))
    used = int(last.inside * len(search.fine.points))
    return Alignment(chosen, "rough", last.rms, used, spread, nominal.centre, dict.fromkeys(AXES, "rough"), notes, rest)


def _contested(search: _Search, found: list[_Candidate]) -> Settled:
    """The last round between the candidates and their likes."""
    found = _ranked([*found, search.near_identity(), *search.turned(found[0])])
    contest = Contest(search.scan, search.nominal, search.near)
    tried = [c.transform for c in found if c.inside > found[0].inside - 0.3]
    settled = contest.settle(tried)
    # What won may have been slid far from the pose whose like was tried: its own like is tried too.
    more = search.other_sides(settled.best) + ([] if settled.free else search.new_turns(settled.best, tried))
    return contest.settle([settled.best, *settled.rivals, *more]) if more else settled


def best_of(scan: Scan, nominal: Nominal, poses: list[RigidTransform]) -> RigidTransform | None:
    """The pose in which a scan fits best after each likely one of some was drawn in; None where there are none."""
    search = _Search(scan, nominal)
    found = _ranked([search.drawn_in(pose) for pose in search.best_apart(poses)])
    return found[0].transform if found else None


def _not_found(scan: Scan, nominal: Nominal, share: float) -> AlignmentError:
    """Why no pose was found."""
    if _is_inside_out(scan, nominal, share):
        what, next = "the scan is inside out: its surface looks into the part", "Flip its triangles and bring it again"
        return AlignmentError(what, "rough alignment", next)
    what = f"no pose brings the scan onto the nominal; the best has {100 * share:.0f} % of it near"
    return AlignmentError(what, "rough alignment", "Check that this is the right part and unit, or pick pairs by hand")


def _is_inside_out(scan: Scan, nominal: Nominal, share: float) -> bool:
    """Whether the scan fits much better with its triangles flipped."""
    if isinstance(scan, TriangleMesh):
        flipped: Scan = TriangleMesh(scan.points, scan.triangles[:, ::-1])
    elif scan.normals is not None:
        flipped = PointCloud(scan.points, -scan.normals)
    else:
        return False
    found = _Search(flipped, nominal).by_shape(silent())
    return bool(found) and found[0].inside > max(share + 0.3, 0.6)


def _told(chosen: RigidTransform, other: RigidTransform) -> str:
    motion = other @ chosen.inverse
    if motion.angle < 1:
        return f"not sure where it lies: {np.linalg.norm(motion.offset):.1f} mm away it fits as well"
    angle, axis = motion.angle, motion.axis
    main = int(np.argmax(np.abs(axis)))
    if abs(axis[main]) > ALONG:
        about = "XYZ"[main]
        # Half a turn is the same both ways.
        angle = -angle if axis[main] < 0 and angle < 179.5 else angle
    else:
        about = "(" + ", ".join(f"{v + 0.0:.2f}" for v in np.round(axis, 2)) + ")"
    return f"not sure which way it lies: turned by {angle:.0f} degrees about {about} it fits as well"


def _doubts(settled: Settled, near: float) -> list[str]:
    """What is left open although a pose was found."""
    doubts = [f"the shape leaves the scan {settled.free}"] if settled.free else []
    if settled.far > ODD:
        doubts.append(
            f"not sure that it lies right: {100 * settled.far:.0f} % of the scan lies more than {near:.2g} mm from the part"
        )
    return doubts


def _ranked(candidates: list[_Candidate]) -> list[_Candidate]:
    return sorted(candidates, key=lambda c: -c.score)


class _Search:
    def __init__(self, scan: Scan, nominal: Nominal) -> None:
        self.scan = scan
        self.few = scan_sample(scan, 160).trusted
        self.sample = scan_sample(scan, 500).trusted
        self.broad = scan_sample(scan, 1500).trusted
        self.fine = scan_sample(scan, 3000).trusted
        self.nominal = nominal
        self.near = max(nominal.diagonal / 250, 0.2)
        self.marks = Marks.of(nominal)

    def found(self, progress: Progress) -> list[_Candidate]:
        """Candidates from the principal axes, and from a search over all turns where those do not decide."""
        found = self.by_shape(progress.part(0.0, 0.3))
        if found and found[0].inside >= DECISIVE and self._missed_together(found[0].transform) < TOGETHER:
            return found
        progress.phase("looking closely at likely poses", 0.3)
        found += self._looked_at_closely()
        return _ranked(found + self.run(likely(self.few, self.nominal, even_turns()), progress.part(0.5, 0.7)))

    def _missed_together(self, pose: RigidTransform) -> float:
        """Share of the scan (0 to 1) that lies off the part among others that do: strays lie anywhere, what was laid wrong side by side."""
        near, points = self._near(pose, self.fine, self.near)
        missed = ~near.found
        if missed.sum() < FEW_MISSED or missed.all():
            return 0.0
        _, beside = cKDTree(points).query(points[missed], k=min(BESIDE, len(points)))
        return float((missed[beside].mean(1) > 0.5).sum() / len(points))

    def by_shape(self, progress: Progress) -> list[_Candidate]:
        """Candidates from the principal axes and the directions in which much of the surface faces."""
        return self.run(likely(self.few, self.nominal, self._turns), progress)

    @cached_property
    def _turns(self) -> list[Floats]:
        return [*axis_turns(self.sample.points, self.nominal), *facing_turns(self.sample, self.nominal)]

    def _looked_at_closely(self) -> list[_Candidate]:
        """Of many guesses the few that fit best on the surface itself: the grid's cells are as wide as a rail of a long frame."""
        many = likely(self.few, self.nominal, self._turns, MANY)
        misfits = [self._misfit(guess, self.few) for guess in many]
        kept, corners = list[RigidTransform](), self.nominal.mesh.bounds
        for index in np.argsort(misfits, kind="stable"):
            if len(kept) < LIKELY and all(apart(many[index], other, corners) > DIFFERENT * self.near for other in kept):
                kept.append(many[index])
        return [self.drawn_in(pose) for pose in kept]

    def run(self, guesses: list[RigidTransform], progress: Progress) -> list[_Candidate]:
        """Draw every guess in against marks, and the best few once more against the surface."""
        begun = []
        for index, guess in enumerate(guesses):
            progress.phase(f"trying pose {index + 1} of {len(guesses)}", index / len(guesses))
            begun.append(self._drawn_near(guess, self.few, 3, 3))
        promising = _ranked(begun)[:PROMISING]
        drawn = [self._drawn_near(c.transform, self.sample, 8, 1) for c in promising]
        best = self._distinct(_ranked(drawn))
        best = [c for c in best if c.inside > best[0].inside - 0.12][:6]
        return _ranked([self.drawn_in(c.transform) for c in best])

    def near_identity(self) -> _Candidate:
        """The scan drawn in from where it lies."""
        return self.drawn_in(RigidTransform.identity())

    def turned(self, best: _Candidate) -> list[_Candidate]:
        """A pose's like: turned as the part's own near-symmetry allows, and slid along its long axis."""
        slid = [slide @ best.transform for slide in self._slides]
        turns = [turn @ best.transform for turn in (*near_symmetries(self.nominal), *all_round(self.nominal))]
        return [self.drawn_in(pose) for pose in [*slid, *self.best_apart(turns)]]

    def new_turns(self, best: RigidTransform, tried: list[RigidTransform]) -> list[RigidTransform]:
        """A pose's likes by near-symmetry, the best also slid, drawn in, where nothing that was tried lies near them."""
        corners = self.nominal.mesh.bounds
        likes = self.best_apart([turn @ best for turn in near_symmetries(self.nominal)])
        begun = [*likes, *(slide @ like for like in likes[:FEW_SLID] for slide in self._slides)]
        kept: list[RigidTransform] = []
        for pose in (self.drawn_in(like).transform for like in begun):
            if all(apart(pose, other, corners) > DIFFERENT * self.near for other in (*tried, *kept)):
                kept.append(pose)
        return kept

    def other_sides(self, best: RigidTransform) -> list[RigidTransform]:
        """A pose's likes where the scan does not say which way it faces: on the other side of a wall, and turned over."""
        if self.fine.axes is None:
            return []
        begun = [shift @ best for shift in through_walls(self.nominal)]
        laid = best.apply(self.broad.points)
        begun += [turn @ best for frame in (principal_frame(laid), np.eye(3)) for turn in half_turns(laid, frame)]
        return [self.drawn_in(pose).transform for pose in begun]

    @property
    def _slides(self) -> list[RigidTransform]:
        """Motions along the part's long axis by parts of its length."""
        reach, axis = long_axis(self.nominal)
        return [RigidTransform.translation(axis * reach * k) for k in (-0.2, -0.08, 0.08, 0.2)]

    def best_apart(self, poses: list[RigidTransform]) -> list[RigidTransform]:
        """The few poses that fit best, none close to another: a keyway is found by its own few points."""
        misfits = [self._misfit(pose) for pose in poses]
        kept: list[RigidTransform] = []
        for index in np.argsort(misfits):
            if len(kept) < LIKELY and all((poses[index].inverse @ other).angle > DIFFERENT for other in kept):
                kept.append(poses[index])
        return kept

    def _misfit(self, pose: RigidTransform, sample: ScanSample | None = None) -> float:
        """Mean distance of a sample, the broad one when none is given, from the nominal, far points cut short, mm."""
        cap = 6 * self.near
        found, _ = self._near(pose, self.broad if sample is None else sample, cap)
        return float(np.where(found.found, np.minimum(found.distances, cap), cap).mean())

    @staticmethod
    def _distinct(candidates: list[_Candidate]) -> list[_Candidate]:
        kept: list[_Candidate] = []
        for candidate in candidates:
            if all((candidate.transform.inverse @ other.transform).angle > 3 for other in kept):
                kept.append(candidate)
        return kept

    def _drawn_near(self, transform: RigidTransform, sample: ScanSample, rounds: int, by_points: int) -> _Candidate:
        """Cheap rounds against some thousand marks on the nominal, the first ones towards points."""
        towards_points = min(rounds, by_points)
        for _ in range(towards_points):
            points, feet, _, apart = self._marked(transform, sample)
            keep = apart <= value_at_share(apart, 0.9)
            transform = rigid_from_pairs(points[keep], feet[keep]) @ transform

        def pulls_at(transform: RigidTransform, _: int) -> Pulls:
            points, feet, normals, apart = self._marked(transform, sample)
            keep = apart <= value_at_share(apart, 0.9)
            heights = np.einsum("ij,ij->i", points - feet, normals)
            return Pulls(points[keep], normals[keep], heights[keep])

        if rounds > by_points:
            more = Rounds(rounds - by_points, 0.0, self.nominal.diagonal / 2)
            transform = register(pulls_at, transform, more) or transform
        points, feet, normals, _ = self._marked(transform, sample)
        heights = np.abs(np.einsum("ij,ij->i", points - feet, normals))
        inside = (heights < self.near) & (np.linalg.norm(points - feet, axis=1) < 3 * self.marks.spacing)
        rms = float(np.sqrt(np.mean(heights[inside] ** 2))) if inside.any() else np.inf
        return _Candidate(transform, float(inside.mean()), rms)

    def _marked(self, transform: RigidTransform, sample: ScanSample) -> tuple[Floats, Floats, Floats, Floats]:
        """Points of a sample as they lie, and the place, normal and distance of the mark nearest to each."""
        points = transform.apply(sample.points)
        directions, either = sample.directions(transform)
        directions = np.zeros_like(points) if directions is None else directions
        feet, normals, apart = self.marks.nearest(points, directions, either_side=either)
        return points, feet, normals, apart

    def drawn_in(self, transform: RigidTransform) -> _Candidate:
        """A pose after some rounds against the surface."""
        moved = register(self._pulls, transform, Rounds(14, SETTLED * self.near, self.nominal.diagonal / 2, least=5))
        if moved is None:
            return _Candidate(transform, 0.0, np.inf)
        transform = moved
        near, _ = self._near(transform, self.fine, self.near)
        rms = float(np.sqrt(np.mean(near.distances[near.found] ** 2))) if near.found.any() else np.inf
        return _Candidate(transform, float(near.found.mean()), rms)

    def _pulls(self, transform: RigidTransform, index: int) -> Pulls | None:
        """Where the broad sample is drawn to on the surface, the farthest tenth left out; None where too little is near."""
        mesh = self.nominal.mesh
        near, points = self._near(transform, self.broad, self.nominal.diagonal / (12 if index < 4 else 40))
        found = near.found
        if found.sum() < 20:
            return None
        feet = np.einsum("ij,ijk->ik", near.weights[found], mesh.points[mesh.triangles[near.triangles[found]]])
        normals, distances = pulls(points[found], feet, mesh.triangle_normals[near.triangles[found]])
        keep = nearest_of_each_facing(near.distances[found], normals, 0.9)
        return Pulls(points[found][keep], normals[keep], distances[keep])

    def _near(self, transform: RigidTransform, sample: ScanSample, reach: float) -> tuple[Nearest, Floats]:
        """The nearest places of the nominal that face the way of a sample's points, and these points as they lie."""
        points = transform.apply(sample.points)
        directions, either = sample.directions(transform)
        return self.nominal.mesh.tree.query(points, directions, limit=reach, angle=75.0, either_side=either), points
