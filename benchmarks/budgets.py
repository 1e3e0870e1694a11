"""Budgets beside what many scans with fresh errors show: no line may say less than its values miss the truth by."""

from __future__ import annotations

import os
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from typing import Any

import numpy as np

from juxtum.align.result import no_alignment
from juxtum.demo import solids
from juxtum.evaluate import DecisionRule, measure_deviation
from juxtum.evaluate.bodies import cut_fine
from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.kinds import Given, Kind
from juxtum.evaluate.typed import typed_characteristic, typed_datum
from juxtum.evaluate.uncertainty import Chain
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.instruments import Environment, Instrument
from juxtum.nominal import Nominal

SCANS = int(os.environ.get("JUXTUM_SCANS", "240"))
NOISE, OFF = 0.01, 0.1
"""mm: of errors that are alike over cubes of 1 mm; and by which one hole lies off along X and along Y."""
DATUMS = {"A": "foot", "B": "front", "C": "left", "D": "far"}
LINES = (
    "diameter \u00b10.1 of {hole}", "diameter \u00b10.1 of {far}", "width \u00b10.1 of {front}|{back}", "width \u00b10.1 of {left}|{right}",
    "width \u00b10.1 of {foot}|{top}", "distance \u00b10.1 of {hole}|{far}", "distance \u00b10.1 x A|B|C of {hole}|{far}",
    "distance \u00b10.1 y A|B|C of {hole}|{far}", "distance \u00b10.1 z A|B|C of {foot}|{top}", "distance \u00b10.1 of {front}|{back}",
    "distance \u00b10.1 of {left}|{hole}", "distance \u00b10.1 of {front}|{far}", "distance \u00b10.1 y A|B|C of {front}|{hole}",
    "distance \u00b10.1 of {cone}|{hole}", "position d0.5 A|B|C of {hole}", "position d0.5 A|B of {hole}", "coaxiality d0.5 D of {hole}",
    "concentricity d0.5 D of {hole}", "cone-angle \u00b10.5 of {cone}", "angle \u00b10.5 of {front}|{left}", "angle \u00b10.5 of {foot}|{hole}",
    "position d0.5 A|B|C of {cone}", "perpendicularity d0.5 A of {hole}",
)  # fmt: skip


def part() -> tuple[Nominal, dict[str, int]]:
    """A plate with two holes and a cone between them, and the numbers of its faces by what they are."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    holes = [solids.cylinder((x, y, -1), (0, 0, 1), r, 40) for x, y, r in ((25.0, 30.0, 10.0), (95.0, 24.0, 8.0))]
    sink = BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(60, 40, 8), gp_Dir(0, 0, 1)), 4.0, 10.0, 12.0).Shape()
    nominal = Nominal.from_shape(solids.cut(solids.box((0, 0, 0), (120, 60, 20)), [*holes, sink]))
    planes = {
        "foot": (60, 30, 0), "top": (60, 30, 20), "front": (60, 0, 10), "back": (60, 60, 10), "left": (0, 30, 10), "right": (120, 30, 10),
    }  # fmt: skip
    named = {
        name: min(nominal.faces, key=lambda f: float(np.linalg.norm(f.centre - place))).number
        for name, place in planes.items()
    }
    round_ones = sorted((f for f in nominal.faces if f.kind == "cylinder"), key=lambda f: f.centre[0])
    named |= {"hole": round_ones[0].number, "far": round_ones[1].number}
    return nominal, named | {"cone": next(f.number for f in nominal.faces if f.kind == "cone")}


def lines(nominal: Nominal, named: dict[str, int]) -> list[Kind]:
    """What is measured."""
    datums = {letter: typed_datum(f"{letter}={named[name]} gauss", nominal) for letter, name in DATUMS.items()}
    return [typed_characteristic(text.format(**named), "1", nominal, datums, {}) for text in LINES]


def scanned(nominal: Nominal, seed: int, noise: float = NOISE) -> Given:
    """A scan by an instrument without error; without noise the truth."""
    fine = cut_fine(nominal.mesh, 2.0)
    cells = np.unique(np.floor(fine.points).astype(int), axis=0, return_inverse=True)[1].ravel()
    off = np.random.default_rng(seed).normal(0, noise, cells.max() + 1)[cells]
    near = np.hypot(fine.points[:, 0] - 25, fine.points[:, 1] - 30) < 10.01
    points = fine.points + off[:, None] * fine.normals + near[:, None] * np.array([OFF, OFF, 0.0])
    perfect = Chain(Instrument(a=0.0, b=0.0), Environment(temperature=20.0, temperature_u=0.0))
    judgement = Judgement(no_alignment(), perfect, DecisionRule.GUARDED)
    scan = TriangleMesh(points, fine.triangles)
    return Given(measure_deviation(scan, nominal, RigidTransform.identity()), judgement)


_KNOWN: dict[str, Any] = {}


def _measured(seed: int) -> list[tuple[float, float]]:
    """Value and standard uncertainty of each line in one scan; the part is made once in each process."""
    if not _KNOWN:
        nominal, named = part()
        _KNOWN.update(nominal=nominal, lines=lines(nominal, named))
    given = scanned(_KNOWN["nominal"], seed, NOISE if seed else 0.0)
    results = [one.result(given) for one in _KNOWN["lines"]]
    return [(r.value, r.budget.standard) for r in results]


def budgets() -> Iterator[str]:
    """Standard uncertainty said over what the values miss the truth by, root mean square; a scan without noise is the truth."""
    with ProcessPoolExecutor(os.cpu_count(), get_context("spawn")) as pool:
        found = np.array(list(pool.map(_measured, range(SCANS + 1))))
    known = 1 / np.sqrt(2 * SCANS)
    yield f"{SCANS} scans; each ratio is known to {100 * known:.0f} %"
    within = 0
    for text, truth, rows in zip(LINES, found[0, :, 0], np.moveaxis(found[1:], 1, 0), strict=True):
        ratio = _ratio(rows, truth)
        within += abs(ratio - 1) <= 0.1 + known
        yield f"{text:45s} said / missed by {ratio:.2f}, within value +- U {100 * _held(rows, truth):.0f} %"
    yield f"{within} of {len(LINES)} within 10 % (and what the scans do not tell)"


def _ratio(rows: Floats, truth: float) -> float:
    return float(np.sqrt(np.mean(rows[:, 1] ** 2) / np.mean((rows[:, 0] - truth) ** 2)))


def _held(rows: Floats, truth: float) -> float:
    return float(np.mean(np.abs(rows[:, 0] - truth) <= 2 * rows[:, 1]))
