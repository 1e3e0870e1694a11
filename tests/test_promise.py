"""What a plan promises is what a capture gives, with enough targets and with too few; and views hang together or are not counted."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from benchmarks.promise import captured, with_targets

from juxtum.capture.live.coverage import Seen
from juxtum.capture.live.patch import Patch, Zone
from juxtum.capture.live.points import Budget, PointStore
from juxtum.capture.live.promised import _nearest_patch, _why, hold_against
from juxtum.capture.live.session import CaptureSession
from juxtum.devices.protocol import POINT
from juxtum.geometry import RigidTransform
from juxtum.instruments.models import Kind, shipped
from juxtum.job import FileStore
from juxtum.job.planning import task_of
from juxtum.nominal import Nominal
from juxtum.plan.document import Plan
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner
from juxtum.plan.targets.assess import assess
from juxtum.plan.targets.covering import ALLOWANCE
from juxtum.plan.targets.linking import Sighted, state_of
from juxtum.plan.targets.targets import arrays

WITHIN = 0.02


@pytest.fixture(scope="module")
def planner(nominal: Nominal) -> Planner:
    from juxtum.demo.job import demo_job

    job = demo_job(FileStore(), with_scan=False)
    assert job.plan is not None
    return Planner(nominal, task_of(job), job.plan, Grounds())


@pytest.fixture(scope="module")
def planned(planner: Planner) -> Planner:
    return replace(planner, plan=planner.planned())


@pytest.mark.parametrize("count", [0, pytest.param(12, marks=pytest.mark.long)])
def test_a_capture_gives_what_the_plan_promised(planner: Planner, count: int) -> None:
    coarse = with_targets(planner, count)
    assert coarse.plan.expected is not None
    session = captured(coarse, 5, made="BC-220")
    promised = coarse.plan.expected.coverage
    assert session.coverage.share(Seen.ONE_PASS) == pytest.approx(promised, abs=WITHIN)
    assert (promised > 0.98) == (count == 0), "and too few are known to be too few"
    held = hold_against(session)
    assert held.kept + held.more == pytest.approx(session.coverage.share(Seen.ONE_PASS), abs=1e-6)
    assert held.missing < (0.03 if count == 0 else 0.12) and all(s.why and s.area > 0 for s in held.shortfalls)
    assert held.words.startswith("As promised ")


def test_what_was_promised_and_did_not_come_is_named_with_its_reason(planned: Planner) -> None:
    """Nothing scanned, one position alone, and a target that nobody stuck."""
    session = CaptureSession(replace(planned, plan=planned.plan.model_copy(update={"spacing": 2.0})), 1e9)
    nothing = hold_against(session)
    assert nothing.kept == 0 and nothing.missing > 0.95
    assert {s.why for s in nothing.shortfalls} == {"the part was not scanned in position 1"} or len(
        nothing.shortfalls
    ) == 6
    store = PointStore(Budget(1e9))
    store.add(np.zeros(1, dtype=POINT), RigidTransform.identity())
    session.patches.append(Patch(1, 0, "", 2.0, store, np.zeros(len(session.cells.areas))))
    whys = {s.why.split(";")[0] for s in hold_against(session).shortfalls}
    assert "nothing came from there" in whys, whys
    ground = planned.ground()
    upright = ground.covers[ground.views.setups == 0].any(0)
    below = np.flatnonzero(~upright[_nearest_patch(planned, session.cells.places, session.cells.faces)])
    assert len(below) and _why(session, np.isin(np.arange(len(session.cells.areas)), below)).startswith(
        "the part was not scanned in position 2"
    )


def test_a_casting_of_this_size_needs_a_score_of_targets(planned: Planner) -> None:
    a = planned.assess()
    assert 8 <= len(planned.plan.targets) <= 24 and a.share >= 0.98 and a.broken == 0
    assert len(a.indispensable) <= 2, "the loss of one costs little, but for those that the sheet names"
    for number in range(1, len(a.targets) + 1):
        left = tuple(t for k, t in enumerate(a.targets, 1) if k != number)
        lost = a.share - assess(planned.ground(), planned.rules(), left).share
        assert lost == pytest.approx(a.facts[number - 1].cost, abs=1e-9), "what its loss costs was foretold"
        assert (lost > ALLOWANCE) == (number in a.indispensable)


def test_views_that_share_no_targets_do_not_count(planned: Planner) -> None:
    """The targets of one end and of the other, without those that tie them: only one end is promised."""
    ground, places = planned.ground(), arrays(planned.plan.placed)[0]
    order = np.argsort(places[:, 0])
    ends = np.r_[order[:6], order[-6:]]
    spots = ground.spots(*(a[ends] for a in arrays(planned.plan.placed)))
    seen = ground.seen_targets(*(a[ends] for a in arrays(planned.plan.placed)))
    left, right = np.arange(12) < 6, np.arange(12) >= 6
    apart = seen & ~(seen[:, left].any(1) & seen[:, right].any(1))[:, None]
    stays = np.ones(12, dtype=bool)
    state = state_of(ground, Sighted(spots, apart, stays))
    both = state.linkage.known[left].any() and state.linkage.known[right].any()
    assert not both and state.tracking.holds.sum() > state.linkage.poses.sum()
    assert state_of(ground.mapped, Sighted(spots, apart, stays)).linkage.poses.sum() == state.tracking.holds.sum(), (
        "targets that photos measured before need no chain of views"
    )


def test_a_plan_on_nothing_promises_nothing(nominal: Nominal, planner: Planner) -> None:
    a = planner.assess()
    assert planner.plan.targets == () and a.share == 0 and a.weakest is not None
    assert a.weakest_words == "no target in view"
    none = Planner(nominal, planner.task, Plan(instrument=shipped(Kind.HANDHELD)), Grounds())
    assert not none.holding().any()


def test_faces_that_were_to_be_finer_are_named_until_they_are(planned: Planner) -> None:
    session = CaptureSession(planned, 1e9)
    session.map.locate(RigidTransform.identity())
    offer = next(p for p in planned.prices() if p.refined)
    coarse = hold_against(session)
    assert coarse.coarse == offer.refined and f"points {offer.fine:g} mm apart on faces 1, " in coarse.words
    store, number = PointStore(Budget(1e9)), offer.refined[0]
    store.add(np.zeros(1, dtype=POINT), RigidTransform.identity())
    centre = planned.nominal.face(number).centre
    zone = Zone((float(centre[0]), float(centre[1]), float(centre[2])), 3.0)
    session.patches.append(Patch(1, 0, "", offer.fine, store, np.zeros(len(session.cells.areas)), zone))
    assert number not in hold_against(session).coarse and hold_against(session).document()["coarse"]
