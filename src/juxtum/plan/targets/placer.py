"""Choosing places for targets: greedily by gain in tracked poses, then exchange, then without the superfluous."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Bools, Floats
from juxtum.plan.targets.ground import Choice, Ground
from juxtum.plan.targets.places import PlacementRules, TriangleBook
from juxtum.plan.targets.tracking import Moments, Tracking, track
from juxtum.plan.targets.views import Spots
from juxtum.progress import Progress, silent

MOST = 400
"""Targets that a plan never exceeds."""
STAGES = (1.0, 1.15, 1.4, 2.0)
"""What a further target is worth to a pose that still lacks some: the nearer to enough, the more."""
WORTH = 0.0015
"""A target that holds fewer than this share of the poses is not worth its disc."""
ALONE = 0.6
"""What a place farther than the spacing band from all others is worth beside one within it."""
Merit = tuple[float, float]


class Placer:
    """Chooses among candidates.

    Parameters
    ----------
    ground : Ground
    choice : Choice
    rules : PlacementRules
    fixed : Spots
        Targets that are there already and stay.
    """

    def __init__(self, ground: Ground, choice: Choice, rules: PlacementRules, fixed: Spots | None = None) -> None:
        self.ground, self.choice, self.rules = ground, choice, rules
        self.fixed = fixed or ground.spots(np.empty((0, 3)), np.empty((0, 3)))
        self._fixed_seen = (
            ground.seen(self.fixed) if self.fixed.places.shape[1] else np.zeros((len(ground.views), 0), dtype=bool)
        )
        self._whole = ground.moments(self._fixed_seen, self.fixed)
        self._visible = choice.visible
        self._rows = [np.flatnonzero(column) for column in choice.seen.T]
        points = choice.points
        self._near = _closer(points, points, rules.spacing[0])
        there = self.fixed.places[0]
        self._crowd = _closer(points, there, rules.spacing[0]).sum(1).astype(np.int32)
        self._reached = _closer(points, points, rules.spacing[1])
        self._company = _closer(points, there, rules.spacing[1]).sum(1).astype(np.int32)
        self.chosen: list[int] = []

    def tracking(self) -> Tracking:
        """How the poses do with the fixed targets and the chosen ones."""
        return track(self._whole, self.ground.needs)

    def take(self, row: int) -> None:
        """Choose a candidate."""
        self.chosen.append(row)
        self._change(row, 1.0)

    def take_nearest(self, place: Floats) -> None:
        """Choose the candidate nearest to a place, unless one that is there already is too near to it."""
        distance = np.linalg.norm(self.choice.points - place, axis=1)
        distance[self._crowd > 0] = np.inf
        row = int(np.argmin(distance))
        if np.isfinite(distance[row]):
            self.take(row)

    def is_crowded(self, row: int) -> bool:
        """Whether a candidate is too near to a target that is there."""
        return bool(self._crowd[row] > 0)

    def drop(self, row: int) -> None:
        """Let a chosen candidate go."""
        self.chosen.remove(row)
        self._change(row, -1.0)

    def _change(self, row: int, sign: float) -> None:
        rows = self._rows[row]
        own = self._own(row)
        counts, sums, squares = self._whole.counts.copy(), self._whole.sums.copy(), self._whole.squares.copy()
        counts[rows] += sign * own.counts
        sums[rows] += sign * own.sums
        squares[rows] += sign * own.squares
        self._whole = Moments(counts, sums, squares)
        self._crowd = self._crowd + (self._near[:, row] * int(sign))
        self._company = self._company + (self._reached[:, row] * int(sign))

    def _own(self, row: int) -> Moments:
        """Moments of one candidate for the poses that see it."""
        views, rows = self.ground.views, self._rows[row]
        r = self.choice.spots.places[views.setups[rows], row] - views.looked_at[rows]
        return Moments(np.ones(len(rows)), r, np.einsum("pi,pj->pij", r, r))

    def _book(self) -> TriangleBook:
        points = np.concatenate([self.fixed.places[0], self.choice.points[self.chosen].reshape(-1, 3)])
        seen = np.concatenate([self._fixed_seen, self.choice.seen[:, self.chosen]], 1)
        return TriangleBook(points, seen, self.rules.congruence)

    def _clash(self, book: TriangleBook, row: int) -> bool:
        return book.clashes(self.choice.points[row], self.choice.seen[:, row])

    def gains(self, tracking: Tracking) -> Floats:
        """What each candidate (C,) would bring to the poses that still lack something; 0 where one is too near."""
        least = self.ground.needs.least
        stage = np.minimum(tracking.counts * len(STAGES) // least, len(STAGES) - 1)
        value = np.where(tracking.holds, 0.0, np.array(STAGES)[stage])
        lacking = value.astype(np.float32) @ self._visible
        spare = 0.02 * np.maximum(least + 2 - tracking.counts, 0)
        gains = lacking + spare.astype(np.float32) @ self._visible
        gains *= np.where(self._company > 0, 1.0, ALONE)
        return np.asarray(np.where((lacking > 0) & (self._crowd == 0), gains, 0.0), dtype=np.float64)

    def grow(self, goal: float, most: int = MOST, progress: Progress | None = None) -> None:
        """Add the candidate with the largest gain until the goal is met or nothing gains."""
        progress = progress or silent()
        book = self._book()
        while len(self.chosen) + self.fixed.places.shape[1] < most:
            tracking = self.tracking()
            progress.phase(f"placing target {len(self.chosen) + 1}", min(tracking.share / max(goal, 1e-9), 1.0))
            progress.check()
            best = None if tracking.share >= goal else self._next(self.gains(tracking), book)
            if best is None:
                return
            self.take(best)
            book.add(self.choice.points[best], self.choice.seen[:, best])

    def _next(self, gains: Floats, book: TriangleBook) -> int | None:
        for row in np.argsort(-gains, kind="stable")[:50]:
            if gains[row] <= 0:
                return None
            if not self._clash(book, int(row)):
                return int(row)
        return None

    def prune(self, goal: float, progress: Progress | None = None) -> None:
        """Take away targets while the goal stays met, the least missed first.

        Where the goal cannot be met, those go that hold hardly a pose.
        """
        progress = progress or silent()
        reached = self.tracking().share
        reached = goal if reached >= goal else reached
        while len(self.chosen) > 1:
            progress.check()
            now = self.tracking()
            merits = [self._merit(now, row, -1.0) for row in self.chosen]
            best = max(range(len(merits)), key=lambda k: merits[k])
            if merits[best][0] < (reached if reached >= goal else now.share - WORTH):
                return
            self.drop(self.chosen[best])

    def _merit(self, now: Tracking, row: int, sign: float) -> Merit:
        """Merit with one candidate more or less; only the poses that see it change."""
        rows, own = self._rows[row], self._own(row)
        part = self._whole.rows(rows)
        some = track(part + own if sign > 0 else part - own, self.ground.needs)
        count = max(len(self.ground.views), 1)
        held = int(now.holds.sum()) - int(now.holds[rows].sum()) + int(some.holds.sum())
        full = float(now.fullness.sum()) - float(now.fullness[rows].sum()) + float(some.fullness.sum())
        return round(held / count, 9), full / count

    def drop_lonely(self) -> None:
        """Let targets go that are farther from all others than the spacing band allows."""
        while len(self.chosen) > 1:
            lonely = [row for row in self.chosen if self._company[row] <= 1]
            if not lonely:
                return
            for row in lonely:
                self.drop(row)

    def exchange(self, width: int = 10, progress: Progress | None = None) -> int:
        """Move each target to a better candidate where there is one; returns how many moved."""
        progress = progress or silent()
        moved = 0
        for index, row in enumerate(list(self.chosen)):
            progress.phase("improving the places", index / max(len(self.chosen), 1))
            progress.check()
            moved += self._exchange_one(row, width)
        return moved

    def _exchange_one(self, row: int, width: int) -> bool:
        merit = self.tracking().merit
        self.drop(row)
        now = self.tracking()
        gains = self.gains(now)
        tried = [
            (self._merit(now, int(c), 1.0), int(c)) for c in np.argsort(-gains, kind="stable")[:width] if gains[c] > 0
        ]
        better = sorted((t for t in tried if t[0] > merit and t[1] != row), reverse=True)
        book = self._book() if better else None
        best = next((c for _, c in better if book is not None and not self._clash(book, c)), row)
        self.take(best)
        return best != row


def _closer(points: Floats, others: Floats, limit: float) -> Bools:
    """Which of some points (C, N) are nearer than a limit to others."""
    result = np.zeros((len(points), len(others)), dtype=bool)
    for start in range(0, len(points), 512):
        part = points[start : start + 512, None] - others[None]
        result[start : start + 512] = np.einsum("cnd,cnd->cn", part, part) < limit**2
    return result


def grow_well(placer: Placer, goal: float, progress: Progress) -> None:
    """Greedy, pruned, exchanged, and again while that saves targets or holds more poses; at most three times."""
    placer.grow(goal, progress=progress.part(0, 0.5))
    last: tuple[float, int] | None = None
    for low in (0.5, 0.65, 0.8):
        placer.prune(goal, progress)
        placer.exchange(progress=progress.part(low, low + 0.15))
        placer.grow(goal, progress=progress)
        now = (min(placer.tracking().share, goal), -len(placer.chosen))
        if last is not None and now <= last:
            break
        last = now
    placer.prune(goal, progress)
    placer.drop_lonely()
