"""What a characteristic is measured from."""

from __future__ import annotations

from dataclasses import dataclass

from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.deviation import Deviation


@dataclass(frozen=True, eq=False)
class Given:
    """The scan held against the nominal, and what a verdict rests on besides.

    Parameters
    ----------
    deviation : Deviation
    judgement : Judgement
    """

    deviation: Deviation
    judgement: Judgement
