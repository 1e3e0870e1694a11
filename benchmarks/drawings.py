"""Characteristics of a drawing on a plate whose errors are known, over many scans with noise: how often the truth lies within the uncertainty."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

NOISE, SCANS = 0.02, 12


def drawings() -> Iterator[str]:
    """Share of values within their expanded uncertainty, by kind; noise alone, no instrument."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    import test_drawing as cases
    from juxtum.evaluate import measure_deviation
    from juxtum.evaluate.kinds import Given
    from juxtum.exchange.solid import TessellationRule
    from juxtum.geometry import RigidTransform, TriangleMesh
    from juxtum.nominal import Nominal

    part = Nominal.from_shape(cases.plate())
    named = cases.named.__wrapped__(part)
    scan = cases.whole(Nominal.from_shape(cases.MADE["places"], rule=TessellationRule(0.001, 0.2)), 50_000)
    within: dict[str, list[bool]] = {}
    with TemporaryDirectory() as folder:
        for seed in range(SCANS):
            points = scan.points + np.random.default_rng(seed).normal(0, NOISE, scan.points.shape)
            noisy = TriangleMesh(points, scan.triangles)
            given = Given(measure_deviation(noisy, part, RigidTransform.identity()), cases.JUDGEMENT)
            for made, row, value, _ in cases.CASES:
                if made == "places":
                    found = cases.measured(given, part, named, row, Path(folder))
                    within.setdefault(row.split(",")[0], []).append(abs(found.value - value) <= found.expanded)
    for kind, hits in sorted(within.items()):
        yield f"{kind}: {100 * np.mean(hits):.0f} % of {len(hits)}"
    every = np.concatenate([np.array(hits) for hits in within.values()])
    yield f"all: {100 * every.mean():.1f} % of {len(every)}"
