"""Thickness of walls and worst places of a map on parts of known shape, and how long they take on a large scan."""

from __future__ import annotations

import time
from collections.abc import Iterator

import numpy as np

from benchmarks.starts import made_scan, parts
from juxtum.align.result import no_alignment
from juxtum.errors import JuxtumError
from juxtum.evaluate import DecisionRule, measure_deviation
from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.extrema import find_peaks
from juxtum.evaluate.uncertainty import Chain
from juxtum.evaluate.walls import WallLimits, measure_walls
from juxtum.instruments import Circumstances
from juxtum.instruments.models import stated_instrument
from juxtum.nominal import Nominal

THINNEST = {
    "plate with small holes": 8.0,
    "beam of 3 m": 10.0,
    "sheet bracket": 1.5,
    "casting": 6.0,
    "part of 5 mm": 1.0,
    "plain plate": 10.0,
}
"""As drawn, mm."""


def walls() -> Iterator[str]:
    """A line a part: what the thinnest place is found to be, and how long it takes."""
    circumstances = Circumstances(instrument=stated_instrument("handheld", ""))
    judgement = Judgement(no_alignment(), Chain.of(circumstances), DecisionRule.GUARDED)
    yield (f"{'part':28s} {'drawn':>7s} {'straight through':>20s} {'by ball':>20s} {'points':>8s} {'places':>7s}")
    for name, shape in parts().items():
        nominal = Nominal.from_shape(shape)
        scan = made_scan(nominal, "full mesh", np.random.default_rng(1))
        deviation = measure_deviation(scan, nominal, no_alignment().transform)
        found = []
        for way in ("ray", "ball"):
            began = time.perf_counter()
            try:
                made = measure_walls(deviation, scan, way, WallLimits(), judgement)
            except JuxtumError as problem:
                found.append(problem.what[:20])
                continue
            data = made.thinnest
            found.append(f"{data.value:.3f}\u00b1{data.expanded:.3f} {time.perf_counter() - began:.1f}s")
        peaks = find_peaks(deviation, -0.1, 0.1)
        drawn = f"{THINNEST[name]:g}" if name in THINNEST else ""
        yield (f"{name:28s} {drawn:>7s} {found[0]:>20s} {found[1]:>20s} {len(scan.points):8d} {len(peaks):7d}")
