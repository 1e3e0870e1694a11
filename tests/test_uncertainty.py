"""Budgets against simulation: what is drawn from the stated distributions scatters as the budget says, line by line."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import raised_sheet, sheet, top_of, turned
from juxtum.align.result import AXES, Alignment, no_alignment
from juxtum.demo.solids import box
from juxtum.evaluate import DecisionRule, Environment, Instrument, measure_deviation
from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.kinds import Given, Profile
from juxtum.evaluate.kinds.zones import SurfaceProfile
from juxtum.evaluate.uncertainty import Budget, Chain, CoatLayer, Contribution, Sampling, measured_length
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.instruments.models import shipped_instruments, stated_instrument
from juxtum.nominal import Nominal

pytestmark = pytest.mark.quick

DRAWS = 200_000
WITHIN = 0.02


def drawn(
    chain: Chain, length: float, sampling: float, alignment: float, face: int, rng: np.random.Generator
) -> Floats:
    """Errors (N,) of a distance, each cause drawn from its own distribution."""
    error = rng.normal(0, sampling, DRAWS) + rng.normal(0, alignment, DRAWS)
    instrument, room = chain.instrument, chain.environment
    assert instrument is not None
    most = instrument.a + instrument.b * length / 1000
    error += rng.uniform(-most, most, DRAWS)
    if instrument.certificate_u > 0:
        error += rng.normal(0, instrument.certificate_u / instrument.certificate_k, DRAWS)
    error += rng.normal(0, instrument.repeatability, DRAWS)
    if room.temperature is not None:
        # The length that comes out at 20 degrees, with another temperature and another expansion than those corrected with.
        warm = room.temperature + rng.normal(0, room.temperature_u, DRAWS)
        grows = (room.expansion + rng.normal(0, room.expansion_u, DRAWS)) * 1e-6
        measured = length * (1 + grows * (warm - 20))
        error += measured / (1 + room.expansion * 1e-6 * (room.temperature - 20)) - length
    for coat in chain.coats:
        if face and coat.is_on(face):
            error += rng.uniform(-coat.spread, coat.spread, DRAWS)
    return error


CASES = {
    "cold and short": (Chain(Instrument(a=0.01, b=0.02), Environment(temperature=20.0, temperature_u=0.2)), 80.0, 3),
    "warm and long": (Chain(Instrument(a=0.02, b=0.05), Environment(temperature=31.0, temperature_u=1.0)), 3200.0, 1),
    "frost": (Chain(Instrument(a=0.0, b=0.01), Environment(temperature=-5.0, temperature_u=0.5, expansion=23.0, expansion_u=2.0)), 900.0, 1),
    "certificate": (Chain(Instrument(a=0.015, b=0.0, certificate_u=0.012, certificate_k=2.0), Environment(temperature=None)), 400.0, 2),
    "comes back badly": (Chain(Instrument(a=0.01, b=0.02, repeatability=0.03), Environment(temperature=None)), 120.0, 1),
    "one coat": (Chain(Instrument(a=0.005, b=0.01), Environment(temperature=None), (CoatLayer((4,), 0.02, 0.012),)), 150.0, 4),
    "two coats": (Chain(Instrument(a=0.005, b=0.01), Environment(temperature=None), (CoatLayer((), 0.01, 0.006), CoatLayer((4, 5), 0.02, 0.01))), 150.0, 5),
    "coat elsewhere": (Chain(Instrument(a=0.005, b=0.01), Environment(temperature=None), (CoatLayer((4,), 0.02, 0.05),)), 150.0, 1),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_a_budget_is_how_far_simulated_values_scatter(name: str) -> None:
    chain, length, face = CASES[name]
    for number, (sampling, alignment) in enumerate(((0.004, 0.0), (0.001, 0.02), (0.0, 0.0))):
        errors = drawn(chain, length, sampling, alignment, face, np.random.default_rng([number, len(name)]))
        budget = chain.budget(length, Sampling(sampling, 50), alignment, face)
        assert budget.standard == pytest.approx(np.std(errors), rel=WITHIN), (name, sampling, alignment)
        assert abs(float(np.mean(errors))) < 0.01 * budget.standard + 1e-5, "nothing of it is a bias"


def test_the_two_figures_of_an_instrument_are_two_lines_of_the_budget() -> None:
    scanner = stated_instrument("handheld")
    assert scanner.repeatability > 0 and scanner.a > 0
    near, far = (
        Chain(scanner, Environment(temperature=None)).budget(length, Sampling(0.0, 9), 0.0) for length in (1.0, 2000.0)
    )
    (again,) = [[c.standard for c in b.contributions if c.source.startswith("repeatability")] for b in (near,)]
    assert again == [scanner.repeatability] and again == [
        c.standard for c in far.contributions if "repeatability" in c.source
    ]
    certified = scanner.certificate_u / scanner.certificate_k
    assert (
        near.standard == pytest.approx(np.hypot(scanner.standard(1.0), certified)) and far.standard > 3 * near.standard
    )
    for model in shipped_instruments():
        assert all(0 < chain.repeatability < chain.a / 2 for chain in model.chains), model.id


@pytest.mark.parametrize("name", CASES)
def test_a_form_knows_neither_place_nor_temperature(name: str) -> None:
    chain, length, face = CASES[name]
    form = chain.form_budget(length, Sampling(0.003, 50), face)
    sources = [c.source for c in form.contributions]
    assert not any("temperature" in s or s == "alignment" for s in sources)
    whole = chain.budget(length, Sampling(0.003, 50), 0.0, face)
    assert form.standard <= whole.standard + 1e-12
    assert {c.source for c in form.contributions} <= {c.source for c in whole.contributions}


def test_what_is_twice_the_offset_is_twice_as_unsure() -> None:
    """A face 0.03 mm off: by its distance, and as a zone; 95 of 100 instruments within their limit lie within both."""
    block = Nominal.from_shape(box((-40, -40, 0), (80, 80, 10)))
    flat = raised_sheet(sheet(1.5), np.full(len(sheet(1.5).points), 0.03))
    instrument = Chain(Instrument(a=0.02, b=0.0), Environment(temperature=20.0, temperature_u=0.0))
    given = Given(
        measure_deviation(flat, block, RigidTransform.identity()),
        Judgement(no_alignment(), instrument, DecisionRule.GUARDED),
    )
    face = (top_of(block),)
    plain = Profile(id="1", title="plain", faces=face, upper=0.1, lower=-0.1, least_seen=0).result(given)
    zone = SurfaceProfile(id="2", title="zone", faces=face, limit=0.2, least_seen=0).result(given)
    assert zone.value == pytest.approx(2 * plain.value, abs=2e-4) and zone.expanded == pytest.approx(
        2 * plain.expanded, rel=0.02
    )
    assert any(c.source.endswith(", twice") for c in zone.side.budget.contributions)
    seen_by = 2 * (0.03 + np.random.default_rng(1).uniform(-0.02, 0.02, 1000))
    assert np.mean(np.abs(seen_by - 0.06) <= zone.expanded) > 0.95 > np.mean(np.abs(seen_by - 0.06) <= plain.expanded)


@settings(deadline=None, max_examples=60)
@given(
    st.lists(st.tuples(st.floats(1e-6, 0.1), st.one_of(st.just(np.inf), st.floats(1.5, 200.0))), min_size=1, max_size=7)
)
def test_k_covers_and_never_falls_below_two(lines: list[tuple[float, float]]) -> None:
    budget = Budget(tuple(Contribution(str(k), u, f) for k, (u, f) in enumerate(lines)))
    assert budget.k >= 2.0 - 1e-12
    assert budget.expanded >= 2 * max(u for u, _ in lines) - 1e-12
    better = Budget(tuple(Contribution(str(k), u, f * 2) for k, (u, f) in enumerate(lines)))
    assert better.k <= budget.k + 1e-9, "more data never make it wider"


def test_few_data_are_covered_by_the_wider_k() -> None:
    """A spread estimated from five values covers 95 % only with k of Student's t."""
    rng = np.random.default_rng(9)
    values = rng.normal(0, 1, (40_000, 5))
    means, spreads = values.mean(1), values.std(1, ddof=1) / np.sqrt(5)
    k = Budget((Contribution("sampling", 1.0, 4.0),)).k
    assert np.mean(np.abs(means) <= k * spreads) == pytest.approx(0.9545, abs=0.004)
    assert np.mean(np.abs(means) <= 2 * spreads) < 0.9, "with k = 2 a tenth of them would be missed"


def test_what_is_not_known_is_not_small() -> None:
    chain = Chain(None, Environment(temperature=20.0))
    budget = chain.budget(100.0, Sampling(0.001, 9), 0.001)
    assert not budget.is_known and np.isnan(budget.expanded) and budget.usable == 0.0
    assert budget.contributions[0].source.startswith("no instrument") and np.isnan(budget.contributions[0].standard)


def test_the_length_runs_from_where_the_frame_came() -> None:
    bounds = np.array([[0.0, 0, 0], [3000, 100, 80]])
    end = np.array([3000.0, 50, 40])
    pose = turned((0, 0, 0), (0, 0, 0))
    spread = np.eye(6) * 1e-8
    fitted = Alignment(
        pose, "best fit", 0.01, 9000, spread, np.array([1500.0, 50, 40]), dict.fromkeys(AXES, "best fit")
    )
    assert measured_length(fitted, end, bounds) == pytest.approx(1500)
    by_datums = Alignment(
        pose, "datums", 0.01, 9000, spread, np.array([1500.0, 50, 40]), dict.fromkeys(AXES, "A"), (), (),
        np.array([[0.0, 50, 40], [100.0, 50, 40]]),
    )  # fmt: skip
    assert measured_length(by_datums, end, bounds) == pytest.approx(3000), (
        "from the farthest datum, not from the middle"
    )
    assert measured_length(no_alignment(), end, bounds) >= 3000


@pytest.mark.parametrize("ways", [2, 3])
@pytest.mark.parametrize("offset", [0.0, 0.5, 1.0, 2.0, 3.0, 6.0, 20.0])
def test_the_length_of_an_offset_is_covered_short_or_long(ways: int, offset: float) -> None:
    """Of an axis that is where it was drawn 86 % lie within two standard uncertainties, of a centre 74 %."""
    off = np.random.default_rng(3).normal(0, 1, (20_000, ways))
    off[:, 0] += offset
    values = np.linalg.norm(off, axis=1)
    budget = Budget((Contribution("sampling", 1.0),))
    wide = np.array([budget.of_offset(value, ways).expanded for value in values[:4000]])
    assert 0.945 <= np.mean(np.abs(values[:4000] - offset) <= wide) <= 0.995
    assert np.all(np.diff(wide[np.argsort(values[:4000])]) <= 1e-12) and wide.min() >= 2.0


def test_the_longest_of_several_short_offsets_is_covered() -> None:
    off = np.linalg.norm(np.random.default_rng(4).normal(0, 1, (4000, 5, 2)), axis=2).max(1)
    budget = Budget((Contribution("sampling", 1.0),))
    assert 0.945 <= np.mean(off <= [budget.of_offset(value, 2, 5).expanded for value in off]) <= 0.97


def test_what_is_no_offset_keeps_its_k() -> None:
    budget = Budget((Contribution("sampling", 0.01),))
    assert budget.of_offset(0.0, 1).k == 2.0 and budget.of_offset(1.0, 2).k == pytest.approx(2.0, abs=1e-3)
    assert not Budget((Contribution("none", float("nan")),), is_known=False).of_offset(0.0, 2).is_known
