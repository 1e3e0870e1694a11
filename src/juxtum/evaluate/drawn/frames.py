"""The frame that the datums of a characteristic make, and what it leaves free."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.align import Alignment
from juxtum.align.datums import AssociatedDatum, left_free, locked_to, touched_by
from juxtum.evaluate.drawn.common_datum import check_common, common_situation
from juxtum.evaluate.drawn.datum_targets import Hold, Targeted, check_targets, targeted
from juxtum.evaluate.drawn.references import Datum
from juxtum.evaluate.drawn.taken import Situation, situated
from juxtum.evaluate.given import Given
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, unit
from juxtum.geometry.features import Feature
from juxtum.nominal import Nominal
from juxtum.nominal.common import common_feature


@dataclass(frozen=True, eq=False)
class Frame:
    """Where the datums put the part.

    Parameters
    ----------
    move : RigidTransform
        From the alignment in force into the frame of the datums.
    alignment : Alignment
        With its covariance.
    datums : tuple of Situation or Targeted
    free : array (K, 6)
        Motions that the datums leave free.
    """

    move: RigidTransform
    alignment: Alignment
    datums: tuple[Situation | Targeted, ...]
    free: Floats

    @property
    def leaves_turns(self) -> bool:
        """Whether some turn is left free."""
        return bool(np.abs(self.free[:, 3:]).max(initial=0.0) > 1e-9)

    def leaves(self, feature: Feature) -> bool:
        """Whether a motion that is left free moves a drawn feature."""
        return touched_by(feature, self.free, self.alignment.centre)

    def length_to(self, place: Floats) -> float:
        """From the datums to a place, mm."""
        anchors = [datum.nominal.holds().brought_to(place) for datum in self.datums]
        middles = [datum.middle for datum in self.datums]
        return float(max((np.linalg.norm(place - m) for m in (*anchors, *middles)), default=0.0))

    def spread(self, place: Floats, direction: Floats) -> float:
        """Standard uncertainty of where the frame puts a place, along a direction, mm."""
        return float(self.alignment.point_uncertainty(place[None], direction[None])[0])

    def direction_for(self, nominal: Floats, measured: Floats) -> Floats:
        """The direction (3,) that the datums prescribe for something that was drawn along `nominal`.

        Where they leave a turn free, it is the one under the drawn angle to the first datum that lies nearest to what was
        measured: the zone may turn with the part about what the datum does not hold.
        """
        primary = self.datums[0].nominal.holds().direction if self.datums else None
        if not self.leaves_turns or primary is None:
            return nominal
        share = float(np.clip(nominal @ primary, -1.0, 1.0))
        across = measured - float(measured @ primary) * primary
        if np.linalg.norm(across) < 1e-12 or abs(share) > 1 - 1e-12:
            return np.asarray(np.sign(share) * primary)
        found = share * primary + np.sqrt(1 - share * share) * unit(across[None])[0]
        return np.asarray(found if found @ measured >= 0 else -found)


def frame_of(given: Given, datums: tuple[Datum, ...], where: str) -> Frame:
    """The frame of some datums in their order; that of the alignment in force where there are none.

    Raises
    ------
    InputError
        When a datum is not seen, or its faces cannot be one.
    """
    nominal, judgement = given.deviation.nominal, given.judgement
    still = RigidTransform.identity()
    if not datums:
        return Frame(still, judgement.alignment, (), np.zeros((0, 6)))
    found = [_situation(given, datum) for datum in datums]
    associated = [one for datum, at in zip(datums, found, strict=True) for one in _associated(datum.letter, at)]
    alignment = locked_to(associated, nominal, still)
    free = left_free([one.nominal for one in associated], alignment.centre, nominal.diagonal / 2)
    return Frame(alignment.transform, alignment, tuple(found), free)


def check_datum(nominal: Nominal, datum: Datum) -> None:
    """See that the faces of a datum make what a datum can be.

    Raises
    ------
    InputError
    """
    where = f"datum {datum.letter}"
    if datum.targets:
        check_targets(nominal, datum)
        return
    for faces in datum.of:
        common_feature(nominal, faces, where)
    if datum.is_common:
        check_common(nominal, datum.of, where)


def _associated(letter: str, at: Situation | Targeted) -> list[AssociatedDatum]:
    """What a datum locks, one after the other."""
    holds = at.holds if isinstance(at, Targeted) else (Hold(at.nominal, at.measured, at.covariance),)
    return [AssociatedDatum(letter, h.drawn, h.measured, at.count, 0.0, h.covariance, "") for h in holds]


def _situation(given: Given, datum: Datum) -> Situation | Targeted:
    where = f"datum {datum.letter}"
    if datum.targets:
        return targeted(given, datum)
    if datum.is_common:
        return common_situation(given, datum.of, where, datum.association)
    return situated(given, datum.of, where, datum.association)
