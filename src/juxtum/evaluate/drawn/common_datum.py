"""Two features that are one datum together (ISO 5459): the axis of two bearings, the plane of two feet."""

from __future__ import annotations

import numpy as np

from juxtum.associate.solve import Fit, gauss
from juxtum.errors import FitError, InputError
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.drawn.taken import NotSeenError, Situation, Taken, situated, take
from juxtum.evaluate.given import Given
from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import Cylinder, Line
from juxtum.nominal import Nominal
from juxtum.nominal.common import common_feature

MOST = 8000
"""Points of each that the axis is fitted to: both count alike."""
ROUNDS = 8
COAXIAL = 1e-3
"""Nearer than this to each other all along, two drawn axes are one, mm."""


def check_common(nominal: Nominal, of: tuple[Faces, ...], where: str) -> None:
    """See that two features can be one datum together.

    Raises
    ------
    InputError
        When they are neither on one surface nor two cylinders about one axis.
    """
    if len(of) != 2:
        raise InputError("a common datum is made of two", where, "Write for example A-B")
    if _on_one(nominal, of):
        return
    one, two = (common_feature(nominal, faces, where) for faces in of)
    if not isinstance(one, Cylinder) or not isinstance(two, Cylinder):
        what = f"a {one.name} and a {two.name} that lie on different surfaces make no common datum here"
        raise InputError(what, where, "Name two cylinders about one axis, or faces in one plane")
    ends = np.stack([faces.points[[0, -1]] for faces in (nominal.face_mesh(two_faces) for two_faces in of)]).reshape(
        -1, 3
    )
    apart = [np.linalg.norm(one.anchored(p).point - two.anchored(p).point) for p in ends]
    if max(apart) > COAXIAL:
        raise InputError("the two cylinders do not lie about one axis", where, "Name two that do")


def common_situation(given: Given, of: tuple[Faces, ...], where: str, association: str) -> Situation:
    """Where two features that are one datum were drawn and lie together.

    Faces of one surface are one feature; two cylinders about one axis give the line of least squares through both, each with
    a radius of its own.

    Raises
    ------
    InputError
    """
    check_common(given.deviation.nominal, of, where)
    if _on_one(given.deviation.nominal, of):
        return situated(given, ((*of[0], *of[1]),), where, association)
    parts = tuple(take(given, faces, where) for faces in of)
    try:
        fit = fit_coaxial(parts[0].points, parts[1].points, _start(parts[0]))
    except FitError as problem:
        raise NotSeenError(problem.what, where, problem.next) from problem
    drawn = parts[0].nominal
    assert isinstance(drawn, Cylinder)
    middle = (parts[0].places.mean(0) + parts[1].places.mean(0)) / 2
    nominal, measured = Line(drawn.anchored(middle).point, drawn.axis), fit.feature.anchored(middle)
    if measured.axis @ nominal.axis < 0:
        measured = Line(measured.point, -measured.axis)
    return Situation(nominal, measured, fit.covariance, parts)


def _on_one(nominal: Nominal, of: tuple[Faces, ...]) -> bool:
    try:
        common_feature(nominal, (*of[0], *of[1]), "")
    except InputError:
        return False
    return True


def _start(part: Taken) -> Cylinder:
    assert isinstance(part.fit.feature, Cylinder)
    return part.fit.feature


def fit_coaxial(one: Floats, two: Floats, start: Cylinder) -> Fit[Line]:
    """The axis of least squares of two cylinders about one line, each with a radius of its own.

    The second is brought to the radius of the first along the way out from the axis found so far; then both are one
    cylinder, and so on until the axis stays.

    Parameters
    ----------
    one, two : array (N, 3), (M, 3)
        Points on each, mm; each counts alike.
    start : Cylinder
        Near the first.

    Examples
    --------
    >>> turn = np.linspace(0, 6, 40)
    >>> ring = np.column_stack([np.cos(turn), np.sin(turn), np.zeros(40)])
    >>> made = fit_coaxial(4 * ring, 7 * ring + [0, 0, 90], Cylinder(np.zeros(3), np.array([0.0, 0, 1]), 4))
    >>> np.round(np.abs(made.feature.axis), 9).tolist()
    [0.0, 0.0, 1.0]
    """
    count = min(len(one), len(two), MOST)
    one, two = (points[np.linspace(0, len(points) - 1, count).astype(np.int64)] for points in (one, two))
    axis = start
    for _ in range(ROUNDS):
        first, second = (float(Line(axis.point, axis.axis).distances(p).mean()) for p in (one, two))
        foot = axis.point + np.outer((two - axis.point) @ axis.axis, axis.axis)
        out = two - foot
        brought = two + (first - second) * out / np.maximum(np.linalg.norm(out, axis=1), 1e-12)[:, None]
        fit = gauss(Cylinder(axis.point, axis.axis, first), np.concatenate([one, brought]))
        ends = np.stack([one.mean(0), two.mean(0)])
        moved = max(np.linalg.norm(fit.feature.anchored(p).point - axis.anchored(p).point) for p in ends)
        axis = fit.feature
        if moved < 1e-10:
            break
    return Fit(Line(axis.point, axis.axis), fit.count, fit.rms, fit.form, fit.covariance[:4, :4])
