"""What a probe's touches change of a value: by which instrument, how freely estimated, and how well placed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.given import Given
from juxtum.evaluate.touched import Touched
from juxtum.evaluate.uncertainty import Budget, Chain, Contribution, Handling

TOLD = 3.0
"""Freedom that the feature itself takes of its touches, at least: a plane, or a circle."""


@dataclass(frozen=True, eq=False)
class Behind:
    """What one value rests on.

    Parameters
    ----------
    touched : sequence of Touched
        Of its features and datums, those that a probe touched.
    is_mixed : bool
        Whether the scan shows others.
    """

    touched: Sequence[Touched]
    is_mixed: bool

    @classmethod
    def of(cls, given: Given, named: Sequence[Faces]) -> Behind:
        """What some features were measured by."""
        touched = [one for faces in named if (one := given.touched(faces)) is not None]
        return cls(touched, len(touched) < len(named))

    def chain(self, chain: Chain) -> Chain:
        """What adds to the uncertainty: the probe where all was touched, the less sure of both where some was."""
        if not self.touched:
            return chain
        stated = [one.instrument for one in self.touched]
        if self.is_mixed and chain.instrument is None:
            return chain
        if self.is_mixed and chain.instrument is not None:
            stated.append(chain.instrument)
        # Joined scans have no part in what was touched.
        handling = chain.handling if self.is_mixed else Handling()
        return replace(chain, instrument=max(stated, key=lambda one: one.standard(0.0)), handling=handling)

    def freedom(self, found: float) -> float:
        """Degrees of freedom of the sampling: few where few touches told it."""
        return min([found, *(max(len(one.own) - TOLD, 1.0) for one in self.touched)])

    def placed(self, budget: Budget, *, is_framed: bool) -> Budget:
        """With how well it is known where the touches lie, where that bears on the value: beside the scan, or its datums."""
        if not self.touched or not (self.is_mixed or is_framed):
            return budget
        line = Contribution("where the touches lie", max(one.placed for one in self.touched))
        return replace(budget, contributions=(*budget.contributions, line))


def known(given: Given, chain: Chain) -> Given:
    """The same with another chain behind its values."""
    return replace(given, judgement=replace(given.judgement, chain=chain))


def untouched(given: Given, faces: Faces, features: Sequence[Faces]) -> Faces:
    """Those of some faces of which the scan has to speak: the others were touched."""
    of_probe = {number for feature in features if given.touched(feature) is not None for number in feature}
    return tuple(number for number in faces if number not in of_probe)
