"""What leaving something out of a photo network costs."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.errors import FitError
from juxtum.geometry.arrays import Bools, Ints
from juxtum.plan.photos.bundle import Adjusted, Network, Photos, predict

HOPELESS = 1000.0
"""A network so many times worse holds nothing."""


@dataclass(frozen=True, eq=False)
class Variant:
    """The network with something left out: expanded uncertainty of the longest length, mm, and times the full one."""

    title: str
    expanded: float
    ratio: float


def variants_of(network: Network, rolled: Bools, ends: int, prediction: Adjusted) -> tuple[Variant, ...]:
    """What leaving something out costs at the longest length."""
    part = len(network.points) - ends
    points = network.points[:part]
    i, j = np.triu_indices(part, 1)
    far = int(np.argmax(np.linalg.norm(points[i] - points[j], axis=1)))
    pair = (int(i[far]), int(j[far]))
    full = 2 * prediction.length_uncertainty(*pair)
    upright = np.flatnonzero(~rolled)
    count = len(network.photos.centres)
    trials: list[tuple[str, Network | None]] = [("as planned", network)]
    if len(network.bars) > 1:
        trials.append(("one bar missing", replace(network, bars=network.bars[:-1])))
    trials.append(("no rolled photos", _kept_photos(network, upright) if len(upright) < count else None))
    if count > 14:
        trials.append(("ten photos fewer", _kept_photos(network, _spared(network, 10))))
    other = replace(network, is_self_calibrating=not network.is_self_calibrating)
    trials.append(("camera known beforehand" if network.is_self_calibrating else "camera solved with the rest", other))
    result = []
    for title, trial in trials:
        expanded = float("inf")
        if trial is not None:
            try:
                expanded = 2 * predict(trial).length_uncertainty(*pair)
            except (FitError, np.linalg.LinAlgError):
                expanded = float("inf")
        ratio = expanded / max(full, 1e-12)
        result.append(
            Variant(title, expanded, ratio) if ratio < HOPELESS else Variant(title, float("inf"), float("inf"))
        )
    return tuple(result)


def _spared(network: Network, fewer: int) -> Ints:
    """Photos left when some are spared, those first whose targets have most rays."""
    rays = network.rays
    left = list(range(len(network.photos.centres)))
    shows = [rays.targets[rays.photos == k] for k in left]
    counts = np.bincount(rays.targets, minlength=len(network.points))
    for _ in range(fewer):
        spare = max(left, key=lambda k: (int(counts[shows[k]].min(initial=99)), -len(shows[k])))
        left.remove(spare)
        counts[shows[spare]] -= 1
    return np.array(left)


def _kept_photos(network: Network, rows: Ints) -> Network | None:
    """The network without some photos; None when a target would then lack rays."""
    number = np.full(len(network.photos.centres), -1)
    number[rows] = np.arange(len(rows))
    kept = number[network.rays.photos] >= 0
    photos, targets = number[network.rays.photos[kept]], network.rays.targets[kept]
    if (np.bincount(targets, minlength=len(network.points)) < 2).any():
        return None
    rays = replace(network.rays, photos=photos, targets=targets, places=np.zeros((int(kept.sum()), 2)))
    return replace(network, photos=Photos(network.photos.rotations[rows], network.photos.centres[rows]), rays=rays)
