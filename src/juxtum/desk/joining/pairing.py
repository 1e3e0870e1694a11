"""Picking what two scans have in common: the two side by side, turned alike; the second is laid on as soon as three pairs stand."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from juxtum.align.pairs import align_pairs
from juxtum.desk.derived import BroughtScan
from juxtum.desk.overlays import Pin
from juxtum.errors import JuxtumError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.job.steps import PickedPairs

GAP = 1.1
"""The scans stand so many of their widths apart."""


@dataclass(eq=False)
class Pairing:
    """Two scans side by side and the places picked on them.

    Parameters
    ----------
    first, second : BroughtScan
    upright : RigidTransform
        How both are turned.
    across : array (3,)
        To the right as the stage is looked at.
    """

    first: BroughtScan
    second: BroughtScan
    upright: RigidTransform
    across: Floats
    picked: tuple[list[Floats], list[Floats]] = field(default_factory=lambda: ([], []))

    @property
    def placements(self) -> tuple[RigidTransform, RigidTransform]:
        """Where each is shown: turned alike, beside each other."""
        boxes = [self.upright.apply(_corners(scan)) for scan in (self.first, self.second)]
        middles = [box.mean(0) for box in boxes]
        aside = GAP / 2 * max(float(np.ptp(box @ self.across)) for box in boxes) * self.across
        left = RigidTransform.translation(-middles[0] - aside) @ self.upright
        right = RigidTransform.translation(-middles[1] + aside) @ self.upright
        return left, right

    def take(self, which: int, place: Floats) -> None:
        """A place of the stage on the first (0) or the second (1) scan."""
        self.picked[which].append(self.placements[which].inverse.apply(place[None])[0])

    def take_back(self) -> None:
        """Without the place picked last."""
        longer = 0 if len(self.picked[0]) > len(self.picked[1]) else 1
        if self.picked[longer]:
            self.picked[longer].pop()

    @property
    def count(self) -> int:
        """Whole pairs."""
        return min(len(self.picked[0]), len(self.picked[1]))

    @property
    def pins(self) -> list[Pin]:
        """Numbers at the places."""
        tokens = ("accent", "ink")
        return [
            Pin(move.apply(place[None])[0], str(k + 1), token)
            for move, places, token in zip(self.placements, self.picked, tokens, strict=True)
            for k, place in enumerate(places)
        ]

    def move(self) -> tuple[RigidTransform | None, str]:
        """From the second scan onto the first, and what is to be said of it."""
        if self.count < 3:
            missing = 3 - self.count
            return None, f"{missing} more {'pair' if missing == 1 else 'pairs'}: the same place on both scans."
        try:
            made = align_pairs(*(np.array(places[: self.count]) for places in self.picked[::-1]))
        except JuxtumError as problem:
            return None, problem.sentence
        return made.transform, f"{self.count} pairs, {made.rms:.2f} mm apart; joining then makes them fit."

    def step(self) -> PickedPairs:
        """The pairs as the procedure holds them."""
        pairs = zip(*(places[: self.count] for places in self.picked), strict=True)
        return PickedPairs(
            first=self.first.name, second=self.second.name, points=tuple((_triple(a), _triple(b)) for a, b in pairs)
        )


def _corners(brought: BroughtScan) -> Floats:
    low, high = brought.scan.bounds
    corners: Floats = np.array(
        [[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])]
    )
    return corners


def _triple(values: Floats) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z
