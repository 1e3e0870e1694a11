"""Choosing places for targets: greedily by the area they bring, then exchange, then without the superfluous."""

from __future__ import annotations

import numpy as np

from juxtum.geometry.arrays import Bools, Floats
from juxtum.plan.targets.covering import ALLOWANCE
from juxtum.plan.targets.ground import Choice, Ground
from juxtum.plan.targets.linking import Sighted, State, sighted, state_with
from juxtum.plan.targets.places import PlacementRules, TriangleBook
from juxtum.plan.targets.ties import common_places, spreads_with, tie_of
from juxtum.plan.targets.tracking import Moments, Tracking, track
from juxtum.progress import Progress, silent

MOST = 400
"""Targets that a plan never exceeds."""
STEEP = 3
"""Power of how near to enough a pose is, by which a further target is worth more: places grow outwards from what is tied."""
WORTH = 0.0015
"""A target that brings less than this share of the area is not worth its disc."""
ALONE = 0.6
"""What a place farther than the spacing band from all others is worth beside one within it."""
UNTIED = 0.1
"""What a place is worth that no view sees which hangs together with the rest."""
ENOUGH_BETTER = 0.97
"""A further target that leaves more than this of what the tie left before is not worth its disc."""
BESIDE_GEAR = 2.5
"""A target on the part keeps so many diameters from those of the equipment, whose pattern is known and not thinned by it."""
TRIED = 250
"""Candidates that an exchange looks at, all targets together."""


class Placer:
    """Chooses among candidates.

    Parameters
    ----------
    ground : Ground
    choice : Choice
    rules : PlacementRules
    fixed : Sighted
        Targets that are there already; those of the equipment when not given.
    """

    def __init__(
        self,
        ground: Ground,
        choice: Choice,
        rules: PlacementRules,
        fixed: Sighted | None = None,
    ) -> None:
        self.ground, self.choice, self.rules = ground, choice, rules
        there = fixed or sighted(ground, np.empty((0, 3)), np.empty((0, 3)))
        self.fixed, self._fixed_seen, self._stays = there.spots, there.seen, there.stays
        self._whole = ground.moments(self._fixed_seen, self.fixed)
        self._visible = choice.visible
        self._rows = [np.flatnonzero(column) for column in choice.seen.T]
        points = choice.points
        self._near = _closer(points, points, rules.spacing[0])
        places = self.fixed.places[0]
        stays = self._stays
        self._crowd = (
            _closer(points, places[stays], rules.spacing[0]).sum(1)
            + _closer(points, places[~stays], BESIDE_GEAR * rules.diameter).sum(1)
        ).astype(np.int32)
        self._reached = _closer(points, points, rules.spacing[1])
        self._company = _closer(points, places, rules.spacing[1]).sum(1).astype(np.int32)
        self.chosen: list[int] = []

    def state(self, without: int | None = None) -> State:
        """How poses and places do with the fixed targets and the chosen ones, but for one of these."""
        whole = self._whole if without is None else self._whole_with(without, -1.0)
        return state_with(self.ground, track(whole, self.ground.needs), self.there(without))

    def there(self, without: int | None = None) -> Sighted:
        """The fixed targets and the chosen ones, but for one of these."""
        chosen = [row for row in self.chosen if row != without]
        seen = np.concatenate([self._fixed_seen, self.choice.seen[:, chosen]], 1)
        spots = self.fixed.with_more(self.choice.spots.rows(np.array(chosen, dtype=np.int64)))
        return Sighted(spots, seen, np.r_[self._stays, np.ones(len(chosen), dtype=bool)])

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

    def most_at_once(self) -> int:
        """How many candidates that keep their distances some pose sees together, at most."""
        most = 0
        for pose in np.argsort(-self.choice.seen.sum(1))[:20]:
            free, count = self.choice.seen[pose].copy(), 0
            while free.any():
                count += 1
                free &= ~self._near[int(np.argmax(free))]
            most = max(most, count)
        return most

    def is_crowded(self, row: int) -> bool:
        """Whether a candidate is too near to a target that is there."""
        return bool(self._crowd[row] > 0)

    def drop(self, row: int) -> None:
        """Let a chosen candidate go."""
        self.chosen.remove(row)
        self._change(row, -1.0)

    def _whole_with(self, row: int, sign: float) -> Moments:
        """Moments of all targets with one candidate more (1) or less (-1)."""
        rows, own = self._rows[row], self._own(row)
        counts, sums, squares = self._whole.counts.copy(), self._whole.sums.copy(), self._whole.squares.copy()
        counts[rows] += sign * own.counts
        sums[rows] += sign * own.sums
        squares[rows] += sign * own.squares
        return Moments(counts, sums, squares)

    def _change(self, row: int, sign: float) -> None:
        self._whole = self._whole_with(row, sign)
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

    def gains(self, state: State) -> Floats:
        """What each candidate (C,) would bring to poses that would see what still lacks something; 0 where one is too near."""
        least, linkage = self.ground.needs.least, state.linkage
        is_linked = bool(linkage.poses.any())
        counts = linkage.counts if is_linked else state.tracking.counts
        nearness = np.minimum((counts + 1) / least, 1.0) ** STEEP
        wanted = self.ground.cover.wanted(state.covered) if self.ground.watch is None else 1.0
        value = np.where(linkage.poses, 0.0, wanted * nearness).astype(np.float32)
        gains = (value @ self._visible).astype(np.float64)
        if is_linked:
            gains *= np.where(linkage.poses.astype(np.float32) @ self._visible > 0, 1.0, UNTIED)
        gains *= np.where(self._company > 0, 1.0, ALONE)
        return np.asarray(np.where(self._crowd == 0, gains, 0.0))

    def grow(self, goal: float, most: int = MOST, progress: Progress | None = None) -> None:
        """Add the candidate with the largest gain until the goal is met or nothing gains."""
        progress = progress or silent()
        book = self._book()
        while len(self.chosen) + self.fixed.places.shape[1] < most:
            state = self.state()
            progress.phase(f"placing target {len(self.chosen) + 1}", min(state.share / max(goal, 1e-9), 1.0))
            progress.check()
            best = None if state.share >= goal else self._next(self.gains(state), book)
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

        Where the goal cannot be met, those go that bring hardly a place.
        """
        progress = progress or silent()
        share = self.state().share
        reaches = share >= goal
        costs = {row: self.state(row).merit for row in self.chosen}
        for row in sorted(self.chosen, key=lambda row: costs[row], reverse=True):
            progress.check()
            if len(self.chosen) == 1:
                return
            without = self.state(row).share
            if without >= goal if reaches else without >= share - WORTH:
                self.drop(row)
                share = without

    def exchange(self, progress: Progress | None = None) -> int:
        """Move each target to a better candidate where there is one; returns how many moved."""
        progress = progress or silent()
        moved = 0
        width = int(np.clip(TRIED / max(len(self.chosen), 1), 3, 10))
        for index, row in enumerate(list(self.chosen)):
            progress.phase("improving the places", index / max(len(self.chosen), 1))
            progress.check()
            moved += self._exchange_one(row, width)
        return moved

    def _exchange_one(self, row: int, width: int) -> bool:
        merit = self.state().merit
        self.drop(row)
        gains = self.gains(self.state())
        tried = []
        for candidate in np.argsort(-gains, kind="stable")[:width]:
            if gains[candidate] > 0 and candidate != row:
                self.take(int(candidate))
                tried.append((self.state().merit, int(candidate)))
                self.drop(int(candidate))
        better = sorted((t for t in tried if t[0] > merit), reverse=True)
        book = self._book() if better else None
        best = next((c for _, c in better if book is not None and not self._clash(book, c)), row)
        self.take(best)
        return best != row

    def fasten(self, limit: float, most: int) -> None:
        """Add targets, each where it does most, until those that tie the positions of the part leave less than a limit, mm."""
        setups = self.ground.views.setups
        for _ in range(most):
            state, there = self.state(), self.there()
            tie = tie_of(self.ground, there, state.linkage)
            if tie.spread <= limit or not tie.holds:
                return
            shown = [self.choice.seen[state.linkage.poses & (setups == s)].any(0) for s in np.unique(setups)]
            apart = (self._crowd == 0) & ((self._company > 0) | (self.ground.gear is not None))
            rows = np.flatnonzero(np.logical_and.reduce(shown) & apart)
            places, view = common_places(self.ground, there, state.linkage)
            rows = rows[self.choice.seen[view, rows]] if view >= 0 else rows
            if len(rows) == 0:
                return
            spreads = spreads_with(self.ground, places, self.choice.points[rows])
            book = self._book()
            best = next((k for k in np.argsort(spreads)[:50] if not self._clash(book, int(rows[k]))), None)
            if best is None or spreads[best] > ENOUGH_BETTER * tie.spread:
                return
            self.take(int(rows[best]))

    def secure(self, allowance: float, most: int, progress: Progress | None = None) -> None:
        """Add targets for those whose loss would cost more than a share of the area, while each of them mends one at least."""
        progress = progress or silent()
        book = self._book()
        for turn in range(most):
            progress.phase("seeing what a lost target would cost", turn / max(most, 1))
            progress.check()
            share = self.state().share
            costs = {row: share - self.state(row).share for row in self.chosen}
            critical = [row for row, cost in costs.items() if cost > allowance]
            if not critical:
                return
            worst = max(critical, key=lambda row: costs[row])
            gains = self.gains(self.state(worst))
            gains[worst] = 0.0
            best = self._next(gains, book)
            if best is None:
                return
            self.take(best)
            left = sum(self.state().share - self.state(row).share > allowance for row in self.chosen)
            if left >= len(critical):
                self.drop(best)
                return
            book.add(self.choice.points[best], self.choice.seen[:, best])


def _closer(points: Floats, others: Floats, limit: float) -> Bools:
    """Which of some points (C, N) are nearer than a limit to others."""
    result = np.zeros((len(points), len(others)), dtype=bool)
    for start in range(0, len(points), 512):
        part = points[start : start + 512, None] - others[None]
        result[start : start + 512] = np.einsum("cnd,cnd->cn", part, part) < limit**2
    return result


MANY = 100
MOST_FASTENED = 4
"""Targets that are spent on tying the positions of the part well."""
MOST_SECURED = 4
"""Targets that are spent on what the loss of one may cost."""


def grow_well(placer: Placer, goal: float, progress: Progress) -> None:
    """Greedy, pruned, exchanged, and again while that saves targets or brings more area; then secured against the loss of one."""
    placer.grow(goal, progress=progress.part(0, 0.4))
    last: tuple[float, int] | None = None
    # Many targets take long to better, and gain little by it.
    for low in (0.4, 0.55, 0.7)[: 3 if len(placer.chosen) < MANY else 1]:
        placer.prune(goal, progress)
        placer.exchange(progress=progress.part(low, low + 0.15))
        placer.grow(goal, progress=progress)
        now = (min(placer.state().share, goal), -len(placer.chosen))
        if last is not None and now <= last:
            break
        last = now
    placer.prune(goal, progress)
    placer.fasten(placer.ground.error, MOST_FASTENED)
    placer.secure(ALLOWANCE, MOST_SECURED, progress.part(0.85, 1))
