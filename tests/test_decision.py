"""Verdicts, rulers, budgets, characteristics and numbers as people read them."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import box_mesh
from juxtum.align.result import no_alignment
from juxtum.errors import InputError
from juxtum.evaluate import DecisionRule, Environment, Instrument, Verdict, decide, measure_deviation
from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.decision import probability_conforming
from juxtum.evaluate.kinds import Given, Profile
from juxtum.evaluate.ruler import lay_out
from juxtum.evaluate.uncertainty import Budget, Chain, Contribution, Sampling
from juxtum.geometry import RigidTransform
from juxtum.nominal import Nominal
from juxtum.units import Unit, guess_unit, parse_length
from juxtum.wording import decimals_for, measured, signed, tolerance, uncertainty

pytestmark = pytest.mark.quick

SIMPLE, GUARDED = DecisionRule.SIMPLE, DecisionRule.GUARDED


@pytest.mark.parametrize(
    ("value", "expanded", "rule", "verdict"),
    [
        (0.15, 0.03, GUARDED, Verdict.CONFORMS),
        (0.17, 0.03, GUARDED, Verdict.CONFORMS),
        (0.171, 0.03, GUARDED, Verdict.NOT_DECIDED),
        (0.229, 0.03, GUARDED, Verdict.NOT_DECIDED),
        (0.231, 0.03, GUARDED, Verdict.DOES_NOT_CONFORM),
        (-0.3, 0.03, GUARDED, Verdict.DOES_NOT_CONFORM),
        (0.2, 0.03, SIMPLE, Verdict.CONFORMS),
        (0.2001, 0.03, SIMPLE, Verdict.DOES_NOT_CONFORM),
    ],
)
def test_verdicts(value: float, expanded: float, rule: DecisionRule, verdict: Verdict) -> None:
    assert decide(value, expanded, -0.2, 0.2, rule).verdict is verdict


@given(st.floats(-1, 1), st.floats(0.001, 0.3), st.floats(0.01, 0.5))
def test_guarded_is_never_more_lenient_than_simple(value: float, expanded: float, limit: float) -> None:
    simple, guarded = (decide(value, expanded, -limit, limit, rule) for rule in (SIMPLE, GUARDED))
    assert guarded.verdict in (simple.verdict, Verdict.NOT_DECIDED)
    assert 0 <= guarded.probability <= 1
    if guarded.verdict is Verdict.CONFORMS:
        assert guarded.probability > 0.95


def test_probability_is_that_of_a_normal_variable() -> None:
    rng = np.random.default_rng(0)
    drawn = rng.normal(0.18, 0.02, 400_000)
    share = float(((drawn > -0.2) & (drawn < 0.2)).mean())
    assert probability_conforming(0.18, 0.02, -0.2, 0.2) == pytest.approx(share, abs=0.003)


def test_budget_is_the_root_of_the_sum_of_squares() -> None:
    chain = Chain(
        Instrument(a=0.02, b=0.04, certificate_u=0.006, certificate_k=2), Environment(temperature=25, temperature_u=1.0)
    )
    budget = chain.budget(500.0, Sampling(0.004, 50), 0.002)
    by_hand = [0.04 / math.sqrt(3), 0.003, 0.004, 0.002, math.hypot(1e-6 * 500 * 5, 10.5e-6 * 500)]
    assert [c.standard for c in budget.contributions] == pytest.approx(by_hand)
    assert budget.expanded == pytest.approx(2 * math.sqrt(sum(u * u for u in by_hand)))


@pytest.mark.parametrize(
    ("few", "many", "k"),
    [(0.01, 0.0, 3.307), (0.01, 0.01, 2.231), (0.01, 0.1, 2.0), (0.0, 0.01, 2.0)],
)
def test_k_grows_where_few_data_speak(few: float, many: float, k: float) -> None:
    """Student's t for 95.45 % with the effective degrees of freedom of Welch and Satterthwaite (GUM, tables G.2): 3 alone, 12 together."""
    budget = Budget((Contribution("sampling", few, 3.0), Contribution("instrument", many)))
    assert budget.k == pytest.approx(k, abs=0.001)
    assert budget.expanded == pytest.approx(budget.k * math.hypot(few, many))


def test_profile_of_an_offset_box_and_of_what_was_not_seen() -> None:
    nominal = Nominal.from_mesh(box_mesh())
    scan = box_mesh((40.2, 30.2, 20.2), cuts=6)
    top = scan.kept_triangles(scan.triangle_normals[:, 2] > 0.9)
    judgement = Judgement(no_alignment(), Chain(Instrument(a=0.02, b=0.04), Environment(temperature=20.0)), GUARDED)
    deviation = measure_deviation(scan, nominal, RigidTransform.identity())
    found = Profile(id="1", title="all").result(Given(deviation, judgement))
    assert found.value == pytest.approx(0.1, abs=1e-6) and found.verdict is Verdict.CONFORMS
    assert [s.side for s in found.measured.sides] == ["upper", "lower"] and found.side.side == "upper"
    only_top = measure_deviation(top, nominal, RigidTransform.identity())
    face = next(f.number for f in nominal.faces if f.feature is not None and f.feature.normal[2] < -0.9)  # type: ignore[union-attr]
    hidden = Profile(id="2", title="below", faces=(face,)).result(Given(only_top, judgement))
    assert hidden.verdict is Verdict.NOT_DECIDED and hidden.reason == "the scan does not show it"
    whole = Profile(id="1", title="all").result(Given(only_top, judgement))
    assert whole.verdict is Verdict.NOT_DECIDED and "% of its area was seen, and 90 % must be" in whole.reason
    enough = Profile(id="1", title="all", least_seen=0.1).result(Given(only_top, judgement))
    assert enough.verdict is Verdict.CONFORMS, "its own limit says otherwise"


@given(st.floats(-5, 5), st.floats(0.001, 2))
def test_ruler_stays_on_its_line(value: float, expanded: float) -> None:
    r = lay_out(-0.2, 0.2, value, expanded)
    places = (*r.zone, *r.safe, *r.ticks, r.dot or 0.0, *(r.whisker or ()))
    assert all(0 <= p <= 1 for p in places)


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("0,2", 0.2),
        ("-0.2", -0.2),
        ("\u22120,2 mm", -0.2),
        ("1/64 in", 25.4 / 64),
        ("2 cm", 20),
        (".5", 0.5),
        ('1"', 25.4),
        ("1e-2", 0.01),
    ],
)
def test_lengths_as_people_type_them(text: str, value: float) -> None:
    assert parse_length(text) == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "x", "1/0", "nan", "1 2", "1.2.3", "5 ell"])
def test_lengths_that_are_none(text: str) -> None:
    with pytest.raises(InputError):
        parse_length(text)


def test_units_are_guessed_by_size() -> None:
    assert [guess_unit(320 / u.millimetres, 330.0) for u in Unit] == list(Unit)


def test_numbers_deserve_their_digits() -> None:
    assert measured(0.46372, 0.0304) == "+0.464" and uncertainty(0.0304) == "0.030"
    assert measured(-1.23456, 0.23) == "\u22121.23"
    assert decimals_for(0.0) == 3 and signed(math.nan) == "\u2013"
    assert tolerance(-0.2, 0.2) == "\u00b10.2" and tolerance(0.0, 0.3) == "+0.3 / 0"
