"""Alignments by reference points, into a zone, along some motions only, and by known targets: against what is known."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from benchmarks.joins import whole
from PyQt6.QtWidgets import QFileDialog, QLabel, QLineEdit, QPushButton

from hand import Hand
from helpers import plate, turned
from juxtum.align.best_fit import BestFitOptions, best_fit
from juxtum.align.known_targets import target_alignment
from juxtum.align.reference_points import ReferencePoint, SpotRule, reference_point_alignment
from juxtum.align.zone_fit import Zone, zone_fit
from juxtum.cli.main import main
from juxtum.errors import AlignmentError, InputError
from juxtum.exchange.cad import write_step
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.guide.findings import Key
from juxtum.job.steps import read_reference_places
from juxtum.nominal import Nominal
from juxtum.scene.picking import Hit

SIX = [("Z1", (10, 10, 10), "N"), ("Z2", (70, 10, 10), "Z"), ("Z3", (10, 55, 10), "Z"),
       ("X1", (0, 30, 5), "X"), ("Y1", (10, 0, 5), "N"), ("Y2", (70, 0, 5), "Y")]  # fmt: skip
MOVE = turned((1.0, -0.6, 1.5), (1.0, -2.0, 0.5))


def points(given: list[tuple[str, tuple[float, ...], str]] = SIX) -> list[ReferencePoint]:
    return [ReferencePoint(name, np.array(place, dtype=float), held) for name, place, held in given]


@pytest.fixture(scope="module")
def part() -> Nominal:
    return Nominal.from_shape(plate())


@pytest.fixture(scope="module")
def mesh(part: Nominal) -> TriangleMesh:
    return whole(part, 120_000)


def patchy(mesh: TriangleMesh, seed: int, sigma: float = 0.02) -> TriangleMesh:
    """Errors that are alike over a millimetre, as those of neighbouring points of a scan are."""
    _, owner = np.unique(np.floor(mesh.points), axis=0, return_inverse=True)
    heights = np.random.default_rng(seed).normal(0, sigma, owner.max() + 1)[owner.reshape(-1)]
    return TriangleMesh(mesh.points + heights[:, None] * mesh.normals, mesh.triangles)


def off(found: RigidTransform, true: RigidTransform, part: Nominal) -> float:
    corners = np.array(np.meshgrid(*part.mesh.bounds.T)).reshape(3, -1).T
    return float(np.linalg.norm((found @ true).apply(corners) - corners, axis=1).max())


# -- reference points -------------------------------------------------------------------------------------


def test_six_directions_give_the_pose_back(part: Nominal, mesh: TriangleMesh) -> None:
    made = reference_point_alignment(mesh.moved(MOVE), part, RigidTransform.identity(), points())
    assert off(made.transform, MOVE, part) < 1e-6 and made.rms < 1e-9
    assert set(made.locked.values()) == {"points"} and made.notes == ()
    at_a_rim = [("Z1", (24.0, 20.0, 9.9), "Z"), *SIX[1:]]
    made = reference_point_alignment(mesh.moved(MOVE), part, RigidTransform.identity(), points(at_a_rim))
    assert off(made.transform, MOVE, part) < 0.01, "at the rim of a hole the face that holds it is meant"
    cloud = PointCloud(mesh.points)
    made = reference_point_alignment(cloud.moved(MOVE), part, RigidTransform.identity(), points(), SpotRule(reach=4.0))
    assert off(made.transform, MOVE, part) < 0.01, "a cloud without normals takes the nearer side"


def test_they_scatter_as_far_as_they_say(part: Nominal, mesh: TriangleMesh) -> None:
    """Errors of 0.02 mm, 30 scans: the shifts of the pose against what the covariance says of them."""
    twists, said = [], []
    for seed in range(30):
        made = reference_point_alignment(patchy(mesh, seed), part, RigidTransform.identity(), points())
        moved = made.transform.apply(made.centre) - made.centre
        twists.append(moved)
        said.append(np.diag(made.covariance)[:3])
    ratio = np.sqrt(np.mean(said, axis=0)) / np.std(twists, axis=0)
    assert (ratio > 0.5).all() and (ratio < 1.8).all(), ratio


def test_a_made_error_is_where_the_points_leave_it(part: Nominal, mesh: TriangleMesh) -> None:
    """The top stands 0.1 too high on one half: held by its three points the part tilts, and passes through all of them."""
    raised = np.array(mesh.points)
    raised[(raised[:, 2] > 9.9) & (raised[:, 0] > 40), 2] += 0.1
    made = reference_point_alignment(TriangleMesh(raised, mesh.triangles), part, RigidTransform.identity(), points())
    tilt = made.transform.apply(np.array([[10.0, 10, 10], [70, 10, 10.1], [10, 55, 10]]))
    assert tilt[:, 2] == pytest.approx(10.0, abs=1e-3)


def test_fewer_leave_motions_free_and_more_are_evened_out(part: Nominal, mesh: TriangleMesh) -> None:
    three = reference_point_alignment(mesh, part, RigidTransform.translation([0.3, 0.2, 0.1]), points(SIX[:3]))
    assert sorted(axis for axis, by in three.locked.items() if by == "free") == ["Rz", "Tx", "Ty"]
    assert three.transform.offset[:2] == pytest.approx([0.3, 0.2], abs=1e-6), "what is free stays"
    bent = np.array(mesh.points)
    bent[(bent[:, 2] > 9.9) & (bent[:, 0] > 40) & (bent[:, 1] > 32), 2] += 0.1
    seven = [*SIX, ("Z4", (70, 55, 10), "Z")]
    made = reference_point_alignment(TriangleMesh(bent, mesh.triangles), part, RigidTransform.identity(), points(seven))
    assert "7 directions are held where 6 decide" in made.notes[0] and "0.025 mm off" in made.notes[0]


def test_small_parts_have_small_spots() -> None:
    """A block of 5 x 4 x 3 mm with a step of 1 mm: a spot of 1 mm would read over its edges."""
    from juxtum.demo.solids import box, fused

    part = Nominal.from_shape(fused(box((0, 0, 0), (5, 4, 2)), [box((0, 0, 2), (2, 4, 1))]))
    scan = whole(part, 40_000).moved(turned((0.5, 0.4, -0.3), (0.05, -0.04, 0.03)))
    held = [("A", (4, 1, 2), "Z"), ("B", (4, 3, 2), "Z"), ("C", (1, 2, 3), "Z"), ("D", (0, 2, 1), "X"),
            ("E", (1, 0, 1), "Y"), ("F", (4, 0, 1), "Y")]  # fmt: skip
    made = reference_point_alignment(scan, part, RigidTransform.identity(), points(held))
    assert off(made.transform, turned((0.5, 0.4, -0.3), (0.05, -0.04, 0.03)), part) < 1e-3


@pytest.mark.parametrize(
    ("wrong", "sentence"),
    [
        (("A", (40, 30, 60), "Z"), "farther than 2 mm from the drawn surface"),
        (("A", (10, 10, 10), "X"), "does not hold X: it runs along it"),
        (("A", (20, 20, 5), "N"), "farther than 2 mm"),
    ],
)
def test_a_point_that_cannot_be_one_is_named(
    part: Nominal, mesh: TriangleMesh, wrong: tuple[str, tuple[float, ...], str], sentence: str
) -> None:
    with pytest.raises(InputError, match=sentence) as refused:
        reference_point_alignment(mesh, part, RigidTransform.identity(), points([*SIX, wrong]))
    assert refused.value.where == "reference point A"


def test_a_point_that_was_not_seen_is_named(part: Nominal, mesh: TriangleMesh) -> None:
    half = mesh.kept_triangles(mesh.corners.mean(1)[:, 0] < 50)
    with pytest.raises(AlignmentError, match="does not show reference point Z2"):
        reference_point_alignment(half, part, RigidTransform.identity(), points())


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("name,X,Y,Z,held\nA,1,2,3,Q\n", "line 2: 'Q'"),
        ("A,1,2\n", "line 1 is not a name and three numbers"),
        ("name,X,Y,Z,held,weight\nA,1,2,3,Z,-1\n", "line 2"),
        ("", "file is empty"),
    ],
)
def test_a_list_that_cannot_be_read_says_where(tmp_path: Path, text: str, sentence: str) -> None:
    (tmp_path / "p.csv").write_text(text)
    with pytest.raises(InputError) as refused:
        read_reference_places(tmp_path / "p.csv")
    assert sentence in refused.value.sentence


# -- other fits -------------------------------------------------------------------------------------------


def bowed(mesh: TriangleMesh, height: float) -> TriangleMesh:
    """Bent up at both ends by a height."""
    bent = np.array(mesh.points)
    bent[:, 2] += height * ((bent[:, 0] - 40) / 40) ** 2
    return TriangleMesh(bent, mesh.triangles)


def test_into_a_zone_the_worst_places_balance(part: Nominal, mesh: TriangleMesh) -> None:
    """A plate bowed by 0.2: at best its top lies 0.1 to either side, and least squares would not leave it so."""
    start = RigidTransform.about(part.centre, np.array([0.02, 0.03, -0.1, 5e-4, 5e-4, 0]))
    made = zone_fit(bowed(mesh, 0.2).moved(start), part, RigidTransform.identity(), Zone(-0.2, 0.2))
    heights = made.transform.apply(start.apply(bowed(mesh, 0.2).points[np.abs(mesh.points[:, 2] - 10) < 1e-6]))[:, 2]
    assert (heights.max() - 10, heights.min() - 10) == pytest.approx((0.1, -0.1), abs=0.015)
    assert "all cells lie inside the zone" in made.notes[0]
    outside = zone_fit(bowed(mesh, 0.6), part, RigidTransform.identity(), Zone(-0.2, 0.2))
    assert outside.notes[0].startswith("no pose brings all cells inside the zone: the worst lie 0.")
    least = best_fit(bowed(mesh, 0.6), part, RigidTransform.identity())
    for fit, wider in ((outside, False), (least, True)):
        top = fit.transform.apply(bowed(mesh, 0.6).points[np.abs(mesh.points[:, 2] - 10) < 1e-6])[:, 2] - 10
        assert (np.abs(top).max() > 0.34) == wider, np.abs(top).max()


def test_a_zone_does_not_claim_what_it_leaves_free() -> None:
    from juxtum.demo.solids import cut, cylinder

    ring = Nominal.from_shape(cut(cylinder((0, 0, 0), (0, 0, 1), 30, 12), [cylinder((0, 0, -1), (0, 0, 1), 20, 14)]))
    turn = turned((0, 0, 20), (0.02, 0, 0))
    made = zone_fit(whole(ring, 40_000).moved(turn), ring, RigidTransform.identity(), Zone(-0.1, 0.1))
    assert made.locked["Rz"] == "free" and "free to turn about Z" in " ".join(made.notes)
    assert abs(made.transform.angle) < 1, "and it stays as it was"


def test_stock_is_left_everywhere_or_it_is_said_that_it_cannot_be() -> None:
    from juxtum.demo.solids import box

    drawn = Nominal.from_shape(box((0, 0, 0), (80, 60, 20)))
    blank = whole(Nominal.from_shape(box((-1, -1, -1), (82, 62, 22))), 60_000)
    start = RigidTransform.translation([0.7, 0.5, -0.6])
    made = zone_fit(blank.moved(start), drawn, RigidTransform.identity(), Zone(0.0, np.inf))
    assert made.notes[0].startswith("at least 0.9") or made.notes[0].startswith("at least 1.0"), made.notes
    assert off(made.transform, start, drawn) < 0.1
    small = whole(Nominal.from_shape(box((0.5, 0, 0), (79, 60, 20))), 60_000)
    made = zone_fit(small, drawn, RigidTransform.identity(), Zone(0.0, np.inf))
    assert made.notes[0].startswith("material is missing: in the best pose still 0.5")


def test_only_what_may_move_moves(part: Nominal, mesh: TriangleMesh) -> None:
    made = best_fit(
        mesh.moved(RigidTransform.translation([0.3, 0.2, 0.4])), part, RigidTransform.identity(),
        BestFitOptions(motions=("Tz",)),
    )  # fmt: skip
    assert made.transform.offset == pytest.approx([0, 0, -0.4], abs=1e-6) and made.transform.angle < 1e-9
    assert made.locked == dict.fromkeys(["Tx", "Ty", "Rx", "Ry", "Rz"], "start") | {"Tz": "best fit"}
    assert "only Tz were allowed to move" in made.notes[-1]


def test_faces_that_weigh_more_pull_more(part: Nominal, mesh: TriangleMesh) -> None:
    """Top and bottom are 0.2 apart from each other's best: weights 9 to 1 leave a tenth of it on the heavy one."""
    thick = np.array(mesh.points)
    thick[thick[:, 2] > 9.9, 2] += 0.2
    weights = np.ones(len(part.faces))
    top = [f.number - 1 for f in part.faces if f.centre[2] > 9.99 and f.kind == "plane"]
    areas = sum(part.faces[k].area for k in top), part.face(1).area
    weights[top] = 9.0
    made = best_fit(
        TriangleMesh(thick, mesh.triangles), part, RigidTransform.identity(),
        BestFitOptions(motions=("Tz",), weights=weights, trim=0.0),
    )  # fmt: skip
    assert areas[0] > 0 and -0.2 < made.transform.offset[2] < -0.16


def test_known_targets_find_their_partners() -> None:
    rng = np.random.default_rng(3)
    known = rng.uniform(0, 200, (14, 3))
    seen = MOVE.apply(np.concatenate([known[2:], rng.uniform(0, 200, (3, 3))])) + rng.normal(0, 0.01, (15, 3))
    made = target_alignment(seen, known, 0.3)
    assert np.linalg.norm(made.transform.apply(seen[:12]) - known[2:], axis=1).max() < 0.05
    assert made.notes[0] == "12 targets agree; 3 measured ones have no partner"
    with pytest.raises(AlignmentError, match="no four agree"):
        target_alignment(seen, rng.uniform(0, 200, (9, 3)), 0.1)


# -- from files, and in the window ------------------------------------------------------------------------


def test_from_the_command_line(
    part: Nominal, mesh: TriangleMesh, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    write_step(plate(), tmp_path / "n.step")
    write_mesh(tmp_path / "s.stl", whole(part, 30_000).moved(MOVE))
    rows = [f"{name},{','.join(map(str, place))},{held}" for name, place, held in SIX]
    (tmp_path / "p.csv").write_text("name,X,Y,Z,held\n" + "\n".join(rows) + "\n")
    given = [
        "inspect",
        str(tmp_path / "n.step"),
        str(tmp_path / "s.stl"),
        "--scan-unit",
        "mm",
        "--trim",
        "none",
        "--json",
    ]
    for how, method in ((f"points:{tmp_path / 'p.csv'}", "reference points"), ("zone", "fit into a zone")):
        assert main([*given, "--align", how, "--out", str(tmp_path / "out")]) == 0
        said = json.loads(capsys.readouterr().out)["alignment"]
        assert said["method"] == method
        assert off(RigidTransform(np.array(said["matrix"])), MOVE, part) < 0.02
    assert main([*given, "--align", "points:missing.csv", "--out", str(tmp_path / "out")]) == 2
    assert "missing.csv: there is no such file" in capsys.readouterr().err


def test_points_are_picked_held_and_laid_on_in_the_window(
    small_desk: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk = small_desk
    desk.go(Key.ALIGN)
    panel = desk.window.align.points
    desk.click("Pick reference points")
    for place in ((40.0, 30.0, 10.0), (55.0, 10.0, 10.0), (30.0, 35.0, 10.0)):
        desk.click_at(place)
    assert [p.held for p in panel.points] == ["N", "N", "N"]
    desk.click("Held in Z")
    assert panel.points[2].held == "NZ"
    desk.click("Held in N")
    assert panel.points[2].held == "Z"
    said = desk.named("What the reference points hold", QLabel).text()  # type: ignore[attr-defined]
    assert said.startswith("3 directions are held; 6 fix the part")
    desk.click("Lay it on them")
    desk.wait(lambda: desk.window.session.derived.in_force == "reference points")
    found = desk.window.session.derived.evaluation
    assert found is not None and found.alignment.locked["Tz"] == "points" and found.alignment.locked["Tx"] == "free"
    (tmp_path / "p.csv").write_text("name,X,Y,Z,held\nA,40,30,10,Z\n")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (str(tmp_path / "p.csv"), ""))
    desk.click("From a list\u2026")
    assert [p.name for p in panel.points] == ["A"]
    desk.click("Another fit\u2026")
    for axis in ("Tx", "Ty", "Rx", "Ry", "Rz"):
        desk.click(f"May move {axis}")
    fit = desk.named("Fit so")
    assert isinstance(fit, QPushButton)
    fit.click()
    fit.click()
    desk.wait(lambda: desk.window.session.derived.in_force == "best fit, Tz only")
    names = [s.name for s in desk.window.session.job.procedure.alignments]
    assert names.count("best fit, Tz only") == 1, "clicked twice it is there once"
    for axis in ("Tx", "Ty", "Rx", "Ry", "Rz"):
        desk.click(f"May move {axis}")
    desk.click("Pick faces")
    desk.window.align.picked(Hit("nominal", np.array([30.0, 35.0, 10.0]), 0))
    (number,) = desk.window.align.fit.faces
    weight = desk.named("Weight of the picked faces", QLineEdit)
    assert isinstance(weight, QLineEdit)
    weight.setText("20")
    weight.editingFinished.emit()
    said = desk.named("What the fit counts").text()  # type: ignore[attr-defined]
    assert said == f"Faces {number} count 20 times as much as the others."
    desk.click("Fit so")
    desk.wait(lambda: desk.window.session.derived.in_force == f"best fit, face {number} times 20")
    step = desk.window.session.job.procedure.alignment(f"best fit, face {number} times 20")
    assert step.weights[0].weight == 20 and not step.faces


def test_known_targets_are_laid_on_each_other_in_the_window(
    small_desk: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk = small_desk
    desk.go(Key.ALIGN)
    places = np.array([[5.0, 5, 10], [50, 8, 10], [30, 35, 10], [8, 30, 10], [55, 33, 10], [20, 6, 31]])
    for name, moved in (("measured", RigidTransform.translation([0.4, 0, 0])), ("known", RigidTransform.identity())):
        rows = "\n".join(f"T{k},{x},{y},{z}" for k, (x, y, z) in enumerate(moved.apply(places)))
        (tmp_path / f"{name}.csv").write_text(rows)
    (tmp_path / "few.csv").write_text("T1,1,2,3\n")
    wanted = iter(["few", "known", "measured", "known"])
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (str(tmp_path / f"{next(wanted)}.csv"), ""))
    desk.click("Known targets\u2026")
    assert "four targets at least" in desk.window.notice.text
    desk.click("Known targets\u2026")
    desk.wait(lambda: desk.window.session.derived.in_force == "known targets")
    found = desk.window.session.derived.evaluation
    assert found is not None and found.alignment.transform.offset == pytest.approx([-0.4, 0, 0], abs=1e-9)
    assert set(found.alignment.locked.values()) == {"targets"}
