"""The demo parts as they were made, for stand-ins to measure: with their faults, and targets stuck by hand."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import numpy as np

from juxtum.demo.scan import bump_height
from juxtum.demo.truth import truth
from juxtum.demo.world import nominal_path
from juxtum.devices.body import Body
from juxtum.exchange.inputfile import InputFile
from juxtum.geometry.arrays import orthonormal_frame
from juxtum.job.files import content_hash
from juxtum.nominal import Nominal
from juxtum.nominal.tessellation import TessellationRule
from juxtum.plan.blind import Finish
from juxtum.plan.document import Plan
from juxtum.plan.targets import Target

FINE = TessellationRule(0.006, 0.08)
"""Chords of the made part that no scanner notices."""
BY_HAND = 0.6
"""Standard deviation of where a target is really stuck, mm: it is put there by hand with a ruler."""


@cache
def made_carrier() -> Nominal:
    """BC-220 as it was made, without the shroud's bump."""
    from juxtum.demo.carrier import build_carrier

    return Nominal.from_shape(build_carrier(truth().errors), rule=FINE)


def made_body(part: Nominal, plan: Plan, *, is_carrier: bool = False, seed: int = 0) -> Body:
    """A part before the stand-ins: its targets stuck where the plan says, as well as a hand can.

    Parameters
    ----------
    part : Nominal
        As it was made.
    is_carrier : bool
        BC-220 has a bump on its shroud besides.
    """
    body = Body.of(part, plan.stance, stuck(part, plan, seed), {n: Finish(f) for n, f in plan.finishes})
    diameter = plan.diameter or min(plan.instrument.targets.diameters if plan.instrument.targets else (6.0,))
    body = replace(body, target_diameter=diameter)
    if is_carrier:
        bump = truth().bump
        body = replace(body, relief=lambda places: bump_height(places, bump), expansion=10.5)
    return body


def stuck(part: Nominal, plan: Plan, seed: int = 0) -> tuple[Target, ...]:
    """The plan's targets on the made surface, a little beside where they should be."""
    planned = plan.placed
    if not planned:
        return ()
    rng = np.random.default_rng([seed, 9])
    places = np.array([t.place for t in planned])
    frames = np.array([orthonormal_frame(t.normal) for t in planned])
    places = places + np.einsum("nk,nkd->nd", rng.normal(0, BY_HAND, (len(planned), 2)), frames[:, :2])
    found = part.projector.project(places, np.array([t.normal for t in planned]), limit=5.0)
    return tuple(
        Target(foot if ok else place, t.normal, t.face, t.edge, t.is_locked)
        for t, place, foot, ok in zip(planned, places, found.feet, found.found, strict=True)
    )


def body_for(source: InputFile | None, nominal: Nominal, plan: Plan, seed: int = 0) -> Body:
    """What stands before the stand-ins for a nominal: BC-220 as it was made, any other part as it is drawn.

    Parameters
    ----------
    source : InputFile
        The nominal's file; the demo part is known by its content.
    """
    if source is not None and source.sha256 == content_hash(nominal_path("BC-220")):
        return made_body(made_carrier(), plan, is_carrier=True, seed=seed)
    return made_body(nominal, plan, seed=seed)
