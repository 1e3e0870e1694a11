"""Best fit of a scan to the nominal surface."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.align.result import AXES, Alignment
from juxtum.align.samples import ScanSample, scan_sample
from juxtum.errors import AlignmentError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, Ints, frozen, unit
from juxtum.geometry.mesh import Scan
from juxtum.geometry.registration import Pulls, Rounds, register
from juxtum.nominal import Nominal, faces_mask
from juxtum.progress import Progress, silent

FREE = 1e-5
"""A motion is free when the squares along it are less than this share of the largest."""
FAR = 0.05
"""A larger share of points beyond the reach is told."""
HUBER = 1.345
"""Tuning constant of Huber's weights in robust deviations (95 % efficient on normal noise)."""


@dataclass(frozen=True, eq=False)
class BestFitOptions:
    """How a best fit treats its points.

    Parameters
    ----------
    trim : float
        Share of the worst points left out, 0 to 0.5.
    faces : tuple of int
        Only these nominal faces count; all when empty.
    count : int
        Points of the last round.
    reach : float
        Points farther than this from the nominal do not count in the last round, mm.
    coat : array (F,), optional
        Thickness of the coat on each nominal face, mm: what was scanned lies so far outside of the part.
    motions : tuple of str
        The motions that are allowed, of Tx Ty Tz Rx Ry Rz (turns about the middle of the data); all when empty.
    weights : array (F,), optional
        What the points on each nominal face count for; all alike when not given.
    """

    trim: float = 0.02
    faces: tuple[int, ...] = ()
    count: int = 60_000
    reach: float = 2.0
    coat: Floats | None = None
    motions: tuple[str, ...] = ()
    weights: Floats | None = None


def best_fit(
    scan: Scan,
    nominal: Nominal,
    start: RigidTransform,
    options: BestFitOptions | None = None,
    progress: Progress | None = None,
) -> Alignment:
    """Point-to-surface Gauss-Newton with trimming and Huber weights, coarse to fine.

    Feet on edges do not count: there a scanner rounds. Converged when a step moves no point by more than 1e-6 mm.

    Raises
    ------
    AlignmentError
        When too little of the scan lies near the nominal.
    """
    options = options or BestFitOptions()
    progress = progress or silent()
    transform = start
    rounds = (
        (3_000, max(options.reach, nominal.diagonal / 60)),
        (12_000, options.reach),
        (options.count, options.reach),
    )
    last = None
    for index, (count, reach) in enumerate(rounds):
        progress.phase(f"fitting {min(count, len(scan.points)):,} points", index / len(rounds))
        sample = scan_sample(scan, count)
        last = _converge(sample, nominal, transform, reach, options, progress)
        transform = last.transform
    assert last is not None
    return last


@dataclass(frozen=True, eq=False)
class Drawn:
    """Points of a scan and what they are drawn to.

    Parameters
    ----------
    pulls : Pulls
    faces : array (N,)
        Nominal face of each, by index from 0.
    far : float
        Share of the points that lie beyond the reach.
    """

    pulls: Pulls
    faces: Ints
    far: float


def _converge(
    sample: ScanSample,
    nominal: Nominal,
    transform: RigidTransform,
    reach: float,
    options: BestFitOptions,
    progress: Progress,
) -> Alignment:
    size = nominal.diagonal / 2

    def pulls_at(transform: RigidTransform, _: int) -> Pulls:
        progress.check()
        return _drawn(sample, nominal, transform, reach, options).pulls

    transform = register(pulls_at, transform, Rounds(60, 1e-6, size, free=FREE, largest_turn=np.inf)) or transform
    drawn = _drawn(sample, nominal, transform, reach, options)
    pulls, weights = drawn.pulls, drawn.pulls.weights
    assert weights is not None
    rms = float(np.sqrt((weights * pulls.distances**2).sum() / weights.sum()))
    notes = motion_notes(pulls, size, options.motions)
    held = [axis for axis in AXES if options.motions and axis not in options.motions]
    locked = dict.fromkeys(AXES, "best fit") | {a: "free" for a in AXES if any(is_about(a, w) for w in notes)}
    locked |= dict.fromkeys(held, "start")
    if drawn.far > FAR and not options.faces:
        notes += (
            f"{100 * drawn.far:.0f} % of the scan lies farther than {reach:g} mm from the nominal and took no part in the best fit",
        )
    covariance = _covariance(pulls, size, sample.area)
    return Alignment(
        transform, "best fit", rms, int((weights > 0).sum()), covariance, frozen(pulls.centre), locked, notes
    )


def motion_notes(pulls: Pulls, size: float, motions: tuple[str, ...]) -> tuple[str, ...]:
    """What the nominal leaves free among the motions that are allowed, in words, and that others were not."""
    whole = replace(pulls, allowed=None)
    notes = [f"the nominal leaves the scan {words}; that stays as it was" for words in free_motions(whole, size, FREE)]
    if motions:
        notes.append(f"only {', '.join(motions)} were allowed to move; all else stays where the start had it")
    return tuple(notes)


def drawn_points(sample: ScanSample, nominal: Nominal, transform: RigidTransform, options: BestFitOptions) -> Drawn:
    """Points of a sample near the nominal, as a transform lays them, and the planes that they are drawn to.

    Raises
    ------
    AlignmentError
        When too little of it lies there.
    """
    return _drawn(sample, nominal, transform, options.reach, options)


def is_about(axis: str, words: str) -> bool:
    """Whether the words of a free motion speak of Tx ... Rz."""
    kind = "slide along" if axis[0] == "T" else "turn about"
    return f"{kind} {axis[1].upper()}" in words


def _drawn(
    sample: ScanSample, nominal: Nominal, transform: RigidTransform, reach: float, options: BestFitOptions
) -> Drawn:
    points = transform.apply(sample.points)
    directions = None if sample.normals is None else transform.turn(sample.normals)
    found = nominal.projector.project(points, directions, limit=reach)
    usable = found.found & ~found.on_border
    if options.faces:
        usable &= faces_mask(found.faces, options.faces)
    if usable.sum() < max(6, 0.02 * len(points)):
        what = f"only {100 * usable.mean():.0f} % of the scan lies near the nominal"
        raise AlignmentError(what, "best fit", "Check that this is the right part and unit, or pick pairs first")
    p, n, d = points[usable], found.normals[usable], found.distances[usable]
    bare = d if options.coat is None else d - options.coat[found.faces[usable]]
    # On a free-form foot the direction from foot to point is the better normal once it is long enough to be known.
    offset = p - found.feet[usable]
    long = np.abs(d) > 1e-6
    n = np.where(long[:, None], unit(offset) * np.sign(d)[:, None], n)
    weights = _weights(bare, options.trim)
    if options.weights is not None:
        weights = weights * options.weights[found.faces[usable]]
    allowed = tuple(axis in options.motions for axis in AXES) if options.motions else None
    return Drawn(Pulls(p, n, bare, weights, allowed), found.faces[usable], float((~found.found).mean()))


def _weights(residuals: Floats, trim: float) -> Floats:
    """Huber's weights about the median spread; the worst `trim` share weighs nothing."""
    size = np.abs(residuals)
    # The median alone would be nothing where most residuals are nothing, and the rest would lose their say.
    spread = max(1.4826 * float(np.median(size)), 0.3 * float(np.sqrt(np.mean(size**2))), 1e-9)
    weights = np.minimum(1.0, HUBER * spread / np.maximum(size, 1e-12))
    if trim > 0:
        weights[size > np.quantile(size, 1 - trim)] = 0.0
    return np.asarray(weights)


def free_motions(pulls: Pulls, size: float, least: float) -> tuple[str, ...]:
    """What planes do not hold, in words: these motions stay where the start had them."""
    _, _, free = pulls.motions(size, least)
    return tuple(free_motion(twist * np.repeat([1, 1 / size], 3), pulls.centre) for twist in _slides_and_turns(free).T)


def _slides_and_turns(free: Floats) -> Floats:
    """The same motions (6, K) told apart: slides first, along the part's axes where they may be, then turns without any slide."""
    if free.shape[1] < 2:
        return free
    _, sizes, basis = np.linalg.svd(free[3:])
    turning = np.zeros(free.shape[1], dtype=bool)
    turning[: len(sizes)] = sizes > 1e-3
    made = []
    slides = free @ basis[~turning].T
    span = slides[:3] @ np.linalg.pinv(slides[:3]) if slides.shape[1] else np.zeros((3, 3))
    for _ in range(slides.shape[1]):
        along = span[:, int(np.argmax(np.linalg.norm(span, axis=0)))]
        along = along / np.linalg.norm(along)
        made.append(np.r_[along, np.zeros(3)])
        span = span - np.outer(along, along @ span)
    still = np.stack([m[:3] for m in made], axis=1) if made else np.zeros((3, 0))
    for twist in (free @ basis[turning].T).T:
        made.append(np.r_[twist[:3] - still @ (still.T @ twist[:3]), twist[3:]])
    return np.stack(made, axis=1)


def free_motion(twist: Floats, centre: Floats) -> str:
    """Words for a motion that nothing holds: a slide or a turn.

    Parameters
    ----------
    twist : array (6,)
        Shift per unit and turn per unit (radians) about `centre`.
    """
    slide, turn = twist[:3], twist[3:]
    rate = float(np.linalg.norm(turn))
    if rate * 50 < np.linalg.norm(slide):
        return f"free to slide along {_axis_name(slide)}"
    foot = centre + np.cross(turn, slide) / rate**2
    place = ", ".join(f"{value:.1f}" for value in foot)
    return f"free to turn about {_axis_name(turn)} through ({place})"


def _axis_name(vector: Floats) -> str:
    direction = unit(vector)
    axis = int(np.argmax(np.abs(direction)))
    if abs(direction[axis]) > 0.999:
        return "XYZ"[axis]
    sign = np.sign(direction[axis])
    return "the direction (" + ", ".join(f"{value:.2f}" for value in direction * sign) + ")"


def _covariance(pulls: Pulls, size: float, area: float) -> Floats:
    """Covariance (6, 6) by blocks of residuals that go together; motions that nothing holds count as exactly known."""
    from juxtum.associate.clusters import clustered_covariance
    from juxtum.associate.solve import CORRELATION_LENGTH

    assert pulls.weights is not None
    used, scale = pulls.weights > 0, np.repeat([1, 1 / size], 3)
    _, held, _ = pulls.motions(size, FREE)
    floor = CORRELATION_LENGTH**2 / max(area, 1e-9) if area else 1.0
    rows = pulls.rows(size)[used] @ held
    found = clustered_covariance(rows, pulls.residuals[used], pulls.points[used], floor)
    return frozen(held @ found @ held.T * np.outer(scale, scale) * _huber_factor(pulls))


def _huber_factor(pulls: Pulls) -> float:
    """By how much Huber's weights make a variance larger than what weighted squares would say of themselves.

    The fit stands where the sum of the clipped residuals psi = w r is nothing, and a clipped one does not move with the
    pose: the variance is E(psi^2) / E(psi')^2, while weighted squares say E(w r^2) / E(w).
    Huber, Ronchetti: Robust Statistics, 2nd edition, 7.6.
    """
    assert pulls.weights is not None
    used = pulls.weights > 0
    weights, residuals = pulls.weights[used], pulls.distances[used]
    slope = float((weights >= 1).mean())
    said = float((weights * residuals**2).mean()) * slope**2
    # Where hardly a residual is left unclipped the slope says nothing any more: the blocks speak alone.
    if slope <= 0.5 or said <= 0:
        return 1.0
    return float(((weights * residuals) ** 2).mean() * weights.mean()) / said
