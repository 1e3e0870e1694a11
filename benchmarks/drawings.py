"""Characteristics of a drawing on a plate whose errors are known, over many scans with noise: how often the truth lies within the uncertainty."""

from __future__ import annotations

import os
import sys
from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from benchmarks.cover import EVERY, FIRST, NOISE_ALONE, SEEDS, as_the_instrument_sees_it, base_scan
from juxtum.demo.world import drawing_path, nominal_path
from juxtum.evaluate import Instrument, LineResult
from juxtum.evaluate.uncertainty import Chain, LineOrigin
from juxtum.exchange.cad import read_cad
from juxtum.geometry import TriangleMesh
from juxtum.nominal import Nominal

NOISE, SCANS = 0.02, 12
LENGTHS = ("diameter", "radius", "width", "distance")
CALIBRATING = 40
"""Captures; the first seeds, which no other figure uses."""


def drawings() -> Iterator[str]:
    """Share of values within their expanded uncertainty, by kind; noise alone, no instrument."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    import test_drawing as cases
    from juxtum.evaluate import measure_deviation
    from juxtum.evaluate.kinds import Given
    from juxtum.exchange.solid import TessellationRule
    from juxtum.geometry import RigidTransform

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

    base = base_scan()
    yield from _held(
        "BC-220", base, lambda seed: (with_noise(base, truth().noise, np.random.default_rng([seed, 7])), NOISE_ALONE)
    )


def shaft_drawing() -> Iterator[str]:
    """The same of the shaft PS-14, which is out of round, off its axis, tilted and conical."""
    from juxtum.demo.shaft_job import NOISE as SHAFT_NOISE

    base = _made("PS-14")

    def noisy(seed: int) -> tuple[TriangleMesh, Chain]:
        off = np.random.default_rng([seed, 7]).normal(0, SHAFT_NOISE, (len(base.points), 1))
        return TriangleMesh(base.points + off * base.normals, base.triangles), NOISE_ALONE

    yield from _held("PS-14", base, noisy)


def captured_drawing() -> Iterator[str]:
    """A demo part captured along its plan by a stand-in, with all its errors and the instrument as it is stated; a seed each.

    BC-220 by the handheld scanner, or what JUXTUM_PARTS and JUXTUM_DEVICE name (PS-14; tracked, head).
    """
    from benchmarks.captures import capture_of
    from juxtum.devices.kinds import DeviceKind

    part, kind = os.environ.get("JUXTUM_PARTS", "BC-220"), DeviceKind(os.environ.get("JUXTUM_DEVICE", "handheld"))
    yield from _held(part, _made(part), lambda seed: capture_of(part, kind, seed))


def limit_drawing() -> Iterator[str]:
    """BC-220 captured by a handheld scanner that uses what its limit allows: lengths and diameters off by up to all of it, any error as likely.

    The stand-in by itself keeps its limit with room, as instruments do.
    """
    from benchmarks.captures import capture_of
    from juxtum.devices.kinds import DeviceKind

    nominal = Nominal.from_shape(read_cad(nominal_path()).shape)

    def seen(seed: int) -> tuple[TriangleMesh, Chain]:
        surface, chain = capture_of("BC-220", DeviceKind.HANDHELD, seed)
        return at_its_limit(surface, nominal, seed), chain

    yield from _held("BC-220", base_scan(), seen)


def calibrated_drawing() -> Iterator[str]:
    """BC-220 captured as above, with the instrument as it was calibrated: what its lengths were off in other captures, not what they may be off at most.

    A limit says what no length is off by; most are off by far less. How sure a length is, is told by captures of a part whose
    sizes are known (as ISO 15530-3 does it): by which share of the limit they were off, beyond what their own data explain.
    """
    from benchmarks.captures import capture_of
    from juxtum.devices.kinds import DeviceKind

    share = calibrated_share(lambda seed: capture_of("BC-220", DeviceKind.HANDHELD, seed))
    yield f"calibrated by {CALIBRATING} captures: lengths are off by {share:.3f} of what the limit's standard uncertainty says"

    def seen(seed: int) -> tuple[TriangleMesh, Chain]:
        surface, chain = capture_of("BC-220", DeviceKind.HANDHELD, seed)
        return surface, as_calibrated(chain, share)

    yield from _held("BC-220", base_scan(), seen)


def calibrated_share(capture_of: Callable[[int], tuple[TriangleMesh, Chain]]) -> float:
    """By which share of what an instrument's limit counts (its a + b L over the root of 3) the known sizes of BC-220 were off in captures (seeds from 0)."""
    results, shares = results_of("BC-220"), []
    truths = {name: r.value for name, r in results(base_scan(), NOISE_ALONE).items()}
    for seed in range(CALIBRATING):
        surface, chain = capture_of(seed)
        for name, r in results(surface, chain).items():
            if name.split()[1] in LENGTHS and name in truths:
                lines = r.side.budget.contributions
                data = sum(c.standard**2 for c in lines if c.origin is LineOrigin.DATA)
                limit = sum(c.standard**2 for c in lines if c.origin is LineOrigin.LIMIT)
                shares.append(((r.value - truths[name]) ** 2 - data) / limit)
    return float(np.sqrt(max(np.mean(shares), 0.0)))


def as_calibrated(chain: Chain, share: float) -> Chain:
    """The same with an instrument of that share of its limit, which holds its repeatability and what its certificate leaves open as well."""
    stated = chain.instrument
    assert stated is not None
    instrument = Instrument(name=f"{stated.name}, as calibrated", a=share * stated.a, b=share * stated.b)
    return replace(chain, instrument=instrument)


def at_its_limit(surface: TriangleMesh, nominal: Nominal, seed: int) -> TriangleMesh:
    """A surface whose faces are off by up to half of the instrument's limit each, so that lengths between them are off by up to all of it."""
    return as_the_instrument_sees_it(surface, nominal, 0.5, np.random.default_rng([seed, 5]))


def _made(part: str) -> TriangleMesh:
    """A demo part as it was made, scanned without any error."""
    from juxtum.demo.shaft_job import made_shaft

    return made_shaft(0.0) if part == "PS-14" else base_scan()


def _held(part: str, base: TriangleMesh, scan_of: Callable[[int], tuple[TriangleMesh, Chain]]) -> Iterator[str]:
    """Values of a drawing on scans with what each adds to U, one for each seed, against those of the part as it was made, scanned without any error."""
    values = values_of(part)
    truths, off = values(base, NOISE_ALONE), defaultdict(list)
    for seed in range(FIRST, FIRST + SEEDS):
        for name, (value, wide) in values(*scan_of(seed)).items():
            if name in truths:
                off[name].append((value - truths[name][0], wide))
        done = seed + 1 - FIRST
        if done == SEEDS or done % EVERY == 0:
            yield from _shares(off, done)


def values_of(part: str) -> Callable[[TriangleMesh, Chain], dict[str, tuple[float, float]]]:
    """What gives value and U of each line of a demo part's drawing on a scan."""
    results = results_of(part)

    def values(scan: TriangleMesh, chain: Chain) -> dict[str, tuple[float, float]]:
        return {name: (r.value, r.expanded) for name, r in results(scan, chain).items()}

    return values


def results_of(part: str) -> Callable[[TriangleMesh, Chain], dict[str, LineResult]]:
    """What gives the result of each line of a demo part's drawing on a scan, as far as it has a value."""
    from juxtum.align import best_fit
    from juxtum.evaluate import DecisionRule, measure_deviation
    from juxtum.evaluate.characteristics import Judgement
    from juxtum.evaluate.drawing import read_drawing
    from juxtum.evaluate.kinds import Given
    from juxtum.geometry import RigidTransform

    nominal = Nominal.from_shape(read_cad(nominal_path(part)).shape)
    lines = read_drawing(drawing_path(part), nominal)

    def results(scan: TriangleMesh, chain: Chain) -> dict[str, LineResult]:
        fitted = best_fit(scan, nominal, RigidTransform.identity())
        judgement = Judgement(fitted, chain, DecisionRule.GUARDED)
        given = Given(measure_deviation(scan, nominal, fitted.transform), judgement)
        found = ((f"{line.id} {line.tag}", line.result(given)) for line in lines)
        return {name: r for name, r in found if r.value is not None and np.isfinite(r.value)}

    return results


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
