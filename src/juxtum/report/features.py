"""Features of a scan for scripts."""

from __future__ import annotations

from typing import Any

import numpy as np

from juxtum.evaluate.features import TakenFeature
from juxtum.evaluate.features.free_form import FreeForm
from juxtum.geometry.features import Circle, Cone, Cylinder, Line, Opening, Plane, Point, Sphere, Torus


def feature_document(taken: TakenFeature) -> dict[str, Any]:
    """One feature; lengths in mm, angles in degrees, in part coordinates."""
    made = taken.measured
    if made is None:
        return {"label": taken.label, "problem": taken.problem}
    feature, place = made.feature, {}
    if isinstance(feature, FreeForm):
        place = {"point": feature.point.tolist(), "move": feature.move.matrix.tolist()}
    elif isinstance(feature, Plane):
        place = {"point": feature.point.tolist(), "normal": feature.normal.tolist()}
    elif isinstance(feature, Point):
        place = {"point": feature.point.tolist()}
    elif isinstance(feature, Line):
        place = {"point": feature.point.tolist(), "direction": feature.axis.tolist()}
    elif isinstance(feature, Circle):
        place = {"centre": feature.point.tolist(), "normal": feature.axis.tolist(), "radius": feature.radius}
    elif isinstance(feature, Torus):
        place = {
            "centre": feature.point.tolist(),
            "direction": feature.axis.tolist(),
            "radius": feature.radius,
            "minor_radius": feature.minor_radius,
        }
    elif isinstance(feature, Opening):
        place = {
            "point": feature.point.tolist(), "direction": feature.axis.tolist(), "along": feature.along.tolist(),
            "length": feature.length, "width": feature.width,
        }  # fmt: skip
    elif isinstance(feature, Sphere):
        place = {"centre": feature.point.tolist(), "radius": feature.radius}
    elif isinstance(feature, Cylinder):
        place = {"point": feature.point.tolist(), "direction": feature.axis.tolist(), "radius": feature.radius}
    elif isinstance(feature, Cone):
        degrees = float(np.degrees(abs(feature.half_angle)))
        place = {"apex": feature.apex.tolist(), "direction": feature.axis.tolist(), "half_angle_deg": degrees}
    return {
        "label": taken.label, "kind": made.kind, **place,
        "values": [
            {"name": v.name, "value": v.value, "expanded_uncertainty": _known(v.expanded), "unit": v.unit, "drawn": v.drawn}
            for v in made.values
        ],
        "origin": made.origin or None,
        "n": made.count, "left_out": made.left_out, "rms": _known(made.rms), "form": _known(made.form), "zone": _known(made.zone),
        "seen": _known(made.seen), "face": made.face or None, "tolerance": _known(made.tolerance), "notes": list(made.notes),
    }  # fmt: skip


def _known(value: float) -> float | None:
    return value if np.isfinite(value) else None
