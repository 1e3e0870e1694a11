"""Point spacing: what the features need, and what it costs. Spacing is not accuracy."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from juxtum.evaluate.places import tile_size
from juxtum.geometry import Cylinder
from juxtum.geometry.arrays import Floats
from juxtum.instruments.models import InstrumentModel, Mode
from juxtum.nominal import FaceKind, Nominal
from juxtum.nominal.model import sample_surface
from juxtum.plan.cost.effort import Effort, estimate
from juxtum.plan.holes import find_holes
from juxtum.plan.task import Task, area_of

POINTS_ACROSS = 5
RINGS_ON_A_WALL = 3
LEFT_OUT = 0.03
"""Share of the part's area in small faces that do not decide the spacing of the whole part."""
STEPS = (0.05, 0.1, 0.2, 0.3, 0.5, 0.8, 1.0, 1.5, 2.0, 3.0)


@dataclass(frozen=True)
class SpacingAdvice:
    """The coarsest spacing that a characteristic's smallest feature allows, mm, and why."""

    aim: str
    faces: tuple[int, ...]
    spacing: float
    reason: str


@dataclass(frozen=True)
class SpacingPrice:
    """One way to choose spacings and its price.

    Parameters
    ----------
    title : str
    base, fine : float
        Spacing everywhere and in the refined zones, mm.
    refined : tuple of int
        Faces scanned at the fine spacing.
    effort : Effort
    serves : bool
        Whether every feature gets the spacing it needs.
    fits : bool
        Whether it fits into the machine's memory.
    """

    title: str
    base: float
    fine: float
    refined: tuple[int, ...]
    effort: Effort
    serves: bool
    fits: bool


def spacing_needs(nominal: Nominal, task: Task) -> tuple[SpacingAdvice, ...]:
    """What each characteristic needs: five points across its smallest face, three rings on a wall."""
    depths = {number: hole.depth for hole in find_holes(nominal) for number in hole.faces}
    result = []
    for aim in task.aims:
        faces = aim.faces or tuple(f.number for f in nominal.faces)
        needs = sorted(
            (*_face_need(nominal, number, depths.get(number), is_named=bool(aim.faces)), nominal.face(number).area)
            for number in faces
        )
        left = 0.0 if aim.faces else LEFT_OUT * nominal.area
        while len(needs) > 1 and needs[0][2] < left:
            left -= needs.pop(0)[2]
        spacing, reason, _ = needs[0]
        tile = tile_size(0.0, nominal.diagonal)
        cap = tile / 2 if aim.faces else tile
        if spacing > cap:
            spacing, reason = (
                cap,
                f"a point every {cap:.2g} mm for the {tile:.2g} mm patches that a profile is averaged over",
            )
        result.append(SpacingAdvice(aim.id, aim.faces, spacing, reason))
    return tuple(result)


def _face_need(nominal: Nominal, number: int, depth: float | None, *, is_named: bool) -> tuple[float, str]:
    face = nominal.face(number)
    points = nominal.face_mesh([number]).points
    extents = np.sort(np.ptp((points - points.mean(0)) @ _axes(points), axis=0))
    if depth is not None:
        across = 2 * face.feature.radius if isinstance(face.feature, Cylinder) else extents[1]
        by_wall, by_width = depth / RINGS_ON_A_WALL, across * np.pi / 12
        if by_wall < by_width:
            return float(by_wall), f"{RINGS_ON_A_WALL} rings on the {depth:.1f} mm wall of face {number}"
        return float(by_width), f"12 points round the \u00d8{across:.1f} mm of face {number}"
    # For a flat face the thinnest extent is nothing; for others all three count.
    width = float(extents[1] if face.kind is FaceKind.PLANE else max(extents[0], extents[1] / 3))
    if is_named:
        width = min(width, _between_edges(nominal, number, width))
    return width / POINTS_ACROSS, f"{POINTS_ACROSS} points across the {width:.1f} mm of face {number}"


def _between_edges(nominal: Nominal, number: int, most: float) -> float:
    """How wide a face is between its sharp edges where it is widest, mm, or `most`: a shoulder is a ring, however large."""
    middles = nominal.samples.centres[nominal.samples.faces == number - 1]
    if len(middles) == 0:
        return most
    about = 2 * float(nominal.edge_distances(middles, most / 2).max())
    # The middle of a triangle that reaches from edge to edge lies at a third of the way, so once more with small ones.
    face = nominal.face_mesh([number])
    fine = sample_surface(face, np.zeros(len(face.triangles), dtype=np.int32), max(about / 4, most / 200)).centres
    return 2 * float(nominal.edge_distances(fine, most / 2).max())


def _axes(points: Floats) -> Floats:
    centred = points - points.mean(0)
    return np.asarray(np.linalg.svd(centred[:: max(1, len(centred) // 2000)], full_matrices=False)[2].T)


def price_spacings(
    nominal: Nominal, task: Task, model: InstrumentModel, mode: Mode, memory: float
) -> tuple[SpacingPrice, ...]:
    """The finest need everywhere, the coarsest everywhere, and coarse with fine zones, each with its price.

    Parameters
    ----------
    memory : float
        Of this machine, bytes.
    """
    needs = spacing_needs(nominal, task)
    zoned = [(n.spacing, n.faces) for n in needs if n.faces]
    base = _step(min((n.spacing for n in needs if not n.faces), default=max((s for s, _ in zoned), default=1.0)), mode)
    fine = _step(min([s for s, _ in zoned] + [base]), mode)
    refined = tuple(sorted({f for s, faces in zoned if s < base for f in faces}))
    whole = area_of(nominal, task.measured_faces(nominal))
    part = area_of(nominal, refined) if refined else 0.0

    def price(title: str, coarse: float, dense: float, zones: tuple[int, ...]) -> SpacingPrice:
        pieces = [(whole - (part if zones else 0.0), coarse)] + ([(part, dense)] if zones else [])
        effort = estimate(pieces, model, mode)
        serves = all(n.spacing >= (dense if set(n.faces) & set(zones) else coarse) - 1e-9 or not n.faces for n in needs)
        return SpacingPrice(title, coarse, dense, zones, effort, serves, effort.peak <= 0.7 * memory)

    offers = [price(f"{fine:g} mm everywhere", fine, fine, ())]
    if refined and fine < base:
        offers.append(price(f"{base:g} mm, {fine:g} in {len(refined)} faces", base, fine, refined))
    if base > fine:
        offers.append(price(f"{base:g} mm everywhere", base, base, ()))
    return tuple(offers)


def finest_that_fits(nominal: Nominal, task: Task, model: InstrumentModel, mode: Mode, memory: float) -> float:
    """The finest spacing of a mode whose work fits into 70 % of the memory, mm."""
    area = area_of(nominal, task.measured_faces(nominal))
    low, high = mode.spacing
    if estimate([(area, low)], model, mode).peak <= 0.7 * memory:
        return low
    for _ in range(50):
        middle = np.sqrt(low * high)
        low, high = (low, middle) if estimate([(area, middle)], model, mode).peak <= 0.7 * memory else (middle, high)
    return float(high)


def _step(spacing: float, mode: Mode) -> float:
    """The next spacing downwards that people set, within what the mode can do."""
    offered = [s for s in STEPS if mode.spacing[0] <= s <= mode.spacing[1]] or [mode.spacing[0]]
    fitting = [low for low, high in pairwise([*offered, np.inf]) if spacing >= low and spacing < high]
    return fitting[0] if fitting else offered[0]
