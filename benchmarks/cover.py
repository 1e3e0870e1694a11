"""Whether the truth lies within what is said: many simulated scans of the demo, every line of its ledger."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from typing import TypeVar

import numpy as np

from juxtum.align import best_fit, datum_alignment
from juxtum.align.datums import DatumFeature
from juxtum.align.result import Alignment
from juxtum.demo.job import CIRCUMSTANCES, FACES, characteristics, datum_step
from juxtum.demo.scan import seen_surface, with_noise
from juxtum.demo.truth import truth
from juxtum.demo.world import nominal_path
from juxtum.evaluate import DecisionRule, Environment, Instrument, LineResult, measure_deviation
from juxtum.evaluate.characteristics import Judgement, counting_rows
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.kinds import Given, Profile
from juxtum.evaluate.tiles import make_tiles
from juxtum.evaluate.uncertainty import Chain
from juxtum.exchange.cad import read_cad
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.nominal import Nominal
from juxtum.progress import silent

Answer = TypeVar("Answer")
SEEDS = int(os.environ.get("JUXTUM_SEEDS", "300"))
FIRST = int(os.environ.get("JUXTUM_FIRST", "0"))
"""The first seed, where seeds are dealt out to several processes."""
NOISE_ALONE = Chain(Instrument(a=0.0, b=0.0), Environment(temperature=20.0, temperature_u=0.0))
STATED = Chain.of(CIRCUMSTANCES)
SIDES = ("upper", "lower")
EVERY = int(os.environ.get("JUXTUM_EVERY", "50"))
"""Scans after which the table is told as it stands."""


def cover() -> Iterator[str]:
    """Noise alone, then noise with an instrument off by what it is allowed: share of truths within value +- U."""
    nominal, base = Nominal.from_shape(read_cad(nominal_path()).shape), base_scan()
    for words, chain, spread in (("noise alone", NOISE_ALONE, 0.0), ("instrument within its error", STATED, 1.0)):
        if words not in os.environ.get("JUXTUM_COVER", words):
            continue
        truths = _ledger(base, nominal, _extremes)
        told = Told(
            {name: np.zeros(2) for name in truths}, {n: np.zeros(2) for n in truths}, {n: np.zeros(2) for n in truths}
        )
        for seed in range(FIRST, FIRST + SEEDS):
            rng = np.random.default_rng([seed, 5])
            scan = with_noise(as_the_instrument_sees_it(base, nominal, spread, rng), truth().noise, rng)
            for name, line in _ledger(scan, nominal, partial(_judged, chain)).items():
                off = np.array([s.value for s in line.measured.sides]) - truths[name]
                wide = np.array([s.expanded for s in line.measured.sides])
                told.hits[name] += np.abs(off) <= wide
                told.errors[name] += off
                told.widths[name] += wide
            done = seed + 1 - FIRST
            if done == SEEDS or done % EVERY == 0:
                yield from told.lines(words, done)


@dataclass(frozen=True, eq=False)
class Told:
    """Sums over scans for each line: truths within U, errors and U of both sides."""

    hits: dict[str, Floats]
    errors: dict[str, Floats]
    widths: dict[str, Floats]

    def lines(self, words: str, scans: int) -> Iterator[str]:
        """What they come to after so many scans."""
        for name, hits in self.hits.items():
            share, bias, wide = 100 * hits / scans, 1000 * self.errors[name] / scans, 1000 * self.widths[name] / scans
            sides = [
                f"{side} {share[k]:.1f} % (bias {bias[k]:+.1f}, U {wide[k]:.1f} um)" for k, side in enumerate(SIDES)
            ]
            yield f"{words}: {name}: " + ", ".join(sides)
        yield f"{words}: whole ledger {100 * np.mean([h / scans for h in self.hits.values()]):.1f} % of {scans} scans"


def base_scan() -> TriangleMesh:
    """The made part as seen, without noise, table and scraps."""
    surface = seen_surface(truth(), np.random.default_rng(truth().seed), silent())
    return surface.kept(surface.points[:, 2] > 0.6)


def as_the_instrument_sees_it(
    base: TriangleMesh, nominal: Nominal, spread: float, rng: np.random.Generator
) -> TriangleMesh:
    """With the errors an instrument may have: every face off by its own, at most `spread` times its limit, and a scale."""
    if not spread:
        return base
    instrument = CIRCUMSTANCES.instrument
    assert instrument is not None
    there = nominal.projector.project(base.points, limit=3.0)
    offsets = spread * rng.uniform(-instrument.a, instrument.a, len(nominal.faces))[there.faces]
    scale = 1 + rng.uniform(-instrument.b, instrument.b) / 1000
    moved = (
        nominal.centre
        + scale * (base.points - nominal.centre)
        + np.where(there.found, offsets, 0.0)[:, None] * there.normals
    )
    return TriangleMesh(moved, base.triangles)


def _ledger(
    scan: TriangleMesh, nominal: Nominal, ask: Callable[[Deviation, Alignment, Profile], Answer]
) -> dict[str, Answer]:
    """An answer for every line that was seen, in the best fit and in the datum system."""
    fitted = best_fit(scan, nominal, RigidTransform.identity())
    letters = tuple(DatumFeature(d.letter, d.faces) for d in datum_step("best fit").datums)
    found = {}
    for alignment in (fitted, datum_alignment(scan, nominal, fitted.transform, letters)):
        deviation = measure_deviation(scan, nominal, alignment.transform)
        for step in characteristics():
            if FACES["underside"] not in step.faces:
                found[f"{alignment.method}, {step.title}"] = ask(deviation, alignment, step)
    return found


def _judged(chain: Chain, deviation: Deviation, alignment: Alignment, line: Profile) -> LineResult:
    return line.result(Given(deviation, Judgement(alignment, chain, DecisionRule.GUARDED)))


def _extremes(deviation: Deviation, _: Alignment, line: Profile) -> Floats:
    """Largest and smallest mean over a tile, as they are: without noise nothing is to be taken off for their choice."""
    rows = counting_rows(deviation, line.faces)
    means = make_tiles(deviation, rows, deviation.distances[rows]).means
    return np.array([means.max(), means.min()])
