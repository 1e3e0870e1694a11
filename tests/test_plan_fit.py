"""Which instrument: models as documents, suitability against hand calculations, holes, shape, spacing, effort."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import box_mesh
from juxtum.demo import solids
from juxtum.demo.beam_job import FACES as BEAM
from juxtum.demo.beam_job import beam_job
from juxtum.demo.job import FACES
from juxtum.errors import InputError
from juxtum.instruments.models import (
    ErrorChain,
    Kind,
    parse_instrument,
    read_instrument_model,
    shipped,
    shipped_instruments,
)
from juxtum.job import FileStore
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.cost.effort import estimate
from juxtum.plan.cost.spacing import finest_that_fits, price_spacings, spacing_needs
from juxtum.plan.holes import find_holes, thickness
from juxtum.plan.suitability import Fitness, FitnessLimits, SuitabilityTable, chain_chart, suitability
from juxtum.plan.targets.shape import alignment_spread, shape_hold
from juxtum.plan.task import Aim, Task, whole_part

HAND = shipped(Kind.HANDHELD)


def test_shipped_instruments_cover_every_kind_and_survive_a_round_trip(tmp_path: Path) -> None:
    models = shipped_instruments()
    assert {m.kind for m in models} == set(Kind)
    for model in models:
        path = tmp_path / f"{model.id}.json"
        path.write_text(model.model_dump_json(by_alias=True))
        assert read_instrument_model(path) == model


def changed(**update: object) -> bytes:
    """The handheld scanner's document with something else in it; a dotted name reaches into lists."""
    document = json.loads(HAND.model_dump_json(by_alias=True))
    for name, value in update.items():
        place, *keys = [int(k) if k.isdigit() else k for k in name.split("__")]
        target = document
        for key in (place, *keys)[:-1]:
            target = target[key]
        target[(place, *keys)[-1]] = value
    return json.dumps(document).encode()


@pytest.mark.parametrize(
    ("data", "sentence"),
    [
        (changed(chains__0__a=-0.02), "'chains.0.a' is not right: input should be greater than or equal to 0"),
        (changed(certificate_k=0), "'certificate_k' is not right: input should be greater than 0"),
        (changed(modes__0__stand_off=[300, 200, 400]), "the stand-off must be given as nearest, best, farthest"),
        (changed(modes__1__name="crossed lines"), "modes and methods must have names of their own"),
        (changed(chains__0__modes=["no such"]), "names a mode that does not exist: no such"),
        (changed(schema="juxtum-instrument-1"), "this document only knows a length error"),
        (changed(laser="green"), "'laser' is not right: extra inputs are not permitted"),
        (b"{", "invalid json"),
        (changed(modes__0__rate=float("nan")), "'modes.0.rate' is not right"),
    ],
)
def test_bad_instruments_are_refused_with_their_sentence(data: bytes, sentence: str) -> None:
    with pytest.raises(InputError) as problem:
        parse_instrument(data, "mine.json")
    assert sentence in problem.value.sentence and problem.value.sentence.startswith("mine.json: ")


def test_uncertainty_of_a_length_is_the_gum_sum_by_hand(beam: Nominal) -> None:
    task = task_of(beam_job(FileStore()))
    table = suitability(beam, task, [HAND])
    row = next(r for r in table.of_chain(HAND.name, "scanner alone") if r.aim.id == "7")
    centre = np.mean([beam.face(BEAM[n]).centre for n in ("first seat", "near hinge bore", "near hinge side")], axis=0)
    length = np.linalg.norm(beam.face_mesh([BEAM["far hinge bore"]]).points - centre, axis=1).max()
    assert row.length == pytest.approx(length)
    alone = HAND.chain("scanner alone")
    parts = {c.source.split(",")[0].split(" ")[0]: c.standard for c in row.budget.contributions}
    assert parts["instrument"] == pytest.approx((alone.a + alone.b * length / 1000) / np.sqrt(3))
    assert parts["certificate"] == pytest.approx(0.006 / 2)
    warm = task.environment.temperature - 20
    heat = np.hypot(0.8e-6 * length * abs(warm), 11.8e-6 * length * 0.8)
    assert parts["temperature"] == pytest.approx(heat)
    total = 2 * np.sqrt(sum(c.standard**2 for c in row.budget.contributions))
    assert row.expanded == pytest.approx(total) and row.ratio == pytest.approx(1.4 / (2 * total))


def test_verdicts_say_why_and_name_the_cheapest_good_chain(beam: Nominal) -> None:
    models = shipped_instruments()
    table = suitability(beam, task_of(beam_job(FileStore())), models)
    alone, barred = (
        next(r for r in table.of_chain(HAND.name, n) if r.aim.id == "7")
        for n in ("scanner alone", "with photo set and bars")
    )
    assert alone.verdict is Fitness.NOT_SUITABLE and "mostly by the instrument" in alone.reason
    assert barred.verdict is Fitness.GOOD and table.cheapest("7") == barred
    reasons = {r.instrument.split()[0]: r.reason for r in table.of_aim("7")}
    assert reasons["Tomography"].startswith("the method's error is stated up to 300 mm")
    assert reasons["Photo"] == "it measures targets, not the surface"
    deep = next(r for r in table.of_aim("6") if r.instrument == HAND.name)
    assert "the hole is 3.5 diameters deep" in deep.reason and table.cheapest("6") is None
    strict = suitability(beam, task_of(beam_job(FileStore())), [HAND], FitnessLimits(good=20, usable=10))
    assert (
        next(r for r in strict.of_chain(HAND.name, "with photo set and bars") if r.aim.id == "7").verdict
        is Fitness.NOT_SUITABLE
    )
    sentences = chain_chart(table, models).sentences(table)
    assert "Handheld scanner WH-3: with bars the length error at 3.35 m falls from 0.241 to 0.081 mm" in sentences
    assert "without bars, characteristics 3, 4, 5, 7 are not suitable for Handheld scanner WH-3" in sentences


@cache
def long_box() -> SuitabilityTable:
    return suitability(Nominal.from_mesh(box_mesh((2000.0, 30.0, 20.0))), whole_part(-1, 1), [HAND])


@settings(deadline=None)
@given(st.floats(0, 0.2), st.floats(0, 0.2), st.floats(0, 0.2), st.floats(0, 0.2))
def test_crossings_are_where_both_chains_are_equal(a: float, b: float, c: float, d: float) -> None:
    one, two = ErrorChain(name="one", a=a, b=b), ErrorChain(name="two", a=c, b=d)
    model = HAND.model_copy(update={"chains": (one, two)})
    for crossing in chain_chart(long_box(), [model]).crossings:
        assert one.error(crossing.length) == pytest.approx(two.error(crossing.length), abs=1e-9)
        below = crossing.length / 2
        first, second = (one, two) if crossing.first.endswith("one") else (two, one)
        assert first.error(below) <= second.error(below) + 1e-12


def test_holes_are_found_with_depth_and_openness(nominal: Nominal, beam: Nominal) -> None:
    holes = {face: hole for part in (nominal,) for hole in find_holes(part) for face in hole.faces}
    bolt = holes[FACES["bolt hole 1"]]
    assert (bolt.diameter, bolt.depth, bolt.is_through) == (pytest.approx(14), pytest.approx(13), True)
    bore = holes[FACES["bore"]]
    assert bore.diameter == pytest.approx(72) and bore.is_through
    blind = [h for h in find_holes(nominal) if not h.is_through]
    assert len(blind) == 2 and all(h.depth == pytest.approx(22) and h.ratio == pytest.approx(2.2) for h in blind)
    sheet = [h for h in find_holes(beam) if h.depth < 4]
    assert len(sheet) == 8 and all(h.diameter == pytest.approx(18) and h.depth == pytest.approx(3) for h in sheet)
    rows = np.flatnonzero(beam.samples.faces + 1 == 17)[:50]
    assert np.median(thickness(beam, rows)) == pytest.approx(10, abs=0.01), "the web is 10 mm thick"


def test_shape_names_the_motions_that_it_does_not_hold(nominal: Nominal) -> None:
    plane = shape_hold(nominal, (FACES["underside"],))
    assert set(plane.free) == {"free to slide along X", "free to slide along Y"} | {
        m for m in plane.free if "turn about Z" in m
    }
    assert len(plane.free) == 3
    bore = shape_hold(nominal, (FACES["bore"],))
    assert (
        "free to slide along Y" in bore.free
        and any(m.startswith("free to turn about Y") for m in bore.free)
        and len(bore.free) == 2
    )
    assert shape_hold(nominal).is_enough


def test_predicted_alignment_spread_agrees_with_a_simulation(nominal: Nominal) -> None:
    hold = shape_hold(nominal, (FACES["underside"], FACES["bore"], FACES["seat end"]))
    rng = np.random.default_rng(4)
    rows = np.flatnonzero(np.isin(nominal.samples.faces + 1, (FACES["underside"], FACES["bore"], FACES["seat end"])))
    area = nominal.samples.mesh.triangle_areas[rows]
    rows = rng.choice(rows, 4000, p=area / area.sum())
    points, normals = nominal.samples.centres[rows], nominal.samples.mesh.triangle_normals[rows]
    jacobian = np.concatenate([normals, np.cross(points - hold.centre, normals)], axis=1)
    solve = np.linalg.pinv(jacobian)
    spot = np.array([[130.0, 90.0, 140.0]])
    moves = np.array([solve @ rng.normal(0, 0.02, len(rows)) for _ in range(1500)])
    shift = moves[:, :3] + np.cross(moves[:, 3:], spot - hold.centre)
    worst = np.sqrt(np.linalg.eigvalsh(np.cov(shift.T))[-1])
    assert alignment_spread(hold, 4000.0, 0.02, spot)[0] == pytest.approx(worst, rel=0.08)


def test_spacing_follows_the_smallest_feature_and_is_priced(beam: Nominal) -> None:
    task = task_of(beam_job(FileStore()))
    needs = {n.aim: n for n in spacing_needs(beam, task)}
    assert needs["5"].spacing == pytest.approx(1.0) and needs["5"].reason == "3 rings on the 3.0 mm wall of face 52"
    prices = price_spacings(beam, task, HAND, HAND.modes[0], 24e9)
    fine, mixed, coarse = prices
    assert fine.serves and mixed.serves and not coarse.serves
    assert fine.effort.points > 3 * mixed.effort.points > 2.9 * coarse.effort.points
    assert fine.effort.capture > mixed.effort.capture >= coarse.effort.capture
    finest = finest_that_fits(beam, task, HAND, HAND.modes[0], 8e9)
    area = beam.area
    assert estimate([(area, finest)], HAND, HAND.modes[0]).peak == pytest.approx(0.7 * 8e9, rel=1e-3)


def test_a_zone_and_the_limits_that_mean_the_same_fit_an_instrument_alike(beam: Nominal) -> None:
    """0.2 mm wide, or 0.1 to either side; what is said of the first is of twice what lies off."""
    faces = (BEAM["first seat"],)
    task = Task((Aim("1", "limits", 0.2, faces), Aim("2", "zone", 0.2, faces, counts=2.0)))
    limits, zone = (suitability(beam, task, [HAND]).of_aim(aim)[0] for aim in ("1", "2"))
    assert zone.expanded == pytest.approx(2 * limits.expanded) and zone.ratio == pytest.approx(limits.ratio)
    assert zone.verdict is limits.verdict and "times U" in zone.reason and "times 2U" in limits.reason


def test_a_shoulder_is_as_wide_as_its_ring() -> None:
    """4 mm between its edges, though 60 across; where the part as a whole is meant its small faces do not decide."""
    turned = Nominal.from_shape(
        solids.fused(
            solids.cylinder((0, 0, 0), (0, 0, 1), 30.0, 20.0), [solids.cylinder((0, 0, 20), (0, 0, 1), 26.0, 40.0)]
        )
    )
    ring = next(f.number for f in turned.faces if abs(f.area - np.pi * (30**2 - 26**2)) < 5)
    aims = (Aim("1", "shoulder", 0.1, (ring,)), Aim("2", "all", 0.2, ()))
    named, whole = spacing_needs(turned, Task(aims))
    assert named.spacing == pytest.approx(0.8, rel=0.1) and whole.spacing > 1.5


@given(st.floats(0.2, 2.0), st.floats(1e3, 1e7))
def test_points_grow_with_area_and_with_the_square_of_fineness(spacing: float, area: float) -> None:
    mode = HAND.modes[0]
    one, four = estimate([(area, spacing)], HAND, mode), estimate([(area, spacing / 2)], HAND, mode)
    assert four.points == pytest.approx(4 * one.points) and four.peak == pytest.approx(4 * one.peak)
    assert four.capture >= one.capture
    both = estimate([(area, spacing), (area, spacing)], HAND, mode)
    assert both.points == pytest.approx(2 * one.points) and both.capture == pytest.approx(2 * one.capture)


def test_a_task_without_characteristics_or_with_faces_that_are_not_there_is_refused(nominal: Nominal) -> None:
    with pytest.raises(InputError, match="nothing to measure"):
        Task(()).check(nominal)
    with pytest.raises(InputError, match="no face 999"):
        Task((Aim("1", "x", 2.0, (999,)),)).check(nominal)
