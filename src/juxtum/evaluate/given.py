"""What a characteristic is measured from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.touched import AllTouched, Touched


@dataclass(frozen=True, eq=False)
class Given:
    """The scan held against the nominal, and what a verdict rests on besides.

    Parameters
    ----------
    deviation : Deviation
    judgement : Judgement
    touches : AllTouched, optional
        What a probe touched; it counts in place of what the scan shows of the same features.
    """

    deviation: Deviation
    judgement: Judgement
    touches: AllTouched | None = None

    def touched(self, faces: tuple[int, ...]) -> Touched | None:
        """What was touched of the feature that some faces make."""
        return None if self.touches is None else self.touches.of(faces)

    def seen(self, faces: tuple[int, ...]) -> float:
        """Which share of a feature was measured, by probe or scan."""
        touched = self.touched(faces)
        return self.deviation.area_seen_of(faces) if touched is None else touched.seen

    def count(self, faces: tuple[int, ...]) -> int:
        """How many points stand behind a feature."""
        touched = self.touched(faces)
        if touched is not None:
            return len(touched.own)
        return int(np.isin(self.deviation.faces, np.array(faces) - 1).sum())
