"""`juxtum fit KIND FILE.csv`: a feature from points, for scripts."""

from __future__ import annotations

import argparse
import json
import sys
from typing import Any

import numpy as np

from juxtum.associate.from_points import FLAT, Associated, associated, circumscribed, inscribed, zoned
from juxtum.errors import InputError, JuxtumError
from juxtum.exchange.limits import check_file
from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import Circle, Cone, Cylinder, Line, Plane, Sphere, Torus

METHODS = {"gauss": associated, "zone": zoned, "inscribed": inscribed, "circumscribed": circumscribed}
MOST_BYTES = 500_000_000
UNSURE = 0.05
"""A radius that is unsure by more of itself has a note."""


def fit(options: argparse.Namespace) -> int:
    """`juxtum fit KIND FILE.csv`."""
    points = _read(options)
    try:
        made = METHODS[options.method](options.kind, points)
        doubt = _doubt(options.kind, made, points)
    except JuxtumError as problem:
        raise InputError(problem.what, str(options.file), problem.next) from problem
    document = {"kind": options.kind, "method": options.method, "n": made.count, "rms": made.rms, "form": made.form}
    document |= _sizes(options.kind, made)
    if options.json:
        print(json.dumps(document, indent=1, allow_nan=False))
    else:
        print("\n".join(f"{name}: {value}" for name, value in document.items()))
    if doubt:
        print(f"note: {options.file}: {doubt}", file=sys.stderr)
    return 0


def _doubt(kind: str, made: Associated, points: Floats) -> str:
    """Words on a radius that the scatter of the points leaves unsure, as that of a short arc; empty where it does not."""
    radius = getattr(made.feature, "radius", None)
    if radius is None:
        return ""
    sure = made if np.isfinite(made.radius_standard) else associated(kind, points)
    if not 2 * sure.radius_standard > UNSURE * radius:
        return ""
    return f"their scatter leaves the radius unsure by {2 * sure.radius_standard:.2g} mm (k = 2); take more of the way round"


def _read(options: argparse.Namespace) -> Floats:
    """Points (N, 3) from rows X,Y[,Z]; the first row may hold the columns' names.

    Raises
    ------
    InputError
        Naming the line that cannot be read.
    """
    path = options.file
    if check_file(path) > MOST_BYTES:
        raise InputError("this is too large to be a list of points", str(path), "Give fewer points")
    wanted = 2 if options.kind in FLAT else 3
    rows: list[list[float]] = []
    try:
        with path.open(encoding="utf-8-sig") as file:
            for number, text in enumerate(file, 1):
                if not text.strip():
                    continue
                cells = text.replace(";", ",").split(",")
                try:
                    row = [float(cell) for cell in cells[:wanted]]
                except ValueError:
                    row = []
                if len(row) == wanted and all(np.isfinite(row)):
                    rows.append(row)
                elif rows or any(_is_number(cell) for cell in cells):
                    what = f"line {number} does not hold {wanted} numbers"
                    raise InputError(what, str(path), "Give X,Y for flat kinds and X,Y,Z for the others")
    except UnicodeDecodeError as problem:
        raise InputError("this is not a list of points", str(path), "Give rows of X,Y,Z as CSV") from problem
    if not rows:
        raise InputError("there are no points in the file", str(path), "Give rows of X,Y,Z, in mm")
    points = np.zeros((len(rows), 3))
    points[:, :wanted] = rows
    return points


def _is_number(cell: str) -> bool:
    try:
        float(cell)
    except ValueError:
        return False
    return True


def _sizes(kind: str, made: Associated) -> dict[str, Any]:
    """Parameters of the feature, mm and degrees; of a flat kind in two coordinates."""
    feature, flat = made.feature, 2 if kind in FLAT else 3
    if isinstance(feature, Plane) and kind == "line2d":
        direction = np.array([feature.normal[1], -feature.normal[0]])
        return {"point": feature.point[:2].tolist(), "direction": direction.tolist()}
    if isinstance(feature, Plane):
        return {"point": feature.point.tolist(), "normal": feature.normal.tolist()}
    if isinstance(feature, Line):
        return {"point": feature.point.tolist(), "direction": feature.axis.tolist()}
    if isinstance(feature, Circle):
        sizes = {"centre": feature.point[:flat].tolist(), "radius": feature.radius}
        return sizes if kind == "circle2d" else sizes | {"normal": feature.axis.tolist()}
    if isinstance(feature, Sphere):
        return {"centre": feature.point.tolist(), "radius": feature.radius}
    if isinstance(feature, Cylinder):
        return {"point": feature.point.tolist(), "direction": feature.axis.tolist(), "radius": feature.radius}
    if isinstance(feature, Cone):
        sign = 1.0 if feature.half_angle > 0 else -1.0
        degrees = float(np.degrees(abs(feature.half_angle)))
        return {"apex": feature.apex.tolist(), "direction": (sign * feature.axis).tolist(), "half_angle_deg": degrees}
    assert isinstance(feature, Torus)
    return {
        "centre": feature.point.tolist(), "direction": feature.axis.tolist(), "radius": feature.radius,
        "minor_radius": feature.minor_radius,
    }  # fmt: skip
