"""Datums of which a drawing names places only (datum targets, ISO 5459): points or round areas on which the part rests."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align.datums import left_free
from juxtum.associate.solve import effective_count, gauss
from juxtum.errors import InputError
from juxtum.evaluate.characteristics import counting_rows
from juxtum.evaluate.drawn.references import Datum, DatumTarget
from juxtum.evaluate.drawn.taken import NotSeenError
from juxtum.evaluate.given import Given
from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import Contact, Feature, Plane
from juxtum.nominal import Nominal
from juxtum.nominal.common import common_feature

OFF_THE_FACE = 0.5
"""A place farther from the drawn surface than this is no target of it, mm."""
LEAST = 4
"""Points of a scan that tell where a target lies."""


@dataclass(frozen=True, eq=False)
class Hold:
    """One condition of a datum: what was drawn, what was measured, and the covariance (P, P) of a step of that."""

    drawn: Feature
    measured: Feature
    covariance: Floats


@dataclass(frozen=True, eq=False)
class Targeted:
    """A datum by its targets.

    Parameters
    ----------
    nominal : Feature
        That its faces make; where they make none, its first target.
    middle : array (3,)
        Of its targets.
    holds : tuple of Hold
        The plane through them, where three or more lie on a plane; else each for itself.
    count : int
        Points behind them.
    """

    nominal: Feature
    middle: Floats
    holds: tuple[Hold, ...]
    count: int


def check_targets(nominal: Nominal, datum: Datum) -> None:
    """See that the targets of a datum lie on its faces and that each holds something.

    Raises
    ------
    InputError
    """
    contacts = _drawn(nominal, datum)
    free = left_free(contacts, nominal.centre, nominal.diagonal / 2)
    if _is_plane(nominal, datum) and len(contacts) >= 3:
        if len(free) > 3:
            raise InputError("its targets lie in a line", _where(datum), "Give three that span a plane, or two alone")
    elif 6 - len(free) < len(contacts):
        what = f"one of its {len(contacts)} targets holds nothing that the others leave free"
        raise InputError(what, _where(datum), "Leave it out")


def faces_under(nominal: Nominal, targets: tuple[DatumTarget, ...]) -> tuple[int, ...]:
    """Numbers of the faces on which some targets lie.

    Raises
    ------
    InputError
        When one lies on none.
    """
    found = nominal.projector.project(np.array([target.place for target in targets]), limit=OFF_THE_FACE)
    if not found.found.all():
        raise InputError(f"target {int(np.argmin(found.found)) + 1} lies more than {OFF_THE_FACE:g} mm off the part")
    return tuple(dict.fromkeys(int(face) + 1 for face in found.faces))


def targeted(given: Given, datum: Datum) -> Targeted:
    """Where the targets of a datum were drawn and lie.

    Of each the points within its area count, of a point those within a tile about it, by their mean: as a pad of that size
    would rest on them.

    Raises
    ------
    NotSeenError
        When the scan does not show one of them.
    """
    nominal = given.deviation.nominal
    contacts = _drawn(nominal, datum)
    rows = counting_rows(given.deviation, datum.of[0])
    seen = [
        _seen(given, rows, contact, target, f"target {number} of datum {datum.letter}")
        for number, (contact, target) in enumerate(zip(contacts, datum.targets, strict=True), 1)
    ]
    off, variances, counts = (np.array(values) for values in zip(*seen, strict=True))
    lying = [contact.stepped(np.array([away])) for contact, away in zip(contacts, off, strict=True)]
    middle, count = np.mean([contact.point for contact in contacts], axis=0), int(counts.sum())
    if not _is_plane(nominal, datum) or len(contacts) < 3:
        holds = tuple(Hold(c, m, np.array([[v]])) for c, m, v in zip(contacts, lying, variances, strict=True))
        return Targeted(_feature(nominal, datum) or contacts[0], middle, holds, count)
    drawn = common_feature(nominal, datum.of[0], _where(datum)).anchored(middle)
    places = np.array([contact.point for contact in lying])
    measured = gauss(drawn, places).feature
    spread = np.linalg.pinv(measured.linearised(places)[1])
    return Targeted(drawn, middle, (Hold(drawn, measured, spread @ np.diag(variances) @ spread.T),), count)


def _drawn(nominal: Nominal, datum: Datum) -> list[Contact]:
    """The targets as drawn, each brought to the surface."""
    places = np.array([target.place for target in datum.targets])
    found = nominal.projector.project(places, limit=OFF_THE_FACE)
    contacts = []
    for number, place in enumerate(places):
        words = f"target {number + 1}, at {place[0]:g} {place[1]:g} {place[2]:g},"
        if not found.found[number]:
            what = f"{words} lies more than {OFF_THE_FACE:g} mm off the part"
            raise InputError(what, _where(datum), "Give it in part coordinates, on the drawn surface")
        face = int(found.faces[number]) + 1
        if face not in datum.of[0]:
            what = f"{words} lies on face {face}, which is not the datum's"
            raise InputError(what, _where(datum), "Name the faces on which its targets lie, such as 14+15")
        contacts.append(Contact(found.feet[number], found.normals[number]))
    return contacts


def _seen(
    given: Given, rows: np.ndarray, contact: Contact, target: DatumTarget, words: str
) -> tuple[float, float, int]:
    """How far out of the drawn surface a target lies, its variance, and how many points tell it."""
    deviation = given.deviation
    radius = max(target.diameter / 2, deviation.tile)
    near = rows[np.linalg.norm(deviation.feet[rows] - contact.point, axis=1) <= radius]
    if len(near) < LEAST:
        raise NotSeenError(f"the scan does not show {words}", next="Scan it, or take the whole face as datum")
    heights = deviation.distances[near] - given.judgement.chain.thickness_on(deviation.faces[near])
    spread = max(float(heights.std(ddof=1)), deviation.scatter)
    return float(heights.mean()), spread**2 / effective_count(len(near), np.pi * radius**2), len(near)


def _is_plane(nominal: Nominal, datum: Datum) -> bool:
    return isinstance(_feature(nominal, datum), Plane)


def _feature(nominal: Nominal, datum: Datum) -> Feature | None:
    """What its faces make; None where they lie on different surfaces, as stepped pads do."""
    try:
        return common_feature(nominal, datum.of[0], "")
    except InputError:
        return None


def _where(datum: Datum) -> str:
    return f"datum {datum.letter}"
