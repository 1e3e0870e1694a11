"""What ties the positions of a part to each other, and how well: targets that both see, or the shape."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np

from juxtum.geometry.arrays import Bools, Floats
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.linking import Linkage, Sighted
from juxtum.plan.targets.shape import LOOSE

SIGHTINGS = 1.0
"""A target of the map is known as well as from so many sightings of its own: neighbours share their errors along the chain
of views, and captures by the stand-in came out so (`docs/measurements.md`)."""
TRIED = 20
"""Views that are looked at for the one that begins a position."""


@dataclass(frozen=True)
class Tie:
    """How positions are tied.

    Parameters
    ----------
    spread : float
        Standard uncertainty that it leaves at the farthest corner of the part, mm; inf where nothing ties them.
    words : str
    """

    spread: float
    words: str

    @property
    def holds(self) -> bool:
        """Whether they are tied at all."""
        return bool(np.isfinite(self.spread))


def tie_of(ground: Ground, targets: Sighted, linkage: Linkage) -> Tie:
    """What ties the positions of the part."""
    if len(ground.views.turned) < 2:
        return Tie(0.0, "the part is not turned over")
    if ground.is_mapped:
        return Tie(0.0, "the positions are tied by the photos")
    if ground.is_joined_by_shape:
        return _by_shape(ground, linkage)
    places, _ = common_places(ground, targets, linkage)
    if len(places) < 3 or not all(
        linkage.poses[ground.views.setups == s].any() for s in range(len(ground.views.turned))
    ):
        return Tie(
            np.inf,
            "nothing ties the two positions; hold the part in something that carries targets and is turned over with it",
        )
    spread = float(spreads_with(ground, places)[0])
    words = (
        f"{len(places)} targets on the part{' in one view' if ground.gear is not None else ''} tie the two positions"
    )
    return Tie(spread, words)


def common_places(ground: Ground, targets: Sighted, linkage: Linkage) -> tuple[Floats, int]:
    """Places (N, 3) of the targets on the part that tie its positions, and the view that does, -1 where it is all of them.

    On equipment the first view of a position ties it: from then on the scanner goes by the equipment's own targets.
    """
    common = linkage.known_in.all(0) & targets.stays
    places = targets.spots.places[0]
    if ground.gear is None or not common.any():
        return np.asarray(places[common]), -1
    counts = (targets.seen & common).sum(1) * (linkage.poses & (ground.views.setups > 0))
    poses = [int(p) for p in np.argsort(-counts, kind="stable")[:TRIED] if counts[p] >= 3]
    if not poses:
        return np.empty((0, 3)), -1
    best = min(poses, key=lambda p: float(spreads_with(ground, places[common & targets.seen[p]])[0]))
    return np.asarray(places[common & targets.seen[best]]), best


def spreads_with(ground: Ground, places: Floats, more: Floats | None = None) -> Floats:
    """What a tie by targets (N, 3) leaves at the farthest corner of the part, mm: for each of some further ones (C,), or as they are (1,)."""
    middle = places.mean(0)
    sigma = ground.needs.noise * np.sqrt(2 / SIGHTINGS)
    own = _squares(places - middle).sum(0)
    squares = own[None] if more is None else own + _squares(more - middle)
    return _largest(ground, squares / sigma**2, middle)


def _moved(arms: Floats) -> Floats:
    """How a shift and a turn move places (N, 3, 6)."""
    x, y, z = arms.T
    zero = np.zeros(len(arms))
    cross = np.stack([np.stack([zero, z, -y], -1), np.stack([-z, zero, x], -1), np.stack([y, -x, zero], -1)], 1)
    return np.concatenate([np.broadcast_to(np.eye(3), cross.shape), cross], axis=2)


def _squares(arms: Floats) -> Floats:
    """What each place (N, 3) says of shift and turn (N, 6, 6)."""
    rows = _moved(arms)
    return np.asarray(np.einsum("nki,nkj->nij", rows, rows))


def _by_shape(ground: Ground, linkage: Linkage) -> Tie:
    """Each position laid onto the model by what is seen in it; neighbouring points share the scanner's own error."""
    variance = 0.0
    for number, seen in enumerate(_seen_in_each(ground, linkage), 1):
        spread = _laid_by_shape(ground, seen)
        if spread is None:
            return Tie(np.inf, f"what position {number} shows of the part does not hold it on the model")
        variance += spread**2
    return Tie(
        float(np.sqrt(variance)),
        "each position is laid onto the model by its shape, so what the part is off there counts too",
    )


def _laid_by_shape(ground: Ground, seen: Bools) -> float | None:
    """What a fit of some patches (K,) to the model leaves at the farthest corner, mm; None where a motion is free."""
    places, normals = ground.patches.places[seen], ground.patches.normals[seen]
    if len(places) < 6:
        return None
    middle = places.mean(0)
    rows = np.einsum("nk,nki->ni", normals, _moved(places - middle))
    size = max(float(np.linalg.norm(places - middle, axis=1).mean()), 1e-9)
    scale = np.repeat([1.0, size], 3)
    least = float(np.linalg.eigvalsh(rows.T @ rows / len(rows) / np.outer(scale, scale))[0])
    if least < LOOSE**2:
        return None
    sigma = min(chain.a for chain in ground.model.chains) / np.sqrt(3)
    return float(_largest(ground, (rows.T @ rows)[None] / sigma**2, middle)[0])


def _seen_in_each(ground: Ground, linkage: Linkage) -> list[Bools]:
    """Patches (K,) that are seen in each position."""
    setups = ground.views.setups
    return [np.asarray(ground.covers[linkage.poses & (setups == s)].any(0)) for s in range(len(ground.views.turned))]


def _largest(ground: Ground, squares: Floats, middle: Floats) -> Floats:
    """Largest standard deviation at a corner of the part, of motions known by normal matrices (C, 6, 6)."""
    there = _moved(np.array(list(product(*ground.nominal.mesh.bounds.T))) - middle)
    # A turn that nothing holds is as good as lost, not infinite: the least number keeps the inverse alive.
    left = np.einsum("kij,cjl,kml->ckim", there, np.linalg.inv(squares + 1e-12 * np.eye(6)), there)
    return np.asarray(np.sqrt(np.linalg.eigvalsh(left)[..., -1].max(1)))
