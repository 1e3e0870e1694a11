"""Slots, rectangles, tori and free forms of a scan: by a click anywhere on the wall, by faces, in the window, as a frame."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QListWidget

from hand import Hand, close, opened
from juxtum.align.result import no_alignment
from juxtum.demo.solids import box, cut, cylinder, extruded, fused
from juxtum.errors import FitError, InputError
from juxtum.evaluate import measure_deviation
from juxtum.evaluate.features import Question, TakenFeature, take_feature
from juxtum.evaluate.features.partners import walls_about
from juxtum.exchange.cad import write_step
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.guide.features import card_lines
from juxtum.guide.findings import Key
from juxtum.job import FileStore, Job, Procedure, Runner, inputs_of
from juxtum.job.document import default_procedure
from juxtum.job.steps import AsScanned, ByEntities, Decide, Measure
from juxtum.nominal import Nominal
from juxtum.scene.picking import Hit
from test_grown import LAID, as_scanned


def slotted() -> Any:
    """A plate with a slot of 40 x 12 right through it, turned, a milled pocket of 30 x 18, and a ring of a torus on top."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeTorus
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    corners = [(*at_slot(x, y), -1.0) for x, y in ((-14, -6), (14, -6), (14, 6), (-14, 6))]
    ends = [cylinder((*at_slot(x, 0), -1.0), (0, 0, 1), 6.0, 20) for x in (-14, 14)]
    slot = fused(extruded(corners, (0, 0, 20)), ends)
    corners = [cylinder((x, y, 6.0), (0, 0, 1), 3.0, 10) for x in (88.0, 112.0) for y in (33.0, 45.0)]
    pocket = fused(box((88, 30, 6), (24, 18, 10)), [box((85, 33, 6), (30, 12, 10)), *corners])
    body = cut(box((0, 0, 0), (130, 80, 14)), [slot, pocket])
    return fused(body, [BRepPrimAPI_MakeTorus(gp_Ax2(gp_Pnt(65, 65, 14), gp_Dir(0, 0, 1)), 9, 2.5).Shape()])


def at_slot(x: float, y: float) -> tuple[float, float]:
    """A place by the middle of the slot, along it and across."""
    return 40 + np.cos(0.4) * x - np.sin(0.4) * y, 40 + np.sin(0.4) * x + np.cos(0.4) * y


def test_long_openings_tori_and_free_forms(mesh: TriangleMesh) -> None:
    """By a click anywhere on the wall and by their faces: sizes, place, partner and how much was seen."""
    nominal = Nominal.from_shape(slotted())
    moved = mesh.moved(RigidTransform.translation([0.05, 0.0, 0.02]))
    deviation = measure_deviation(moved, nominal, no_alignment().transform)
    round_end = at_slot(14 + 6 * np.cos(1.2), 6 * np.sin(1.2))
    faces = {kind: walls_about(nominal, face_at(nominal, place), kind) for kind, place in WALLS.items()}
    assert {kind: len(found) for kind, found in faces.items()} == {"slot": 4, "rectangle": 4}
    asked = [
        (Question(kind="slot", seed=(*at_slot(3, -6), 9.0)), {"length": 40.0, "width": 12.0}),
        (Question(kind="slot", seed=(*round_end, 7.0)), {"length": 40.0, "width": 12.0}),
        (Question(kind="slot", faces=faces["slot"]), {"length": 40.0, "width": 12.0}),
        (Question(kind="rectangle", seed=(85.05, 40, 10)), {"length": 30.0, "width": 18.0}),
        (Question(kind="rectangle", faces=faces["rectangle"]), {"length": 30.0, "width": 18.0}),
        (Question(seed=(74.05, 65, 16.52)), {"diameter": 18.0, "radius of the tube": 2.5}),
    ]
    for question, sizes in asked:
        made = take_feature(deviation, moved, LAID, question)
        values = {v.name: v for v in made.values}
        assert made.kind == (question.kind or "torus") and made.seen > 0.85, made.notes
        for name, size in sizes.items():
            assert values[name].value == pytest.approx(size, abs=max(values[name].expanded, 0.012)), (question, name)
            assert values[name].drawn == pytest.approx(size, abs=1e-6)
        off = values["off the drawn one"]
        assert off.value == pytest.approx(0.05 if made.kind != "torus" else np.hypot(0.05, 0.02), abs=0.006)
        for name in ("turned by", "turned about its axis by"):
            assert name not in values or values[name].value < 2 * values[name].expanded < 0.4
    free = take_feature(deviation, moved, LAID, Question(kind="freeform", seed=(74.05, 65, 16.52)))
    values = {v.name: v for v in free.values}
    assert free.kind == "free form" and "free to turn about Z" in free.notes[-1] and free.seen > 0.95
    assert values["moved by"].value == pytest.approx(np.hypot(0.05, 0.02), abs=0.004) and free.rms < 0.015
    for bad, said in (
        (Question(kind="slot", faces=faces["slot"][:2]), "are not the walls of a slot"),
        (Question(kind="slot", places=((0, 0, 0), (1, 1, 1))), "a slot is not made of single places"),
        (Question(kind="freeform", places=((0, 0, 0), (1, 1, 1))), "2 points are too few for a free form"),
    ):
        with pytest.raises((InputError, FitError), match=said):
            take_feature(deviation, moved, LAID, bad)


WALLS = {"slot": (*at_slot(20, 0), 7.0), "rectangle": (85.0, 40.0, 10.0)}


def face_at(nominal: Nominal, place: tuple[float, ...]) -> int:
    return int(nominal.projector.project(np.array([place]), limit=1.0).faces[0]) + 1


@pytest.fixture(scope="module")
def mesh() -> TriangleMesh:
    return as_scanned(slotted(), 0.01)


@pytest.fixture
def desk(application: QApplication, mesh: TriangleMesh, tmp_path: Path) -> Iterator[Hand]:
    """A window with the plate and its map."""
    write_step(slotted(), tmp_path / "n.step")
    write_mesh(tmp_path / "s.ply", mesh)
    window = opened(tmp_path)
    files = window.session.files
    job = Job(
        inputs=inputs_of(files.adopt(tmp_path / "n.step"), files.adopt(tmp_path / "s.ply")),
        procedure=default_procedure(),
    )
    window.session.start(job.with_step(AsScanned(name="a")).with_step(Decide(alignment="a")))
    hand = Hand(window)
    hand.wait(lambda: window.session.derived.evaluation is not None)
    yield hand
    close(window)


def test_a_slot_is_clicked_in_the_window(desk: Hand) -> None:
    """Round the click and of the clicked face, twice before the first is there; then a bore is asked for where there is none."""
    desk.go(Key.MEASURE)
    panel = desk.window.measure.features
    desk.click("Click a feature")
    place = np.array([*at_slot(3, -6), 9.0])
    for kind, data in (
        ("a slot", "round the click"),
        ("a slot", "of the clicked face"),
        ("a rectangle", "round the click"),
    ):
        for name, words in (("Kind of feature", kind), ("Data", data)):
            box_ = desk.named(name)
            box_.setCurrentText(words)  # type: ignore[attr-defined]
        assert panel.picked(Hit("map", place, 0))
    desk.wait(lambda: len(panel.taken) == 3)
    listed = desk.named("Features", QListWidget)
    assert isinstance(listed, QListWidget)
    rows = [listed.item(k).text() for k in range(listed.count())]  # type: ignore[union-attr]
    assert [row.split()[1] for row in rows[:2]] == ["slot", "slot"] and "\u00d7 12.0" in rows[0].replace(
        "11.99", "12.0"
    )
    assert "the wall there makes no rectangle" in rows[2]
    steps = desk.window.session.job.procedure.features
    assert steps[0].seed is not None and len(steps[1].faces) == 4  # type: ignore[union-attr]
    listed.setCurrentRow(1)
    desk.wait()
    card = dict(card_lines(TakenFeature("F2", panel.taken[1].measured)))
    assert card["seen"] == "100 % of the way round" and card["length (40 drawn)"].startswith(("39.99", "40.00"))
    assert desk.window.view.stage.has("feature")
    QTest.mouseClick(desk.named("Remove it"), Qt.MouseButton.LeftButton)
    desk.wait(lambda: len(panel.taken) == 2)


def test_a_slot_gives_direction_and_origin(mesh: TriangleMesh, tmp_path: Path) -> None:
    """X runs along its length and the origin lies where its axis meets the plane, however the scan lies."""
    pose = RigidTransform.about(np.array([60.0, 40, 7]), np.array([30.0, -20, 80, 0.4, -0.7, 0.2]))
    write_mesh(tmp_path / "s.ply", mesh.moved(pose))
    places = {"level": ((20.0, 10.0, 14.0), "plane"), "towards": ((*at_slot(3, -6), 9.0), "slot")}
    places["origin"] = places["towards"]
    spots = {
        name: {"place": pose.apply(np.array([at]))[0].tolist(), "element": kind} for name, (at, kind) in places.items()
    }
    files = FileStore(tmp_path / "in")
    steps = (ByEntities.model_validate(spots), Measure(), Decide(alignment="entities"))
    job = Job(inputs=inputs_of(None, files.adopt(tmp_path / "s.ply")), procedure=Procedure(steps=steps))
    found = Runner(files).alignment(job, "entities").transform @ pose
    ends = found.apply(np.array([[*at_slot(0, 0), 14.0], [*at_slot(20, 0), 14.0]]))
    assert ends[0] == pytest.approx([0, 0, 0], abs=0.01) and np.abs(ends[1]) == pytest.approx([20, 0, 0], abs=0.02)
