"""Whether a plan keeps its promise: what it says will be captured, and what a capture by the stand-in then gives."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from benchmarks.planning import planners
from juxtum.capture.live.coverage import Seen
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.path.run import run_by_itself
from juxtum.demo.bodies import MADE, made_body
from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.link import DirectLink
from juxtum.devices.protocol import Message
from juxtum.plan.equipping import equipment_for_ways, ways, with_way
from juxtum.plan.planner import Planner, with_expectation
from juxtum.plan.targets.placer import Placer
from juxtum.plan.targets.targets import made_targets
from juxtum.plan.targets.ways import Way

COUNTS = {"BC-220": (10, 12, 14, 16, 18, 22), "HB-36": (120, 170, 0)}
"""Targets, grown one by one without being bettered; 0 stands for the plan as it is made."""
SEEDS = {"BC-220": (1, 2, 3), "HB-36": (1, 2)}
SPACING = 2.0
"""Coarse, mm: what is seen at all does not depend on it."""
MEMORY = 4e9
PHOTO_NOISE = 0.02
"""Of targets that photos measured beforehand, mm."""


def with_targets(planner: Planner, count: int) -> Planner:
    """The plan with so many targets and what it then promises; 0 for as many as it wants."""
    if count == 0:
        made = planner.planned()
    else:
        ground = planner.ground()
        places, choice = ground.choice(planner.rules())
        placer = Placer(ground, choice, planner.rules())
        placer.grow(1.0, most=count)
        made = planner.plan.with_targets(made_targets(places, placer.chosen))
        there = replace(planner, plan=made)
        made = with_expectation(there, there.assess())
    return replace(planner, plan=made.model_copy(update={"spacing": SPACING}))


def captured(planner: Planner, seed: int, *, made: str = "") -> CaptureSession:
    """A capture that runs by itself; where photos measure the targets first, the scanner is given their map."""
    body = made_body(planner.nominal, planner.plan, made, seed)
    link = DirectLink(HandheldScanner(body, planner.model, seed))
    session = CaptureSession(planner, MEMORY)
    if planner.ground().is_mapped:
        rng = np.random.default_rng(seed)
        rows = [
            [float(k), *map(float, t.place + rng.normal(0, PHOTO_NOISE, 3)), 10.0] for k, t in enumerate(body.targets)
        ]
        session.map.give(rows)
        link.send(Message("map", {"targets": rows, "fixed": True}))
        link.receive(30.0)
    run_by_itself(session, link)
    return session


def promise() -> Iterator[str]:
    """Promised and captured once, for several numbers of targets and seeds; JUXTUM_PARTS names one of the parts."""
    wanted = os.environ.get("JUXTUM_PARTS", "")
    for name, planner in planners():
        if wanted and wanted not in name:
            continue
        worst = 0.0
        for count in COUNTS[name]:
            made = with_targets(planner, count)
            assert made.plan.expected is not None
            promised, found = made.plan.expected.coverage, []
            begun = time.perf_counter()
            for seed in SEEDS[name]:
                found.append(captured(made, seed, made=name if name in MADE else "").coverage.share(Seen.ONE_PASS))
            worst = max(worst, *(abs(f - promised) for f in found))
            told = ", ".join(f"{100 * f:.1f}" for f in found)
            yield (
                f"{name}, {made.plan.targets_words}{'' if count else ' as planned'}: promised {100 * promised:.1f} %, "
                f"captured {told} % ({(time.perf_counter() - begun) / len(found):.0f} s each)"
            )
        for way in ways(planner) if equipment_for_ways(planner)[0] else ():
            if way.way in (Way.EQUIPMENT, Way.BOTH) and way.is_possible:
                there = replace(planner, plan=with_way(planner, way).model_copy(update={"spacing": SPACING}))
                assert there.plan.expected is not None
                promised = there.plan.expected.coverage
                found = [
                    captured(there, seed, made=name if name in MADE else "").coverage.share(Seen.ONE_PASS)
                    for seed in SEEDS[name]
                ]
                worst = max(worst, *(abs(f - promised) for f in found))
                told = ", ".join(f"{100 * f:.1f}" for f in found)
                yield f"{name}, {there.plan.targets_words}: promised {100 * promised:.1f} %, captured {told} %"
        yield f"{name}: largest difference {100 * worst:.1f} points of a hundred"
