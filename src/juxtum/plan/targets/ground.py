"""What planning of targets rests on and what does not change while they are moved about."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Bools, Floats, Ints, frozen
from juxtum.geometry.rays import RayCaster
from juxtum.instruments.models import InstrumentModel, Mode, TargetNeeds
from juxtum.nominal import Nominal
from juxtum.plan.targets.covering import Cover
from juxtum.plan.targets.gear import Gear
from juxtum.plan.targets.places import PlacementRules, Places, candidate_places
from juxtum.plan.targets.tracking import Moments, moments
from juxtum.plan.targets.views import (
    Patches,
    Spots,
    Stance,
    Views,
    joined,
    make_patches,
    make_views,
    patch_size,
    seen_from,
    views_of,
)
from juxtum.plan.task import Task
from juxtum.progress import Progress, silent

FIELD_KEPT, ANGLE_KEPT = 0.95, 3.0
"""Targets are counted on within so much of the field, and so many degrees within the largest incidence."""


@dataclass(frozen=True, eq=False)
class Ground:
    """What does not change while targets are moved about: the part, poses and patches.

    Parameters
    ----------
    covers : array (P, K)
        Which poses see which patches.
    """

    nominal: Nominal
    caster: RayCaster
    model: InstrumentModel
    mode: Mode
    stance: Stance
    patches: Patches
    views: Views
    covers: Bools
    reached: Bools
    """Patches (K,) that some pose, of those planned with or not, sees."""
    watch: Callable[[Spots], Bools] | None = None
    """Where a tracker follows the scanner: which targets (P, T) it sees while it serves each pose."""
    is_mapped: bool = False
    """Whether the targets are measured before scanning begins, by photos: then no view has to hang together with others."""
    gear: Gear | None = None
    """Equipment whose targets are there already; it stays behind when the part is turned over."""
    is_joined_by_shape: bool = False
    """Whether what is scanned in one position of the part is joined to the other by its shape, and not by targets."""

    @property
    def needs(self) -> TargetNeeds:
        """What the instrument asks of targets."""
        assert self.model.targets is not None
        return self.model.targets

    @property
    def error(self) -> float:
        """Maximum permissible error of the scanner alone over the whole part, mm."""
        alone = [chain for chain in self.model.chains if chain.needs == "nothing"] or self.model.chains
        return max(chain.error(self.nominal.diagonal) for chain in alone)

    @cached_property
    def mapped(self) -> Ground:
        """The same where the targets are measured beforehand."""
        return self._alike(replace(self, is_mapped=True))

    def with_gear(self, gear: Gear, *, joined_by_shape: bool) -> Ground:
        """The same with equipment under the part or about it."""
        return self._alike(replace(self, gear=gear, is_joined_by_shape=joined_by_shape))

    def _alike(self, other: Ground) -> Ground:
        """What was computed of one holds for the other."""
        other.__dict__.update({name: getattr(self, name) for name in ("_columns", "_choices", "cover")})
        return other

    @cached_property
    def gear_seen(self) -> Bools:
        """Which poses see which targets of the equipment (P, G)."""
        if self.gear is None or not len(self.gear):
            return np.zeros((len(self.views), 0), dtype=bool)
        return self.seen(self.gear.spots)

    def seen(self, spots: Spots, progress: Progress | None = None) -> Bools:
        """Which poses see which targets (P, T), by the tracker's eyes where one follows the scanner."""
        if self.watch is not None:
            return self.watch(spots)
        # A hand sticks, holds and sweeps a little off: what is seen only just is not counted on.
        narrow = self.views.narrower(FIELD_KEPT)
        return seen_from(narrow, spots, self.caster, self.needs.incidence - ANGLE_KEPT, progress)

    @cached_property
    def cover(self) -> Cover:
        """The same as `covers`, ready for being asked again and again."""
        return Cover(self.covers, self.views, self.patches)

    def spots(self, points: Floats, normals: Floats) -> Spots:
        """Places on the part in every set-up."""
        return Spots.on_part(points.reshape(-1, 3), normals.reshape(-1, 3), len(self.views.turned))

    def moments(self, seen: Bools, spots: Spots) -> Moments:
        """Sums over targets for every pose."""
        return moments(seen, spots.places, self.views.setups, self.views.looked_at)

    @cached_property
    def _columns(self) -> dict[bytes, Bools]:
        return {}

    def seen_targets(self, points: Floats, normals: Floats) -> Bools:
        """Which poses see targets on the part (P, T); what was asked before is remembered."""
        keys = [np.concatenate([p, n]).tobytes() for p, n in zip(points, normals, strict=True)]
        new = [k for k, key in enumerate(keys) if key not in self._columns]
        if new:
            seen = self.seen(self.spots(points[new], normals[new]))
            self._columns.update({keys[k]: seen[:, column].copy() for column, k in enumerate(new)})
        if not keys:
            return np.zeros((len(self.views), 0), dtype=bool)
        return np.stack([self._columns[key] for key in keys], 1)

    @cached_property
    def _choices(self) -> dict[PlacementRules, tuple[Places, Choice]]:
        return {}

    def choice(self, rules: PlacementRules, progress: Progress | None = None) -> tuple[Places, Choice]:
        """Candidate places under some rules and what is seen of them, computed once."""
        if rules not in self._choices:
            places = candidate_places(self.nominal, rules)
            self._choices[rules] = (places, part_choice(self, places, progress))
        return self._choices[rules]

    def has_choice(self, rules: PlacementRules) -> bool:
        """Whether the candidates under some rules are there already."""
        return rules in self._choices

    @cached_property
    def direct_poses(self) -> Ints:
        """The poses (K, 3) that look at each patch most directly, -1 where there are fewer."""
        sight = self.patches.places[None] - self.views.eyes[:, None]
        sight /= np.linalg.norm(sight, axis=2, keepdims=True)
        central = np.einsum("pkd,pd->pk", sight, self.views.axes) - np.einsum("pkd,kd->pk", sight, self.patches.normals)
        central[~self.covers] = -np.inf
        order = np.argsort(-central, axis=0)[:3].T
        order[~np.take_along_axis(self.covers.T, order, axis=1)] = -1
        return order

    @cached_property
    def unseen_patches(self) -> Ints:
        """Patches that no pose sees."""
        return np.flatnonzero(~self.reached)


def make_ground(
    nominal: Nominal, task: Task, model: InstrumentModel, mode: Mode, stance: Stance, progress: Progress | None = None
) -> Ground:
    """Patches, poses and what they cover.

    Raises
    ------
    InputError
        When there is nothing to measure or no pose sees anything.
    """
    progress = progress or silent()
    task.check(nominal)
    patches = make_patches(nominal, task.measured_faces(nominal), patch_size(nominal, mode))
    caster = RayCaster(nominal.mesh)
    shell = make_views(patches, nominal, caster, mode, stance, progress.part(0, 0.4))
    spots = Spots.on_part(patches.places, patches.normals, len(shell.views.turned))
    views = shell.views
    covers = seen_from(views, spots, caster, mode.incidence, progress.part(0.4, 0.9))
    for _ in range(3):
        # Thinning out may have lost the only pose that sees a patch.
        lost = np.flatnonzero(shell.reached & ~covers.any(0))
        if len(lost) == 0:
            break
        some = lost[:: max(1, len(lost) // 60)]
        more = views_of(patches, some, shell.own[some], nominal, mode, views.turned)
        covers = np.concatenate([covers, seen_from(more, spots, caster, mode.incidence)])
        views = joined(views, more)
    return Ground(
        nominal, caster, model, mode, stance, patches, views, frozen(covers, bool), frozen(shell.reached, bool)
    )


@dataclass(frozen=True, eq=False)
class Choice:
    """Candidate places with what is seen of them."""

    spots: Spots
    seen: Bools
    points: Floats
    """Where they are in the first set-up (C, 3)."""

    @cached_property
    def visible(self) -> npt.NDArray[np.float32]:
        """`seen` as numbers, for sums over poses (P, C)."""
        return self.seen.astype(np.float32)


def part_choice(ground: Ground, places: Places, progress: Progress | None = None) -> Choice:
    """Candidates on the part."""
    spots = ground.spots(places.points, places.normals)
    return Choice(spots, ground.seen(spots, progress), places.points)
