"""What hands and the cabinet have to do with a part: how it rests, what it is made of, what lies in the beam."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import box_mesh
from juxtum.cli import main
from juxtum.demo import solids
from juxtum.demo.job import demo_job
from juxtum.errors import InputError
from juxtum.geometry import TriangleMesh
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.materials import MATERIALS, STEEL_DENSITY, material_named
from juxtum.instruments.models import Kind, shipped, shipped_instruments
from juxtum.job import FileStore
from juxtum.job.planning import task_of, with_material
from juxtum.nominal import Nominal
from juxtum.plan.cost.preparing import soak_minutes
from juxtum.plan.path_length import longest_path, paths_along, shortest_longest_path
from juxtum.plan.resting import centre_of_mass, rest_of
from juxtum.plan.suitability import Fitness, suitability
from juxtum.plan.targets.listing import read_targets
from juxtum.plan.task import whole_part
from juxtum.plan.tray import plan_tray
from juxtum.plan.turntable import plan_turntable

CABINET = shipped(Kind.CABINET)


@pytest.fixture(scope="module")
def angle() -> Nominal:
    """A plate of 100 x 60 x 10 with a wall of 10 x 60 x 80 on its left end."""
    return Nominal.from_shape(solids.fused(solids.box((0, 0, 0), (100, 60, 10)), [solids.box((0, 0, 0), (10, 60, 90))]))


def test_the_middle_of_the_weight_is_that_of_two_boxes(angle: Nominal) -> None:
    volumes, middles = np.array([60_000.0, 48_000.0]), np.array([[50.0, 30, 5], [5.0, 30, 50]])
    assert centre_of_mass(angle) == pytest.approx(volumes @ middles / volumes.sum(), abs=1e-6)
    mesh = box_mesh((20.0, 20.0, 20.0))
    assert np.isnan(centre_of_mass(Nominal.from_mesh(TriangleMesh(mesh.points, mesh.triangles[:-2])))).all()


def test_what_stands_by_itself_and_what_has_to_be_held(angle: Nominal) -> None:
    flat = rest_of(angle, np.eye(3))
    assert flat.stands and flat.height == pytest.approx(25.0) and len(flat.faces) >= 1
    on_wall = rest_of(angle, rotation_from_vector(np.radians([0.0, -90.0, 0.0])))
    assert on_wall.stands and on_wall.height == pytest.approx(30.0)
    over = rest_of(angle, rotation_from_vector(np.radians([180.0, 0.0, 0.0])))
    assert not over.stands, "upside down it would stand on the wall's edge of 10 mm, with its weight beside it"
    corner = rest_of(angle, rotation_from_vector(np.array([0.6, 0.5, 0.0])))
    assert not corner.stands and corner.faces == ()


def test_the_turntable_takes_few_lays_and_says_what_to_hold(nominal: Nominal) -> None:
    task = task_of(demo_job(FileStore(), with_scan=False))
    made = plan_turntable(nominal, task, shipped(Kind.HEAD))
    assert len(made.tilts) <= 3 and made.coverage >= 0.97 * made.reachable - 1e-9
    words = " ".join(made.warnings)
    for number, tilt in enumerate(made.tilts, 1):
        laid = rotation_from_vector(np.radians([0, tilt[1], 0])) @ rotation_from_vector(np.radians([tilt[0], 0, 0]))
        assert rest_of(nominal, laid).stands != (f"lay {number} (" in words)


def test_paths_of_material_are_those_of_boxes_and_tubes() -> None:
    box = Nominal.from_shape(solids.box((0, 0, 0), (30, 40, 100)))
    through = paths_along(box, np.array([1.0, 0, 0]))
    assert np.median(through) == pytest.approx(30, rel=0.03)
    assert longest_path(box, 2) == pytest.approx(48, rel=0.06), (
        "nearly its diagonal of 50 mm, when it turns about its long axis"
    )
    assert shortest_longest_path(box) == longest_path(box, 2)
    slanted = paths_along(box, np.array([1.0, 1.0, 0]))
    assert np.median(slanted[slanted > 5]) < 30 * np.sqrt(2) + 2
    mesh = box_mesh((20.0, 20.0, 20.0))
    assert np.isnan(longest_path(Nominal.from_mesh(TriangleMesh(mesh.points, mesh.triangles[:-2]))))


def test_a_material_is_chosen_once_and_counts_everywhere(nominal: Nominal) -> None:
    job = demo_job(FileStore(), with_scan=False)
    assert job.brief.material == "grey cast iron"
    light = with_material(job, material_named("cast aluminium"))
    iron, aluminium = task_of(job), task_of(light)
    ratio = MATERIALS["cast aluminium"].density / MATERIALS["grey cast iron"].density
    assert aluminium.mass(nominal) == pytest.approx(ratio * iron.mass(nominal))
    room = light.circumstances.environment
    assert (room.expansion, room.expansion_u) == (
        21.5,
        1.0,
    ) and room.temperature == job.circumstances.environment.temperature
    assert soak_minutes(5, 1e5, 8, capacity=aluminium.capacity) == pytest.approx(
        soak_minutes(5, 1e5, 8, capacity=iron.capacity) * aluminium.capacity / iron.capacity
    )
    assert with_material(light, None).brief.material == "" and task_of(with_material(light, None)).material is None
    with pytest.raises(InputError, match="no material 'cheese'"):
        material_named("cheese")
    for made in MATERIALS.values():
        assert made.source and 0.5 < made.density < 10 and 5 < made.expansion < 150 and 300 < made.capacity < 2500


@pytest.mark.parametrize(("material", "seen"), [("carbon steel", False), ("polypropylene", True), ("", True)])
def test_a_cabinet_sees_through_what_its_beam_passes(material: str, seen: bool) -> None:
    """A block of 60 x 60 x 90: 85 mm across its corners, which is too much of steel and little of a polymer."""
    block = Nominal.from_shape(solids.box((0, 0, 0), (60, 60, 90)))
    task = replace(whole_part(-0.5, 0.5), material=material_named(material))
    row = suitability(block, task, [CABINET]).rows[0]
    assert ("the beam passes" not in row.reason) == seen
    assert CABINET.cylinder is not None
    tray = plan_tray(block, task, CABINET, wanted=2)
    if material == "carbon steel":
        assert tray.count == 1 and not tray.is_seen_through and "not even one part" in tray.words
    else:
        assert tray.count == 2 and tray.is_seen_through
    assert np.isnan(tray.steel) == (not material)
    if material:
        assert tray.steel == pytest.approx(tray.path * MATERIALS[material].density / STEEL_DENSITY)


def test_what_is_judged_is_the_mode_that_is_chosen(nominal: Nominal) -> None:
    task = task_of(demo_job(FileStore(), with_scan=False))
    hand = shipped(Kind.HANDHELD)
    chosen = suitability(nominal, task, [hand], chosen={hand.id: "crossed lines"})
    best = suitability(nominal, task, [hand])
    assert {row.mode for row in chosen.rows} == {"crossed lines"} and {row.mode for row in best.rows} == {
        "fine parallel lines"
    }
    worse = [(a, b) for a, b in zip(chosen.rows, best.rows, strict=True) if a.verdict is not b.verdict]
    assert worse and all(f"in the mode '{b.mode}' it would be {b.verdict}" in a.reason for a, b in worse)


def test_one_field_of_view_and_a_machines_space_have_to_fit(nominal: Nominal) -> None:
    head, machine = shipped(Kind.HEAD), shipped(Kind.MACHINE)
    rows = suitability(nominal, whole_part(-0.5, 0.5), [head]).of_chain(head.name, "one field of view")
    assert rows[0].verdict is not Fitness.NOT_SUITABLE, "260 x 180 mm fit into 300 x 220"
    large = Nominal.from_shape(solids.box((0, 0, 0), (290, 290, 60)))
    rows = suitability(large, whole_part(-0.5, 0.5), [head]).of_chain(head.name, "one field of view")
    assert "does not fit into one field of view of 300 x 220 mm" in rows[0].reason
    plate = Nominal.from_shape(solids.box((0, 0, 0), (950, 950, 100)))
    rows = suitability(plate, whole_part(-0.5, 0.5), [machine]).rows
    assert "does not fit into the measuring space" in rows[0].reason
    assert any(model.kind is Kind.MACHINE for model in shipped_instruments())


LISTS = [
    ("P1,-100,60,18\nP2,90,-70,18\nP3,0,-60,18\n", 3),
    ("\ufeffname;x;y;z\nP1;-100;60;18,0\n".replace("18,0", "18.0"), 1),
    ("number,x,y,z,nx,ny,nz,face\n1,-100.0,60.0,18.3,0,0,1,14\n\n2,90,-70,17.6,0,0,1,14\n", 2),
]


@pytest.mark.parametrize(("text", "count"), LISTS)
def test_a_list_of_targets_is_put_onto_the_part(nominal: Nominal, tmp_path: Path, text: str, count: int) -> None:
    path = tmp_path / "list.csv"
    path.write_text(text, "utf-8")
    targets = read_targets(path, nominal, 6.0)
    assert len(targets) == count
    for target in targets:
        assert target.place[2] == pytest.approx(18.0, abs=1e-6) and target.normal == pytest.approx([0, 0, 1])
        assert target.edge > 1 and nominal.face(target.face).kind is not None


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("", "empty"),
        ("P1,0,0\n", "line 1 is not a name and three numbers"),
        ("P1,-100,60,18\nP2,a,b,c\n", "line 2 is not a name and three numbers"),
        ("P1,-100,60,18\nP2,0,0,900\n", "line 2: target P2 lies more than 5 mm from the part"),
        ("P1,0,0,nan\n", "line 1: a place of a part cannot be so far away"),
        ("name,x,y\nP1,0,0\n", "the list has no column Z"),
        ("name,x,y,z\n\n", "the list has no targets"),
        ("P,-100,60,18\n" * 1001, "the list has 1001 targets"),
    ],
)
def test_a_list_that_is_none_gets_its_sentence(nominal: Nominal, tmp_path: Path, text: str, sentence: str) -> None:
    path = tmp_path / "list.csv"
    path.write_text(text)
    with pytest.raises(InputError, match=sentence):
        read_targets(path, nominal, 6.0)


def test_targets_that_were_written_are_read_and_scored(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["plan", "targets", "demo:BC-220", "--goal", "0.5", "--out", str(tmp_path), "--json"]) == 0
    first = json.loads(capsys.readouterr().out)
    again = ["plan", "targets", "demo:BC-220", "--targets", str(tmp_path / "targets.csv"), "--json"]
    assert main(again) == 0
    second = json.loads(capsys.readouterr().out)
    assert [t["face"] for t in second["targets"]] == [t["face"] for t in first["targets"]]
    assert second["share_seen"] == pytest.approx(first["share_seen"], abs=0.01)
