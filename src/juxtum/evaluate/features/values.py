"""The numbers of a feature: its sizes and its place with their uncertainty, beside those of its partner in the drawing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align import Alignment
from juxtum.associate.solve import Fit, covariance_of
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.features.free_form import FreeForm
from juxtum.evaluate.features.partners import Partner
from juxtum.evaluate.uncertainty import Chain, Sampling, measured_length
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, unit
from juxtum.geometry.features import Cone, Cylinder, Feature, Opening, Plane, Sphere, Torus

Laid = tuple[Alignment, Chain]
AXES = "XYZ"
SIZES = (
    ("radius", "diameter", 2),
    ("minor radius", "radius of the tube", 1),
    ("length", "length", 1),
    ("width", "width", 1),
)
"""What sizes are called on a card, and how often they are counted."""
ALIGNED = 0.99
"""What leans by less than about eight degrees to an axis of the part is told along it."""


@dataclass(frozen=True)
class FeatureValue:
    """One number of a feature.

    Parameters
    ----------
    name, unit : str
    value, expanded : float
        The uncertainty is NaN where no instrument is stated.
    drawn : float, optional
        The same of its partner in the drawing.
    """

    name: str
    value: float
    expanded: float
    unit: str = "mm"
    drawn: float | None = None


def values_of(
    deviation: Deviation, laid: Laid, found: tuple[Fit[Feature], Feature, Floats], partner: Partner
) -> tuple[FeatureValue, ...]:
    """Sizes and place, each beside that of the drawn partner."""
    fit, feature, points = found
    if isinstance(feature, FreeForm):
        return tuple(_of_free_form(deviation, laid, (fit, feature, points), partner.face))
    face, drawn = partner.face, partner.feature
    made = _sizes(laid[1], (fit, feature, len(points)), drawn, face)
    known = _place_uncertainty(deviation, laid, (fit, feature, points), face)
    made += _place(feature, known)
    if drawn is not None:
        made += _beside((fit, feature, points), drawn, laid, max(known))
    return tuple(made)


def _of_free_form(
    deviation: Deviation, laid: Laid, found: tuple[Fit[Feature], FreeForm, Floats], face: int
) -> list[FeatureValue]:
    """How far it lies off the drawn surface on the whole, and by which move that would lie on it."""
    (fit, feature, points), (alignment, chain) = found, laid
    some = points[:: max(1, len(points) // 20_000)]
    off, out = FreeForm(points.mean(0), RigidTransform.identity(), feature.drawn).linearised(some)
    mean, middle = float(off.mean()), points.mean(0)
    towards = unit(-out[:, :3].sum(0) + 1e-12)
    spread = float(np.sqrt(covariance_of(np.ones((len(some), 1)), off - mean, some)[0, 0]))
    length = measured_length(alignment, middle, deviation.nominal.mesh.bounds)
    frame = float(alignment.point_uncertainty(middle[None], towards[None])[0])
    whole = chain.budget(length, Sampling(spread, len(some)), frame, face or 1).expanded
    made = [FeatureValue("off the drawn one, mean", mean, whole, drawn=0.0)]
    known = max(_place_uncertainty(deviation, laid, (fit, feature, points), face))
    made.append(FeatureValue("moved by", float(np.linalg.norm(feature.shift)), known, drawn=0.0))
    size = max(float(np.linalg.norm(np.ptp(points, axis=0))), 1e-9)
    turn = _turn_uncertainty(fit.covariance[3:, 3:], laid, known / size)
    return [*made, FeatureValue("turned by", feature.move.angle, turn, "\u00b0", 0.0)]


def _sizes(
    chain: Chain, found: tuple[Fit[Feature], Feature, int], drawn: Feature | None, face: int
) -> list[FeatureValue]:
    """Its diameter, the angle of a cone, the radius of a tube, length and width."""
    fit, feature, count = found
    if isinstance(feature, Cone):
        standard = 2 * float(np.degrees(fit.standards.get("half angle", 0.0)))
        angle = float(np.degrees(2 * abs(feature.half_angle)))
        asked = float(np.degrees(2 * abs(drawn.half_angle))) if isinstance(drawn, Cone) else None
        return [
            FeatureValue(
                "angle", angle, 2 * standard if chain.instrument is not None else float("nan"), "\u00b0", asked
            )
        ]
    return [
        FeatureValue(
            word, times * feature.sizes[size],
            chain.budget(times * feature.sizes[size], Sampling(times * fit.standards[size], count), 0.0, face or 1).expanded,
            drawn=None if drawn is None else times * drawn.sizes[size],
        )
        for size, word, times in SIZES if size in feature.sizes
    ]  # fmt: skip


def _place_uncertainty(
    deviation: Deviation, laid: Laid, found: tuple[Fit[Feature], Feature, Floats], face: int
) -> list[float]:
    """Expanded uncertainty of where it lies along X, Y and Z, mm: by the data, and by where the alignment laid the scan."""
    (alignment, chain), (fit, feature, points) = laid, found
    offsets = 1 if isinstance(feature, Plane) else 3 if isinstance(feature, Sphere | Torus | FreeForm) else 2
    spread = float(np.sqrt(max(np.diag(fit.covariance)[:offsets].max(), 0.0)))
    middle = points.mean(0)
    frame = alignment.point_uncertainty(np.tile(middle, (3, 1)), np.eye(3))
    length = measured_length(alignment, middle, deviation.nominal.mesh.bounds)
    return [chain.budget(length, Sampling(spread, len(points)), float(one), face or 1).expanded for one in frame]


def _place(feature: Feature, known: list[float]) -> list[FeatureValue]:
    """Where it lies, in the directions in which that means something: a plane along its normal, an axis across itself."""
    point = feature.apex if isinstance(feature, Cone) else feature.point
    if isinstance(feature, Plane):
        along = int(np.argmax(np.abs(feature.normal)))
        if abs(feature.normal[along]) > ALIGNED:
            return [FeatureValue(f"{AXES[along]} in its middle", float(point[along]), known[along])]
        return [FeatureValue("from the origin along its normal", float(point @ feature.normal), max(known))]
    if not isinstance(feature, Cylinder | Opening):
        return [FeatureValue(name, float(x), u) for name, x, u in zip(AXES, point, known, strict=True)]
    along = int(np.argmax(np.abs(feature.axis)))
    # Told at a round place along it, so that it does not hang on which points were seen.
    round_place = float(np.round(point[along]))
    told = f"{round_place:g}".replace("-", "\u2212")
    at = point + feature.axis * ((round_place - point[along]) / feature.axis[along])
    return [FeatureValue(f"{AXES[k]} at {AXES[along]} {told}", float(at[k]), known[k]) for k in range(3) if k != along]


def _beside(
    found: tuple[Fit[Feature], Feature, Floats], drawn: Feature, laid: Laid, expanded: float
) -> list[FeatureValue]:
    """How it lies against its partner: off it in its middle, and turned."""
    fit, feature, points = found
    middle = points.mean(0)
    mine, other = feature.anchored(middle).point, drawn.anchored(middle).point
    if isinstance(drawn, Plane):
        offset = float((mine - other) @ drawn.normal)
        made = [FeatureValue("off the drawn one", offset, expanded, drawn=0.0)]
    else:
        step = mine - other
        axis = getattr(drawn, "axis", None)
        if axis is not None:
            step = step - (step @ axis) * axis
        made = [FeatureValue("off the drawn one", float(np.linalg.norm(step)), expanded, drawn=0.0)]
    name = "normal" if isinstance(drawn, Plane) else "axis"
    if not isinstance(drawn, Sphere):
        cosine = abs(float(getattr(feature, name) @ getattr(drawn, name)))
        size = max(float(np.linalg.norm(np.ptp(points, axis=0))), 1e-9)
        tilts = _turn_uncertainty(fit.covariance[feature.tilts, feature.tilts], laid, expanded / size)
        made.append(FeatureValue("turned by", float(np.degrees(np.arccos(min(cosine, 1.0)))), tilts, "\u00b0", 0.0))
    if isinstance(feature, Opening) and isinstance(drawn, Opening):
        spin = float(np.degrees(np.arcsin(min(abs(float(feature.along @ drawn.frame[1])), 1.0))))
        known = _turn_uncertainty(fit.covariance[2:3, 2:3], laid, expanded / feature.length)
        made.append(FeatureValue("turned about its axis by", spin, known, "\u00b0", 0.0))
    return made


def _turn_uncertainty(own: Floats, laid: Laid, placed: float) -> float:
    """Expanded uncertainty of a turn, degrees: by its own data (Q, Q), the least known way, the alignment, and how sure its ends are placed (radians)."""
    alignment, chain = laid
    if chain.instrument is None:
        return float("nan")
    variance = np.linalg.eigvalsh(own)[-1] + np.linalg.eigvalsh(alignment.covariance[3:, 3:])[-1]
    return float(np.degrees(np.hypot(2 * np.sqrt(max(variance, 0.0)), placed)))
