"""What a set of targets is worth: tracked poses, the weakest zone, what each loss would do, what breaks a rule."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.places import PlacementRules, TriangleBook, confusable, flat_under
from juxtum.plan.targets.targets import Target, arrays
from juxtum.plan.targets.tracking import Moments, Tracking, track


@dataclass(frozen=True, eq=False)
class TargetFacts:
    """What is to be said of one target.

    Parameters
    ----------
    seen_by : int
        Poses that see it.
    lost : int
        Poses that would no longer track without it.
    nearest : float
        Distance to the next target, mm; inf for a single one.
    problems : tuple of str
        Rules that it breaks, with by how much.
    """

    seen_by: int
    lost: int
    nearest: float
    problems: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class Assessment:
    """What targets do on a part.

    Parameters
    ----------
    targets : tuple of Target
    tracking : Tracking
    seen : array (P, T)
    facts : tuple of TargetFacts
    patch_counts : array (K,)
        Well-placed targets in view of the worst of the poses that look at a patch most directly; -1 where none looks.
    weakest : int
        The patch with the fewest.
    weakest_words : str
    pattern_problems : tuple of str
        Patterns that can be taken for each other.
    suggestion : Target, optional
        A further target that would hold most of the poses that are lost.
    gain : int
        Poses that it would hold.
    """

    targets: tuple[Target, ...]
    tracking: Tracking
    seen: Bools
    facts: tuple[TargetFacts, ...]
    patch_counts: Ints
    weakest: int
    weakest_words: str
    pattern_problems: tuple[str, ...]
    suggestion: Target | None
    gain: int

    @property
    def share(self) -> float:
        """Share of poses that track."""
        return self.tracking.share

    @property
    def broken(self) -> int:
        """How many targets break a rule."""
        return sum(bool(f.problems) for f in self.facts)


def assess(ground: Ground, rules: PlacementRules, targets: tuple[Target, ...]) -> Assessment:
    """Score targets that were planned or placed by hand."""
    points, normals = arrays(targets)
    seen = ground.seen_targets(points, normals)
    spots = ground.spots(points, normals)
    whole = ground.moments(seen, spots)
    tracking = track(whole, ground.needs)
    facts = tuple(_facts(ground, rules, targets, seen, whole, tracking))
    counts = patch_counts(ground, tracking)
    weakest = int(np.argmin(np.where(counts < 0, 10_000, counts)))
    groups = confusable(points, seen, rules.congruence) if len(targets) > 3 else ()
    suggestion, gain = suggest(ground, rules, targets, tracking, whole)
    return Assessment(
        targets, tracking, frozen(seen, bool), facts, counts, weakest, _weak_words(ground, tracking, weakest, counts),
        tuple(f"targets {_listed(g)} make equal triangles" for g in groups), suggestion, gain,
    )  # fmt: skip


def patch_counts(ground: Ground, tracking: Tracking) -> Ints:
    """Well-placed targets in view of the worst of each patch's direct poses (K,); -1 where no pose looks."""
    poses = ground.direct_poses
    values = np.where(poses >= 0, tracking.well_placed[poses], 10_000).min(1)
    return frozen(np.where(values == 10_000, -1, values), np.int32)


def _listed(group: tuple[int, ...]) -> str:
    numbers = [str(k + 1) for k in group]
    return ", ".join(numbers[:-1]) + f" and {numbers[-1]}"


def _weak_words(ground: Ground, tracking: Tracking, patch: int, counts: Ints) -> str:
    poses = ground.direct_poses[patch]
    poses = poses[poses >= 0]
    if len(poses) == 0:
        return "no pose looks at it"
    pose = int(poses[np.argmin(tracking.well_placed[poses])])
    count = int(tracking.counts[pose])
    if count == 0:
        return "no target in view"
    if count >= ground.needs.bare and tracking.spreads[pose] > ground.needs.pose_limit:
        return f"{count} in view, almost in line"
    return f"{count} in view" + ("" if count < ground.needs.least else ", enough")


def _facts(
    ground: Ground, rules: PlacementRules, targets: tuple[Target, ...], seen: Bools, whole: Moments, tracking: Tracking
) -> list[TargetFacts]:
    if not targets:
        return []
    points, normals = arrays(targets)
    apart = np.linalg.norm(points[:, None] - points[None], axis=2)
    np.fill_diagonal(apart, np.inf)
    flat = flat_under(ground.nominal, points, normals, rules)
    pose, target = np.nonzero(seen)
    r = points[target] - ground.views.looked_at[pose]
    without = whole.rows(pose) - Moments(np.ones(len(pose)), r, np.einsum("pi,pj->pij", r, r))
    lost = np.bincount(target, tracking.holds[pose] & ~track(without, ground.needs).holds, len(targets)).astype(int)
    seen_by = seen.sum(0)
    nearest = apart.min(1)
    return [
        TargetFacts(
            int(seen_by[k]), int(lost[k]), float(nearest[k]), tuple(_broken(rules, t, float(nearest[k]), bool(flat[k])))
        )
        for k, t in enumerate(targets)
    ]


def _broken(rules: PlacementRules, target: Target, nearest: float, is_flat: bool) -> list[str]:
    """Rules that a target breaks."""
    broken = []
    wanted = rules.from_edges * rules.diameter
    if target.edge < wanted - 1e-6:
        broken.append(f"{wanted - target.edge:.1f} mm too near to an edge")
    if target.face in rules.keep_clear:
        broken.append(f"on face {target.face}, which is measured or a datum")
    if nearest < rules.spacing[0] - 1e-6:
        broken.append(f"{rules.spacing[0] - nearest:.1f} mm too near to the next target")
    elif np.isfinite(nearest) and nearest > rules.spacing[1] + 1e-6:
        broken.append(f"{nearest - rules.spacing[1]:.0f} mm too far from the next target")
    if not is_flat:
        broken.append(f"not flat within {rules.flatness:g} mm under the disc")
    return broken


def suggest(
    ground: Ground, rules: PlacementRules, targets: tuple[Target, ...], tracking: Tracking, whole: Moments
) -> tuple[Target | None, int]:
    """The further target that would make most lost poses track, and how many."""
    lost = ~tracking.holds
    if not lost.any() or not ground.has_choice(rules):
        return None, 0
    places, choice = ground.choice(rules)
    points, normals = arrays(targets)
    ready = lost & (tracking.counts >= ground.needs.least - 1)
    value = ready.astype(np.float32) @ choice.visible
    if len(points):
        value = np.where(kd_tree(points).query(choice.points)[0] >= rules.spacing[0], value, 0)
    best: tuple[int, int] | None = None
    book = TriangleBook(points, ground.seen_targets(points, normals), rules.congruence)
    for row in np.argsort(-value, kind="stable")[:16]:
        if value[row] <= 0:
            break
        rows = np.flatnonzero(choice.seen[:, row] & lost)
        r = choice.spots.places[ground.views.setups[rows], row] - ground.views.looked_at[rows]
        more = whole.rows(rows) + Moments(np.ones(len(rows)), r, np.einsum("pi,pj->pij", r, r))
        gain = int(track(more, ground.needs).holds.sum())
        if gain > (best[0] if best else 0) and not book.clashes(choice.points[row], choice.seen[:, row]):
            best = (gain, int(row))
    if best is None:
        return None, 0
    row = best[1]
    return Target(places.points[row], places.normals[row], int(places.faces[row]), float(places.edges[row])), best[0]


def weakest_place(ground: Ground, assessment: Assessment) -> Floats:
    """Where the weakest patch lies (3,)."""
    return np.asarray(ground.patches.places[assessment.weakest])
