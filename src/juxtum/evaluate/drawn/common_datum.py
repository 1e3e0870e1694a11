"""Two features that are one datum together (ISO 5459): the axis of two bearings, the plane of two feet."""

from __future__ import annotations

from juxtum.associate.coaxial import fit_coaxial
from juxtum.errors import FitError, InputError
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.drawn.taken import NotSeenError, Situation, Taken, situated, take
from juxtum.evaluate.given import Given
from juxtum.geometry.features import Cylinder, Line
from juxtum.nominal import Nominal
from juxtum.nominal.common import are_coaxial, common_feature


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
    if not are_coaxial(nominal, of):
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
