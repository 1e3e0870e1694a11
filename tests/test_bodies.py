"""Two bodies beside each other: gaps, depths, areas and volumes that follow from how they were made."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtWidgets import QComboBox

from hand import Hand
from helpers import bracket_mesh
from juxtum.cli import main
from juxtum.demo import solids
from juxtum.errors import InputError
from juxtum.evaluate.bodies import clearance, cut_fine
from juxtum.exchange.cad import write_step
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.exchange.meshes import read_mesh
from juxtum.exchange.solid import TessellationRule
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.guide.bodies import gap_facts
from juxtum.guide.findings import Key
from juxtum.job.steps import AsScanned
from juxtum.nominal import Nominal

FINE = TessellationRule(0.004, 0.06)


def body(shape: object, longest: float = 1.0) -> TriangleMesh:
    return cut_fine(Nominal.from_shape(shape, rule=FINE).mesh, longest)


def pin(radius: float, off: float = 0.0) -> object:
    return solids.cylinder((off, 0, -5), (0, 0, 1), radius, 35)


def plate_with_hole() -> object:
    return solids.cut(solids.box((-20, -20, 0), (40, 40, 20)), [solids.cylinder((0, 0, -1), (0, 0, 1), 10, 30)])


@pytest.fixture(scope="module")
def hole() -> TriangleMesh:
    return body(plate_with_hole())


@pytest.mark.parametrize(
    ("radius", "off", "near", "far"), [(9.9, 0.0, 0.1, 0.1), (9.9, 0.05, 0.05, 0.15), (10.05, 0.0, -0.05, -0.05)]
)
def test_a_pin_in_a_hole(hole: TriangleMesh, radius: float, off: float, near: float, far: float) -> None:
    """By both sides alike; where it is pressed in, both share a ring of 2 pi r t h."""
    inner = body(pin(radius, off))
    found, back = clearance(inner, hole), clearance(hole, inner)
    for one in (found, back):
        assert one.places is not None
        assert one.places[0].value == pytest.approx(near, abs=2e-3)
        assert one.places[1].value == pytest.approx(far, abs=2e-3)
        assert one.facing == pytest.approx(2 * np.pi * 10 * 20, rel=0.03)
        shared = np.pi * (radius**2 - 100) * 20 if near < 0 else 0.0
        assert one.volume == pytest.approx(shared, rel=0.03, abs=1e-3)
        assert (one.inside > 0) == (near < 0)
    if off:
        assert found.places is not None
        assert found.places[0].where[0] > 9 and found.places[1].where[0] < -9, "where it is told to be"


@pytest.mark.parametrize(("lift", "volume"), [(4.8, 40.0), (5.0, 0.0), (5.3, 0.0)])
def test_blocks_on_each_other(lift: float, volume: float) -> None:
    """One on the other, its sides in line with the other's: only what faces counts."""
    block = body(solids.box((0, 0, 0), (20, 10, 5)))
    found = clearance(block.moved(RigidTransform.translation([0, 0, lift])), block)
    assert found.places is not None and found.places[0].value == pytest.approx(lift - 5, abs=1e-6)
    assert found.volume == pytest.approx(volume, abs=0.01) and found.facing == pytest.approx(200, rel=0.03)


def test_noise_alone_does_not_reach_in() -> None:
    """Two flat faces on each other, noise of 0.02: point by point half of them would lie inside, 0.008 mm deep on average."""
    top = body(solids.box((0, 0, 0), (40, 40, 5)), 0.5)
    rng = np.random.default_rng(1)
    noisy = TriangleMesh(top.points + rng.normal(0, 0.02, len(top.points))[:, None] * top.normals, top.triangles)
    found = clearance(noisy.moved(RigidTransform.translation([0, 0, 5.0])), top)
    assert found.volume < 0.25 * 0.008 * 1600 and found.places is not None and abs(found.places[0].value) < 0.02


def test_a_gap_is_as_sure_as_it_says() -> None:
    """Two flat faces 0.1 mm apart, noise of 0.01 on both: the nearest of 400 places would read 0.088 by itself."""
    block = body(solids.box((0, 0, 0), (40, 40, 5)), 0.5)
    held = []
    for seed in range(16):
        rng = np.random.default_rng(seed)
        lower, upper = (
            TriangleMesh(
                block.points + rng.normal(0, 0.01, len(block.points))[:, None] * block.normals, block.triangles
            )
            for _ in range(2)
        )
        found = clearance(upper.moved(RigidTransform.translation([0, 0, 5.1])), lower)
        assert found.places is not None
        held += [(abs(place.value - 0.1) <= place.expanded, place.expanded < 0.01) for place in found.places]
    assert np.mean([within for within, _ in held]) >= 0.85 and all(narrow for _, narrow in held)
    assert dict(gap_facts(found))["smallest gap"].count("\u00b1") == 1


def test_a_wall_thinner_than_the_limit_does_not_hide_its_other_side() -> None:
    """A sheet of 0.2 mm between two blocks: from above it is the upper side that faces."""
    sheet = body(solids.box((0, 0, 0), (30, 30, 0.2)))
    block = body(solids.box((5, 5, 0.5), (20, 20, 10)))
    for one, other in ((block, sheet), (sheet, block)):
        found = clearance(one, other)
        assert found.places is not None
        assert [place.value for place in found.places] == pytest.approx([0.3, 0.3], abs=1e-6)
        assert found.facing == pytest.approx(400, rel=0.1)


def test_a_mesh_of_few_large_triangles_has_values_all_the_same() -> None:
    """Twelve triangles, whose corners all lie on edges: it is cut, and nothing is lost."""
    block, lid = (Nominal.from_shape(solids.box((0, 0, z), (20, 10, 5))).mesh for z in (0.0, 5.25))
    found = clearance(lid, block)
    assert found.places is not None and found.places[0].value == pytest.approx(0.25, abs=1e-6)
    assert found.facing == pytest.approx(200, rel=0.03)


@pytest.mark.parametrize("which", ["first", "second"])
def test_a_body_that_is_inside_out_is_told(which: str) -> None:
    """Otherwise nothing of it would face the other, and nobody would know why."""
    block = body(solids.box((0, 0, 0), (20, 10, 5)))
    turned = TriangleMesh(block.points, block.triangles[:, ::-1])
    pair = (turned, block) if which == "first" else (block, turned)
    with pytest.raises(InputError, match=f"the {which} body is inside out"):
        clearance(*pair)


def test_what_is_invented_is_not_measured_and_units_are_told(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    block, lid = (body(solids.box((0, 0, z), (20, 10, 5))) for z in (0.0, 5.25))
    low = lid.triangle_normals[:, 2] < -0.5
    half = low & (lid.corners.mean(1)[:, 0] < 10)
    write_mesh(tmp_path / "lid.ply", TriangleMesh(lid.points, lid.triangles, half))
    write_mesh(tmp_path / "block.ply", block)
    names = [str(tmp_path / "lid.ply"), str(tmp_path / "block.ply")]
    assert main(["gap", *names, "--json", "--unit", "mm"]) == 0
    assert json.loads(capsys.readouterr().out)["facing_area"] == pytest.approx(100, rel=0.15)
    bracket_mesh().export(tmp_path / "a.stl")
    assert main(["gap", str(tmp_path / "a.stl"), names[1], "--json"]) == 0
    document = json.loads(capsys.readouterr().out)
    assert any("a.stl names no unit, and millimetres are taken" in note for note in document["notes"])
    assert main(["gap", str(tmp_path / "a.stl"), names[1], "--json", "--unit", "mm"]) == 0
    assert not [note for note in json.loads(capsys.readouterr().out)["notes"] if "no unit" in note]


def test_bodies_far_from_each_other_are_told() -> None:
    block = body(solids.box((0, 0, 0), (20, 10, 5)))
    with pytest.raises(InputError, match="nowhere nearer to each other than 3 mm"):
        clearance(block.moved(RigidTransform.translation([0, 0, 60])), block)


def test_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    write_step(pin(10.05), tmp_path / "pin.step")
    write_step(plate_with_hole(), tmp_path / "plate.step")
    names = [str(tmp_path / name) for name in ("pin.step", "plate.step")]
    assert main(["gap", *names, "--json", "--strict", "--out", str(tmp_path / "gap.ply")]) == 1
    document = json.loads(capsys.readouterr().out)
    assert document["nearest"]["gap"] == pytest.approx(-0.05, abs=5e-3)
    assert document["shared_volume"] == pytest.approx(63.0, rel=0.08)
    assert len(read_mesh(tmp_path / "gap.ply").scan.points) > 1000
    assert main(["gap", *reversed(names)]) == 0
    assert capsys.readouterr().out.startswith("reaches in by: 0.05")
    (tmp_path / "list.csv").write_text("x,y,z\n" + "\n".join(f"{k},{k * k},1" for k in range(40)))
    for wrong, sentence in (
        ([names[0], str(tmp_path / "list.csv")], "a list of points has no surface"),
        ([*names, "--out", "gap.stl"], "only PLY holds a value at each place"),
        ([names[0], str(tmp_path / "none.stl")], "none.stl"),
        ([*names, "--limit", "0"], "--limit"),
    ):
        assert main(["gap", *wrong]) == 2
        said = capsys.readouterr().err
        assert sentence in said and "Traceback" not in said


def test_in_the_window(small_desk: Hand, tmp_path: Path) -> None:
    """The scan stands 0.5 mm over a plate that was scanned as well: the gap to it, and not that of surfaces alike."""
    d, session = small_desk, small_desk.window.session
    write_mesh(tmp_path / "under.ply", body(solids.box((-10, -10, -2.5), (80, 60, 2)), 2.0))
    session.edit("another", lambda job: job.with_further(session.files.adopt(tmp_path / "under.ply")))
    session.edit("lay it", lambda job: job.with_step(AsScanned(name="lies", scan="scan 2")))
    d.go(Key.MEASURE)
    choice = d.named("What is held against what", QComboBox)
    assert isinstance(choice, QComboBox)
    d.wait(lambda: choice.count() == 4)
    assert choice.itemText(3) == "the gap from the scan to scan 2"
    choice.setCurrentIndex(3)
    choice.activated.emit(3)
    d.wait(lambda: d.window.measure.held.gap is not None)
    facts = d.named("Other map").facts  # type: ignore[attr-defined]
    assert facts["smallest gap"] == "0.500 mm" and "volume of both" not in facts
    sheet = d.window.hub.station.widget()
    assert sheet.minimumSizeHint().width() <= d.window.hub.station.viewport().width() + 12, "nothing is cut off"
    assert int(facts["area that faces it"].split()[0]) == pytest.approx(2400, rel=0.02)
    assert d.window.view.stage.has("held")
