"""What a set of targets is worth: places seen while tracking, the weakest, what each loss would cost, what breaks a rule."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.plan.targets.covering import ALLOWANCE, DIRECTIONS, HARDLY, Covered
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.linking import Linkage, Sighted, State, covered_by, link, sighted, state_with
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
    cost : float
        Share of the area, by place, that would no longer be seen well enough without it.
    nearest : float
        Distance to the next target, mm; inf for a single one.
    problems : tuple of str
        Rules that it breaks, with by how much.
    """

    seen_by: int
    lost: int
    cost: float
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
    linkage : Linkage
        Which poses hang together by the targets that they share.
    covered : Covered
        From how many directions each patch is seen by those.
    weakest : int, optional
        A patch in the largest stretch that is seen too seldom; None where none is.
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
    linkage: Linkage
    covered: Covered
    weakest: int | None
    weakest_words: str
    pattern_problems: tuple[str, ...]
    suggestion: Target | None
    gain: int

    @property
    def share(self) -> float:
        """Share of the area that scanning can see, by place, that is seen well enough while tracking."""
        return self.covered.share

    @property
    def indispensable(self) -> tuple[int, ...]:
        """Numbers of the targets that must not be lost, from 1: what each of them costs is more than is allowed for."""
        return tuple(k + 1 for k, f in enumerate(self.facts) if f.cost > ALLOWANCE)

    @property
    def untied(self) -> int:
        """Poses that see enough targets, but hang together with no others."""
        return int((self.tracking.holds & ~self.linkage.poses).sum())

    @property
    def broken(self) -> int:
        """How many targets break a rule."""
        return sum(bool(f.problems) for f in self.facts)


def assess(ground: Ground, rules: PlacementRules, targets: tuple[Target, ...]) -> Assessment:
    """Score targets that were planned or placed by hand."""
    points, normals = arrays(targets)
    there = sighted(ground, points, normals)
    whole = ground.moments(there.seen, there.spots)
    state = state_with(ground, track(whole, ground.needs), there)
    seen = there.seen[:, : len(targets)]
    tracking, linkage, covered = state.tracking, state.linkage, state.covered
    facts = tuple(_facts(ground, rules, targets, there, whole, state))
    groups = confusable(points, seen, rules.congruence) if len(targets) > 3 else ()
    enough = 1 - covered.share < HARDLY
    suggestion, gain = (None, 0) if enough else suggest(ground, rules, targets, tracking, whole)
    weakest = None if enough else _weakest(ground, covered)
    return Assessment(
        targets, tracking, frozen(seen, bool), facts, linkage, covered, weakest, _weak_words(ground, tracking, linkage, weakest),
        tuple(f"targets {_listed(g)} make equal triangles" for g in groups), suggestion, gain,
    )  # fmt: skip


def _weakest(ground: Ground, covered: Covered) -> int | None:
    """The patch amid the largest stretch that is seen too seldom: the one with most such area about it."""
    lacking = np.flatnonzero(covered.lacks > 0)
    if len(lacking) == 0:
        return None
    patches = ground.patches
    about = kd_tree(patches.places[lacking]).query_ball_point(patches.places[lacking], 3 * patches.size)
    amount = patches.areas[lacking] * covered.lacks[lacking]
    return int(lacking[int(np.argmax([amount[rows].sum() for rows in about]))])


def _listed(group: tuple[int, ...]) -> str:
    numbers = [str(k + 1) for k in group]
    return ", ".join(numbers[:-1]) + f" and {numbers[-1]}"


def _weak_words(ground: Ground, tracking: Tracking, linkage: Linkage, patch: int | None) -> str:
    """Why a place is seen too seldom."""
    if patch is None:
        return f"every place is seen from {DIRECTIONS} directions"
    poses = np.flatnonzero(ground.covers[:, patch])
    best = int(poses[np.argmax(tracking.well_placed[poses])])
    count, least = int(tracking.counts[best]), ground.needs.least
    if count == 0:
        return "no target in view"
    if count >= ground.needs.bare and tracking.spreads[best] > ground.needs.pose_limit:
        return f"{count} in view, almost in line"
    if count < least:
        return f"{count} in view, {least} are needed"
    if not linkage.poses[poses].any():
        return f"{count} in view, too few of them shared with other views"
    return "here from one direction only"


def _facts(
    ground: Ground, rules: PlacementRules, targets: tuple[Target, ...], there: Sighted, whole: Moments, state: State
) -> list[TargetFacts]:
    if not targets:
        return []
    points, normals = arrays(targets)
    apart = np.linalg.norm(points[:, None] - points[None], axis=2)
    np.fill_diagonal(apart, np.inf)
    flat = flat_under(ground.nominal, points, normals, rules)
    lost, costs = _losses(ground, there, len(targets), whole, state)
    seen_by, nearest = there.seen.sum(0), apart.min(1)
    return [
        TargetFacts(
            int(seen_by[k]), int(lost[k]), float(costs[k]), float(nearest[k]),
            tuple(_broken(rules, t, float(nearest[k]), bool(flat[k]), alone=ground.gear is None)),
        )
        for k, t in enumerate(targets)
    ]  # fmt: skip


def _losses(ground: Ground, there: Sighted, count: int, whole: Moments, state: State) -> tuple[Ints, Floats]:
    """Poses that would no longer track without each of the first so many targets, and the share of the area that this costs."""
    seen, spots = there.seen, there.spots
    pose, target = np.nonzero(seen[:, :count])
    r = spots.places[ground.views.setups[pose], target] - ground.views.looked_at[pose]
    without = whole.rows(pose) - Moments(np.ones(len(pose)), r, np.einsum("pi,pj->pij", r, r))
    holds = track(without, ground.needs).holds
    falls = state.tracking.holds[pose] & ~holds
    lost = np.bincount(target, falls, count).astype(int)
    costs = np.zeros(count)
    for k in np.flatnonzero(lost):
        held = state.tracking.holds.copy()
        held[pose[(target == k) & falls]] = False
        left = np.flatnonzero(np.arange(seen.shape[1]) != k)
        linkage = link(ground, Sighted(spots.rows(left), seen[:, left], there.stays[left]), held)
        costs[k] = state.share - covered_by(ground, linkage.poses).share
    return lost, costs


def _broken(rules: PlacementRules, target: Target, nearest: float, is_flat: bool, *, alone: bool) -> list[str]:
    """Rules that a target breaks; one that is far from the next is no harm where equipment shows others."""
    broken = []
    wanted = rules.from_edges * rules.diameter
    if target.edge < wanted - 1e-6:
        broken.append(f"{wanted - target.edge:.1f} mm too near to an edge")
    if target.face in rules.keep_clear:
        broken.append(f"on face {target.face}, which is measured or a datum")
    if nearest < rules.spacing[0] - 1e-6:
        broken.append(f"{rules.spacing[0] - nearest:.1f} mm too near to the next target")
    elif alone and np.isfinite(nearest) and nearest > rules.spacing[1] + 1e-6:
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


def weakest_place(ground: Ground, assessment: Assessment) -> Floats | None:
    """Where the weakest patch lies (3,); None where every place is seen well enough."""
    return None if assessment.weakest is None else np.asarray(ground.patches.places[assessment.weakest])
