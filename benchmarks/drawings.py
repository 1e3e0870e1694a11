"""Characteristics of a drawing on a plate whose errors are known, over many scans with noise: how often the truth lies within the uncertainty."""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Callable, Iterator
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from benchmarks.cover import EVERY, FIRST, NOISE_ALONE, SEEDS, base_scan
from juxtum.geometry import TriangleMesh

NOISE, SCANS = 0.02, 12


def drawings() -> Iterator[str]:
    """Share of values within their expanded uncertainty, by kind; noise alone, no instrument."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    import test_drawing as cases
    from juxtum.evaluate import measure_deviation
    from juxtum.evaluate.kinds import Given
    from juxtum.exchange.solid import TessellationRule
    from juxtum.geometry import RigidTransform
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


def demo_drawing() -> Iterator[str]:
    """The drawing of BC-220 over many scans of it: how often what a scan without noise gives lies within value +- U."""
    from juxtum.demo.scan import with_noise
    from juxtum.demo.truth import truth

    yield from _held("BC-220", base_scan(), lambda scan, rng: with_noise(scan, truth().noise, rng))


def shaft_drawing() -> Iterator[str]:
    """The same of the shaft PS-14, which is out of round, off its axis, tilted and conical."""
    from juxtum.demo.shaft_job import NOISE as SHAFT_NOISE
    from juxtum.demo.shaft_job import made_shaft

    def noisy(scan: TriangleMesh, rng: np.random.Generator) -> TriangleMesh:
        return TriangleMesh(
            scan.points + rng.normal(0, SHAFT_NOISE, (len(scan.points), 1)) * scan.normals, scan.triangles
        )

    yield from _held("PS-14", made_shaft(0.0), noisy)


def _held(
    part: str, base: TriangleMesh, noisy: Callable[[TriangleMesh, np.random.Generator], TriangleMesh]
) -> Iterator[str]:
    from juxtum.align import best_fit
    from juxtum.demo.world import drawing_path, nominal_path
    from juxtum.evaluate import DecisionRule, measure_deviation
    from juxtum.evaluate.characteristics import Judgement
    from juxtum.evaluate.drawing import read_drawing
    from juxtum.evaluate.kinds import Given
    from juxtum.exchange.cad import read_cad
    from juxtum.geometry import RigidTransform
    from juxtum.nominal import Nominal

    nominal = Nominal.from_shape(read_cad(nominal_path(part)).shape)
    lines = read_drawing(drawing_path(part), nominal)

    def values(scan: TriangleMesh) -> dict[str, tuple[float, float]]:
        fitted = best_fit(scan, nominal, RigidTransform.identity())
        judgement = Judgement(fitted, NOISE_ALONE, DecisionRule.GUARDED)
        given = Given(measure_deviation(scan, nominal, fitted.transform), judgement)
        results = ((f"{line.id} {line.tag}", line.result(given)) for line in lines)
        return {name: (r.value, r.expanded) for name, r in results if r.value is not None and np.isfinite(r.value)}

    truths, off = values(base), defaultdict(list)
    for seed in range(FIRST, FIRST + SEEDS):
        for name, (value, wide) in values(noisy(base, np.random.default_rng([seed, 7]))).items():
            if name in truths:
                off[name].append((value - truths[name][0], wide))
        done = seed + 1 - FIRST
        if done == SEEDS or done % EVERY == 0:
            yield from _shares(off, done)


def _shares(off: dict[str, list[tuple[float, float]]], scans: int) -> Iterator[str]:
    kinds: dict[str, list[bool]] = defaultdict(list)
    for name, pairs in off.items():
        errors, widths = np.array(pairs).T
        hits = np.abs(errors) <= widths
        kinds[name.split()[1]] += list(hits)
        yield f"{name}: {100 * hits.mean():.0f} % of {len(hits)}, bias {errors.mean():+.4f}, scatter {errors.std():.4f}, U {widths.mean():.4f}"
    for kind, hit in sorted(kinds.items()):
        yield f"all {kind}: {100 * np.mean(hit):.1f} % of {len(hit)}"
    every = [one for hit in kinds.values() for one in hit]
    yield f"whole drawing: {100 * np.mean(every):.1f} % of {len(every)} after {scans} scans"
