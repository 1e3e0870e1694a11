"""What the desk proposes next, table by table, without a window."""

from __future__ import annotations

from dataclasses import dataclass, field
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from juxtum.align.result import AXES
from juxtum.guide.facts import doubtful_places, numbered_warnings, short, thousands
from juxtum.guide.findings import Key, finding
from juxtum.guide.next_actions import next_action, next_for_ready
from juxtum.job import Job, Procedure
from juxtum.job.steps import BestFit, DatumChoice, Datums, Join, Rough, Trim
from juxtum.logbook.go_list import GoItem, Standing
from juxtum.plan.document import Plan, PlannedTarget

pytestmark = pytest.mark.quick

THERE: Any = SimpleNamespace(name="there")


@dataclass
class Situation:
    """What is known of a job, as far as a proposal asks."""

    job: Job = field(default_factory=Job)
    nominal: Any = None
    part: Any = None
    scan: Any = None
    table: Any = None
    pieces: Any = None
    brought: Any = ()
    in_force: str = "best fit"
    evaluation: Any = None


def planned(*targets: PlannedTarget) -> Job:
    """A job whose plan has these targets."""
    return Job(plan=Plan(targets=targets))


TARGET = PlannedTarget(place=(0, 0, 0), normal=(0, 0, 1), face=1, edge=9.0)
DONE, TO_TICK, MISSING = Standing.DONE, Standing.TO_TICK, Standing.MISSING
READY = [
    ("nothing at all", Situation(), (), "bring nominal"),
    ("no plan", Situation(part=THERE), (), "plan targets"),
    ("a plan without targets", Situation(part=THERE, job=planned()), (), "plan targets"),
    ("the logbook opens", Situation(part=THERE, job=planned(TARGET)), (), "go capture"),
    ("all done", Situation(part=THERE, job=planned(TARGET)), (GoItem("stuck", "stuck", DONE),), "go capture"),
    ("to be ticked", Situation(part=THERE, job=planned(TARGET)), (GoItem("a", "a", DONE), GoItem("b", "coated", TO_TICK)), "tick next"),
    ("to be calibrated", Situation(part=THERE, job=planned(TARGET)), (GoItem("", "scanner calibrated", MISSING, "not today"),), "calibrate"),
    ("to be checked", Situation(part=THERE, job=planned(TARGET)), (GoItem("", "checked", MISSING, "no check"),), "check artefact"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "known", "items", "action"), READY, ids=[row[0] for row in READY])
def test_ready_proposes_what_is_open_first(name: str, known: Situation, items: tuple[GoItem, ...], action: str) -> None:
    proposed = next_for_ready(known, items)
    assert proposed.action == action and proposed.reason and proposed.button, name
    if name == "to be calibrated":
        assert (proposed.text, proposed.reason) == ("calibrate the scanner", "not today")


def aligned(*kinds: str, locked: dict[str, str], others: int = 0) -> Situation:
    """Aligned by some steps, with so much locked and so many other poses that fit."""
    made = {
        "rough": Rough(),
        "best fit": BestFit(start="rough"),
        "datums": Datums(name="A", start="best fit", datums=(DatumChoice(letter="A", faces=(1,)),)),
    }
    steps = tuple(made[kind] for kind in kinds)
    evaluation = SimpleNamespace(alignment=SimpleNamespace(locked=locked, alternatives=(THERE,) * others))
    return Situation(Job(procedure=Procedure(steps=steps)), THERE, THERE, THERE, evaluation=evaluation)


WHOLE = dict.fromkeys(AXES, "A")


@pytest.mark.parametrize(
    ("known", "action", "words"),
    [
        (Situation(nominal=THERE), "bring scan", "both sides"),
        (Situation(scan=THERE), "bring nominal", "both sides"),
        (Situation(nominal=THERE, scan=THERE), "align automatically", "from the shape"),
        (aligned("rough", "best fit", locked=WHOLE, others=1), "next pose", "1 other pose fit"),
        (aligned("rough", "best fit", locked=WHOLE, others=3), "next pose", "3 other poses fit"),
        (aligned("rough", "best fit", locked=WHOLE), "pick datums", "counts from its datums"),
        (aligned("rough", "best fit", "datums", locked=WHOLE), "go measure", "leaves nothing free"),
        (aligned("rough", "best fit", "datums", locked=WHOLE | {"Rz": "free"}), "go measure", "leaves Rz free"),
        (aligned("rough", "best fit", "datums", locked={"Tz": "A", "Rx": "A", "Ry": "A"}), "go measure", "leaves Tx, Ty, Rz free"),
    ],
)  # fmt: skip
def test_align_says_what_is_left_open(known: Situation, action: str, words: str) -> None:
    proposed = next_action(Key.ALIGN, known)
    assert proposed.action == action and words in proposed.reason


@pytest.mark.parametrize("key", list(Key))
def test_every_station_has_a_finding_and_a_proposal_for_an_empty_job(key: Key) -> None:
    said, proposed = finding(key, Situation()), next_action(key, Situation())
    assert said.text and said.text[0] == said.text[0].lower() and not said.text.endswith(".")
    assert proposed.text and proposed.reason and proposed.action and proposed.button[0].isupper()
    assert proposed.text[0] == proposed.text[0].lower(), "it follows 'Next:'"


def test_fragments_are_told_with_their_share_of_the_area() -> None:
    known = Situation(nominal=THERE, scan=THERE, pieces=SimpleNamespace(areas=np.array([900.0, 60.0, 40.0])))
    proposed = next_action(Key.ASSEMBLE, known)
    assert proposed.action == "drop pieces" and proposed.reason == "2 pieces hang in the air, 10.0 % of the area"
    known.pieces = SimpleNamespace(areas=np.array([900.0, 100.0]))
    assert next_action(Key.ASSEMBLE, known).reason.startswith("1 piece hangs in the air")
    known.pieces = SimpleNamespace(areas=np.array([900.0]))
    assert next_action(Key.ASSEMBLE, known).action == "go align"


@pytest.mark.parametrize(
    ("number", "said"), [(0, "0"), (999, "999"), (1000, "1 000"), (1234567, "1 234 567"), (-4321, "-4 321")]
)
def test_thousands_are_set_apart(number: int, said: str) -> None:
    assert thousands(number).replace("\u202f", " ").replace("\u2009", " ").replace("\xa0", " ") == said


def test_a_name_that_fits_stays_as_it_is() -> None:
    assert short("a" * 28) == "a" * 28 and len(short("a" * 29)) <= 28 and "\u2026" in short("a" * 29)


def test_without_an_evaluation_there_is_nothing_to_warn_of() -> None:
    assert doubtful_places(Situation()) == [] and numbered_warnings(Situation()) == []


def test_several_scans_are_cleaned_then_joined() -> None:
    """Before anything is aligned; one who measures them beside each other is not asked to."""
    two = (SimpleNamespace(name="scan"), SimpleNamespace(name="scan 2"))
    known = Situation(nominal=THERE, scan=THERE, table=THERE, brought=two)
    assert next_action(Key.ASSEMBLE, known).action == "clean scans"
    known.job = Job(procedure=Procedure(steps=(Trim(scan="scan"),)))
    assert next_action(Key.ASSEMBLE, known).action == "join scans"
    known.job = Job(procedure=Procedure(steps=(Trim(scan="scan"), Join(scans=("scan", "scan 2")))))
    assert next_action(Key.ASSEMBLE, known).action == "trim table"
    known.job = Job(procedure=Procedure(steps=(BestFit(),)))
    assert next_action(Key.ASSEMBLE, known).action == "trim table"
