"""The numbers of a feature: its sizes and its place with their uncertainty, beside those of its partner in the drawing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align import Alignment
from juxtum.associate.solve import Fit
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.uncertainty import Chain, Sampling, measured_length
from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import Cone, Cylinder, Feature, Plane, Sphere

Laid = tuple[Alignment, Chain]
AXES = "XYZ"
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
    deviation: Deviation, laid: Laid, found: tuple[Fit[Feature], Feature, Floats], face: int
) -> tuple[FeatureValue, ...]:
    """Sizes and place, each beside that of the drawn partner."""
    fit, feature, points = found
    drawn = deviation.nominal.face(face).feature if face else None
    drawn = drawn if drawn is not None and drawn.name == feature.name else None
    made = _sizes(laid[1], (fit, feature, len(points)), drawn, face)
    known = _place_uncertainty(deviation, laid, (fit, feature, points), face)
    made += _place(feature, known)
    if drawn is not None:
        made += _beside(feature, drawn, points, max(known))
    return tuple(made)


def _sizes(
    chain: Chain, found: tuple[Fit[Feature], Feature, int], drawn: Feature | None, face: int
) -> list[FeatureValue]:
    """Its diameter, or the angle of a cone."""
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
    if "radius" not in feature.sizes:
        return []
    diameter = 2 * feature.sizes["radius"]
    budget = chain.budget(diameter, Sampling(2 * fit.standards["radius"], count), 0.0, face or 1)
    return [
        FeatureValue("diameter", diameter, budget.expanded, drawn=None if drawn is None else 2 * drawn.sizes["radius"])
    ]


def _place_uncertainty(
    deviation: Deviation, laid: Laid, found: tuple[Fit[Feature], Feature, Floats], face: int
) -> list[float]:
    """Expanded uncertainty of where it lies along X, Y and Z, mm: by the data, and by where the alignment laid the scan."""
    (alignment, chain), (fit, feature, points) = laid, found
    spread = float(np.sqrt(max(np.diag(fit.covariance)[: 1 if isinstance(feature, Plane) else 2].max(), 0.0)))
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
    if not isinstance(feature, Cylinder):
        return [FeatureValue(name, float(x), u) for name, x, u in zip(AXES, point, known, strict=True)]
    along = int(np.argmax(np.abs(feature.axis)))
    # Told at a round place along it, so that it does not hang on which points were seen.
    round_place = float(np.round(point[along]))
    told = f"{round_place:g}".replace("-", "\u2212")
    at = point + feature.axis * ((round_place - point[along]) / feature.axis[along])
    return [FeatureValue(f"{AXES[k]} at {AXES[along]} {told}", float(at[k]), known[k]) for k in range(3) if k != along]


def _beside(feature: Feature, drawn: Feature, points: Floats, expanded: float) -> list[FeatureValue]:
    """How it lies against its partner: off it in its middle, and turned."""
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
        turn = float(np.degrees(np.arccos(min(cosine, 1.0))))
        size = max(float(np.linalg.norm(np.ptp(points, axis=0))), 1e-9)
        made.append(FeatureValue("turned by", turn, float(np.degrees(expanded / size)), "\u00b0", 0.0))
    return made
