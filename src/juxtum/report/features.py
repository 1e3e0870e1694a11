"""Features of a scan for scripts."""

from __future__ import annotations

from typing import Any

import numpy as np

from juxtum.evaluate.features import TakenFeature
from juxtum.evaluate.features.free_form import FreeForm
from juxtum.geometry.features import Circle, Cone, Cylinder, Feature, Line, Opening, Plane, Point, Sphere, Torus


def feature_document(taken: TakenFeature) -> dict[str, Any]:
    """One feature; lengths in mm, angles in degrees, in part coordinates."""
    made = taken.measured
    if made is None:
        return {"label": taken.label, "problem": taken.problem}
    return {
        "label": taken.label, "kind": made.kind, **_place(made.feature),
        "values": [
            {"name": v.name, "value": v.value, "expanded_uncertainty": _known(v.expanded), "unit": v.unit, "drawn": v.drawn}
            for v in made.values
        ],
        "origin": made.origin or None,
        "n": made.count, "left_out": made.left_out, "rms": _known(made.rms), "form": _known(made.form), "zone": _known(made.zone),
        "seen": _known(made.seen), "face": made.face or None, "tolerance": _known(made.tolerance), "notes": list(made.notes),
    }  # fmt: skip


def _place(feature: Feature) -> dict[str, Any]:
    """Where it lies and its sizes, under the names of its kind."""
    if isinstance(feature, FreeForm):
        return {"point": feature.point.tolist(), "move": feature.move.matrix.tolist()}
    if isinstance(feature, Plane):
        return {"point": feature.point.tolist(), "normal": feature.normal.tolist()}
    if isinstance(feature, Point):
        return {"point": feature.point.tolist()}
    if isinstance(feature, Line):
        return {"point": feature.point.tolist(), "direction": feature.axis.tolist()}
    if isinstance(feature, Circle):
        return {"centre": feature.point.tolist(), "normal": feature.axis.tolist(), "radius": feature.radius}
    if isinstance(feature, Torus):
        return {
            "centre": feature.point.tolist(),
            "direction": feature.axis.tolist(),
            "radius": feature.radius,
            "minor_radius": feature.minor_radius,
        }
    if isinstance(feature, Opening):
        return {
            "point": feature.point.tolist(), "direction": feature.axis.tolist(), "along": feature.along.tolist(),
            "length": feature.length, "width": feature.width,
        }  # fmt: skip
    if isinstance(feature, Sphere):
        return {"centre": feature.point.tolist(), "radius": feature.radius}
    if isinstance(feature, Cylinder):
        return {"point": feature.point.tolist(), "direction": feature.axis.tolist(), "radius": feature.radius}
    if isinstance(feature, Cone):
        degrees = float(np.degrees(abs(feature.half_angle)))
        return {"apex": feature.apex.tolist(), "direction": feature.axis.tolist(), "half_angle_deg": degrees}
    return {}


def _known(value: float) -> float | None:
    return value if np.isfinite(value) else None
