"""Budgets checked by drawing scans anew: on constructed data they agree, and what was left out of one shows."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel, QPushButton

from hand import Hand
from helpers import JUDGEMENT, write_bracket
from juxtum.cli import main
from juxtum.demo import solids
from juxtum.errors import InputError
from juxtum.evaluate import measure_deviation
from juxtum.evaluate.bodies import cut_fine
from juxtum.evaluate.kinds import Given, Kind, Profile
from juxtum.evaluate.simulated import Simulated, _besides, simulate
from juxtum.evaluate.typed import typed_characteristic, typed_datum
from juxtum.evaluate.uncertainty import Budget, Contribution, LineOrigin
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.guide.findings import Key
from juxtum.guide.simulated import simulated_words
from juxtum.nominal import Nominal

LINES = (
    "diameter \u00b10.1 of {far}", "position d0.5 A|B|C of {hole}", "distance \u00b10.1 x A|B|C of {hole}|{far}",
    "distance \u00b10.1 y A|B|C of {hole}|{far}", "width \u00b10.1 of {front}|{back}",
)  # fmt: skip


@pytest.fixture(scope="module")
def part() -> Nominal:
    holes = [solids.cylinder((x, y, -1), (0, 0, 1), r, 40) for x, y, r in ((25.0, 30.0, 10.0), (95.0, 24.0, 8.0))]
    return Nominal.from_shape(solids.cut(solids.box((0, 0, 0), (120, 60, 20)), holes))


@pytest.fixture(scope="module")
def named(part: Nominal) -> dict[str, int]:
    def face(*where: float) -> int:
        return min(part.faces, key=lambda f: float(np.linalg.norm(f.centre - where))).number

    planes = {"foot": (60, 30, 0), "top": (60, 30, 20), "front": (60, 0, 10), "back": (60, 60, 10), "left": (0, 30, 10)}
    holes = sorted((f for f in part.faces if f.kind == "cylinder"), key=lambda f: f.centre[0])
    return {name: face(*where) for name, where in planes.items()} | {"hole": holes[0].number, "far": holes[1].number}


def scanned(part: Nominal, seed: int, noise: float = 0.01) -> Given:
    """Errors that are alike over cubes of 1 mm, with holes drawn 0.1 mm off so that no offset is nothing."""
    fine = cut_fine(part.mesh, 2.0)
    cells = np.unique(np.floor(fine.points).astype(int), axis=0, return_inverse=True)[1].ravel()
    off = np.random.default_rng(seed).normal(0, noise, cells.max() + 1)[cells]
    near = np.hypot(fine.points[:, 0] - 25, fine.points[:, 1] - 30) < 10.01
    points = fine.points + off[:, None] * fine.normals + near[:, None] * np.array([0.1, 0.1, 0.0])
    return Given(measure_deviation(TriangleMesh(points, fine.triangles), part, RigidTransform.identity()), JUDGEMENT)


@pytest.fixture(scope="module")
def given(part: Nominal) -> Given:
    return scanned(part, 1)


def line(text: str, part: Nominal, named: dict[str, int]) -> Kind:
    plane = {"A": "foot", "B": "front", "C": "left"}
    datums = {letter: typed_datum(f"{letter}={named[name]} gauss", part) for letter, name in plane.items()}
    return typed_characteristic(text.format(**named), "1", part, datums, {})


def test_budgets_agree_with_the_simulation(part: Nominal, named: dict[str, int], given: Given) -> None:
    """None is told too small; all together they are what the draws scatter."""
    ratios = {}
    for text in LINES:
        found = simulate(line(text, part, named), given, 30)
        ratios[text] = found.budget.standard / found.standard
        assert len(found.values) == 30 and abs(np.median(found.values) - found.value) < 3 * found.budget.standard
    assert all(0.75 < ratio < 2.0 for ratio in ratios.values()), ratios
    assert 0.85 < np.exp(np.mean(np.log(list(ratios.values())))) < 1.6, ratios


def test_a_distance_along_a_direction_knows_that_its_frame_may_turn(part: Nominal, named: dict[str, int]) -> None:
    """70 mm apart along X: what a turn of the datums does to their distance along Y was missing, and U half of what it is."""
    wanted = line("distance \u00b10.1 y A|B|C of {hole}|{far}", part, named)
    results = [wanted.result(scanned(part, seed)) for seed in range(2, 12)]
    said = float(np.mean([r.budget.standard for r in results]))
    assert 0.6 < np.std([r.value for r in results], ddof=1) / said < 1.45
    shortest = line("distance \u00b10.1 of {hole}|{far}", part, named).result(scanned(part, 2))
    turns = [{c.source: c.standard for c in one.budget.contributions}["alignment"] for one in (results[0], shortest)]
    assert turns[0] > 0 and turns[1] == 0, "the shortest needs no frame"


def test_what_is_not_of_the_data_is_drawn_by_its_own_distribution() -> None:
    """A limit as a rectangle: two equal ones make a triangle, within which all draws lie."""
    lines = tuple(Contribution("limit", 0.01 / np.sqrt(3), origin=LineOrigin.LIMIT) for _ in range(2))
    rng = np.random.default_rng(1)
    drawn = np.array([_besides(Budget(lines), rng) for _ in range(4000)])
    assert np.abs(drawn).max() < 0.02 and drawn.std() == pytest.approx(Budget(lines).standard, rel=0.05)
    assert _besides(Budget((Contribution("sampling", 9.0, origin=LineOrigin.DATA),)), rng) == 0.0


@pytest.mark.parametrize(
    ("scatter", "whole", "words"),
    [
        (0.010, True, "they agree."),
        (0.004, True, "the budget is on the safe side"),
        (0.020, True, "the budget is too small; trust the simulation."),
        (0.010, False, "Without the instrument's error, since no instrument is stated."),
    ],
)
def test_it_is_put_in_words(scatter: float, whole: bool, words: str) -> None:
    drawn = np.sort(np.random.default_rng(2).normal(0.1, scatter, 400))
    found = Simulated("1", 0.1, drawn, Budget((Contribution("sampling", 0.010),)), lost=3, is_whole=whole)
    said = simulated_words(found)
    assert (
        words in said
        and said.startswith("Of 400 scans drawn, 95 % lie within \u00b10.0")
        and "3 more gave no value" in said
    )


def test_what_has_no_value_is_not_drawn(part: Nominal, named: dict[str, int], given: Given) -> None:
    mesh = given.deviation
    gone = TriangleMesh(mesh.points[:3] + 500.0, np.array([[0, 1, 2]]))
    empty = Given(measure_deviation(gone, part, RigidTransform.identity()), JUDGEMENT)
    with pytest.raises(InputError, match="without a value there is nothing to check"):
        simulate(line(LINES[0], part, named), empty)


def test_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    names = [str(write_bracket(tmp_path / name)) for name in ("n.stl", "s.stl")]
    words = [
        "inspect",
        *names,
        "--align",
        "none",
        "--trim",
        "none",
        "--instrument",
        "handheld",
        "--out",
        str(tmp_path / "o"),
    ]
    assert main([*words, "--simulate", "7"]) == 2
    assert "there is no characteristic '7'" in capsys.readouterr().err
    assert main([*words, "--simulate", "all", "--json"]) == 0
    (found,) = json.loads(capsys.readouterr().out)["simulated"]
    assert found["id"] == "1" and found["draws"] == 100 and found["instrument_drawn"]
    assert found["expanded"] == pytest.approx(found["budget_expanded"], rel=0.3)
    assert main([*words, "--simulate", "1"]) == 0
    assert "1 by simulation: Of 100 scans drawn" in capsys.readouterr().out


def test_in_the_window(small_desk: Hand) -> None:
    """Clicked twice it is drawn once; stopped it can be asked again; another line says nothing of it."""
    d, session = small_desk, small_desk.window.session
    for number in ("1", "2"):
        session.add(Profile(id=number, title=f"Profile {number}"), "a line")
    d.wait(lambda: len(d.window.ledger.as_text().splitlines()) == 3)
    d.go(Key.MEASURE)
    d.window.selecting.select_line("1")
    d.wait()
    button, words = d.named("Check by simulation", QPushButton), d.window.measure.check.findChildren(QLabel)[0]
    assert isinstance(button, QPushButton) and words.accessibleName() == "Checked by simulation"
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    assert words.text() == "Drawing scans\u2026" and not button.isEnabled()
    d.window.hub.perform("stop")
    d.wait()
    assert button.isEnabled() and not words.isVisible()
    d.click("Check by simulation")
    d.wait(lambda: words.text().startswith("Of 100 scans drawn"))
    assert not button.isEnabled(), "it is known"
    d.window.selecting.select_line("2")
    d.wait()
    assert not words.isVisible() and button.isEnabled()
    d.window.selecting.select_line("1")
    d.wait()
    assert words.text().startswith("Of 100 scans drawn")
