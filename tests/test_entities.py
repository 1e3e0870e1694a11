"""A frame from features of the scan: where plane, direction and origin put it, both flips, what stays free, what cannot be."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtWidgets import QCheckBox, QLabel

from hand import Hand
from helpers import plate
from juxtum.align import Alignment
from juxtum.assemble.surfacing import make_surface
from juxtum.cli import main
from juxtum.demo import solids
from juxtum.errors import AlignmentError
from juxtum.exchange.cad import write_step
from juxtum.exchange.mesh_writing import write_mesh
from juxtum.geometry import PointCloud, RigidTransform, TriangleMesh
from juxtum.geometry.transform import rotation_from_vector
from juxtum.guide.findings import Key
from juxtum.job import FileStore, Job, Procedure, Runner, inputs_of
from juxtum.job.steps import ByEntities, Decide, Measure
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from juxtum.progress import silent
from surfaces import noisy

POSE = RigidTransform.from_parts(rotation_from_vector([0.7, -0.4, 1.9]), [140.0, -30.0, 220.0])
"""How the scan lies; its places are those of the plate moved by it."""
TOP, SIDE, BORE = (10.0, 50.0, 10.0), (80.0, 20.0, 5.0), (16.0, 20.0, 5.0)


def scanned(drawn: Nominal) -> TriangleMesh:
    dense = sample_surface(drawn.mesh, drawn.triangle_faces, 0.7).mesh
    return noisy(make_surface(dense.corners.mean(1), dense.triangle_normals, 0.7, overhang=0.7), 0.01).moved(POSE)


@pytest.fixture(scope="module")
def scan() -> TriangleMesh:
    return scanned(Nominal.from_shape(plate()))


def spot(place: tuple[float, float, float], **more: Any) -> dict[str, Any]:
    return {"place": [float(v) for v in POSE.apply(np.array([place]))[0]], **more}


def laid(scan: TriangleMesh | PointCloud, tmp_path: Path, **fields: Any) -> Alignment:
    files = FileStore(tmp_path / "inputs")
    write_mesh(tmp_path / "s.ply", scan) if isinstance(scan, TriangleMesh) else np.savetxt(
        tmp_path / "s.xyz", scan.points
    )
    path = tmp_path / ("s.ply" if isinstance(scan, TriangleMesh) else "s.xyz")
    step = ByEntities.model_validate(fields)
    job = Job(
        inputs=inputs_of(None, files.adopt(path)),
        procedure=Procedure(steps=(step, Measure(), Decide(alignment="entities"))),
    )
    return Runner(files).alignment(job, "entities")


def test_plane_direction_and_origin_make_the_frame(scan: TriangleMesh, tmp_path: Path) -> None:
    made = laid(scan, tmp_path, level=spot(TOP), towards=spot(SIDE), origin=spot(BORE))
    there = made.transform.apply(POSE.apply(np.array([[20.0, 20, 10], [80, 20, 10], [20, 65, 10], [20, 20, 0]])))
    # From the bore in the top, X out of the side, Z out of the top.
    assert np.abs(there - [[0, 0, 0], [60, 0, 0], [0, 45, 0], [0, 0, -10]]).max() < 0.03
    assert made.locked == {
        "Tx": "origin",
        "Ty": "origin",
        "Tz": "plane",
        "Rx": "plane",
        "Ry": "plane",
        "Rz": "direction",
    }
    assert not made.notes and made.method == "entities"
    off = made.point_uncertainty(np.array([[0.0, 0, 0], [60, 0, 0]]), np.array([[0.0, 0, 1], [0, 1, 0]]))
    assert (off > 0).all() and (off < 0.02).all()


def test_it_scatters_no_more_than_it_says(scan: TriangleMesh) -> None:
    """Sixteen scans of one part, noise drawn anew: where places of it come to lie, against what the alignment says of them."""

    class Outcomes:
        def __init__(self, mesh: TriangleMesh) -> None:
            self._mesh = mesh

        def scan(self, _: str) -> TriangleMesh:
            return self._mesh

    step = ByEntities.model_validate({"level": spot(TOP), "towards": spot(SIDE), "origin": spot(BORE)})
    places = np.array([[20.0, 20, 10], [80, 20, 10], [20, 65, 10], [80, 65, 0]])
    found, said = [], []
    for seed in range(16):
        noise = np.random.default_rng(seed).normal(0, 0.02, scan.points.shape)
        made = step.found(Outcomes(TriangleMesh(scan.points + noise, scan.triangles)), POSE, silent())  # type: ignore[arg-type]
        there = made.transform.apply(POSE.apply(places))
        found.append(there)
        said.append(np.stack([made.point_uncertainty(there, np.tile(axis, (4, 1))) for axis in np.eye(3)], axis=1))
    share = np.std(found, axis=0, ddof=1) / np.mean(said, axis=0)
    assert share.max() < 1.3 and 0.25 < share.mean() < 1.0


@pytest.mark.parametrize(
    ("down", "back", "corner"), [(True, False, (60, -45, 0)), (False, True, (-60, -45, 0)), (True, True, (-60, 45, 0))]
)
def test_both_can_be_turned_round(
    scan: TriangleMesh, tmp_path: Path, down: bool, back: bool, corner: tuple[float, ...]
) -> None:
    made = laid(scan, tmp_path, level=spot(TOP), towards=spot(SIDE), origin=spot(BORE), down=down, back=back)
    found = made.transform.apply(POSE.apply(np.array([[80.0, 65, 10]])))[0]
    assert found == pytest.approx(np.array(corner, dtype=float), abs=0.05)
    assert np.linalg.det(made.transform.rotation) == pytest.approx(1.0)


def test_what_is_not_named_stays_free_and_is_told(scan: TriangleMesh, tmp_path: Path) -> None:
    made = laid(scan, tmp_path, level=spot(TOP))
    assert [made.locked[name] for name in ("Tx", "Ty", "Rz")] == ["", "", ""]
    assert made.notes[0].startswith("free to turn about Z") and made.notes[1].startswith("free to slide in X and Y")
    heights = made.transform.apply(POSE.apply(np.array([[10.0, 50, 10], [70, 5, 10]])))[:, 2]
    assert np.abs(heights).max() < 0.02


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        ({"towards": spot(TOP)}, "stands square on the plane, and gives no direction in it"),
        ({"towards": spot(BORE)}, "the cylinder for X stands square on the plane"),
        ({"origin": spot(SIDE)}, "a plane is no point"),
        ({"origin": {"place": [0, 0, 0]}}, "there is no scan within 5 mm of 0, 0, 0"),
    ],
)
def test_what_makes_no_frame_gets_a_sentence(
    scan: TriangleMesh, tmp_path: Path, fields: dict[str, Any], words: str
) -> None:
    with pytest.raises(AlignmentError, match=words):
        laid(scan, tmp_path, level=spot(TOP), **fields)


def test_a_list_of_points_has_no_features(scan: TriangleMesh, tmp_path: Path) -> None:
    with pytest.raises(AlignmentError, match="a list of points has no surface"):
        laid(PointCloud(scan.points[::40]), tmp_path, level=spot(TOP))


def test_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """A part whose drawing begins in its bore: laid by its own features it lies on the drawing."""
    shape = solids.cut(solids.box((-20, -20, -10), (80, 65, 10)), [solids.cylinder((0, 0, -11), (0, 0, 1), 4, 12)])
    write_step(shape, tmp_path / "n.step")
    part = Nominal.from_shape(shape)
    write_mesh(tmp_path / "s.ply", scanned(part))
    places = {"level": (40, 30, 0), "towards": (-20, 10, -5), "origin": (-4, 0, -5)}
    document = {name: spot(place) for name, place in places.items()}
    given = [
        "inspect",
        str(tmp_path / "n.step"),
        str(tmp_path / "s.ply"),
        "--trim",
        "none",
        "--out",
        str(tmp_path / "o"),
        "--json",
    ]
    asked = [*given, "--align", f"entities:{tmp_path / 'e.json'}"]
    (tmp_path / "e.json").write_text(json.dumps(document | {"back": True}))
    assert main(asked) == 0
    found = json.loads(capsys.readouterr().out)
    matrix = np.array(found["alignment"]["matrix"])
    assert np.abs(RigidTransform(matrix).apply(POSE.apply(part.mesh.points)) - part.mesh.points).max() < 0.05
    assert found["alignment"]["method"] == "entities" and found["alignment"]["locked"]["Tx"] == "origin"
    (tmp_path / "e.json").write_text("{}")
    assert main(asked) == 2
    assert "is not an alignment by entities: 'level' is not right" in capsys.readouterr().err


def test_in_the_window(small_desk: Hand) -> None:
    d, session = small_desk, small_desk.window.session
    d.go(Key.ALIGN)
    panel, station = d.window.align.entities, d.window.align
    d.click("Plane for XY")
    apart, scan = station._apart(), session.derived.scan
    assert isinstance(scan, TriangleMesh)

    def click_face(normal: tuple[float, float, float]) -> None:
        """The middle of the largest face that looks a way, turned to the eye."""
        from juxtum.scene.picking import Hit

        rows = np.flatnonzero(scan.triangle_normals @ np.array(normal) > 0.99)
        middle = scan.corners[rows].mean(1)
        row = rows[int(np.argmin(np.linalg.norm(middle - middle.mean(0), axis=1)))]
        station.picked(Hit("scan", apart.apply(scan.corners[row].mean(0)[None])[0], int(row)))
        d.wait()

    click_face((0, 0, 1))
    said = d.named("What makes the frame", QLabel)
    assert isinstance(said, QLabel) and "it may turn about Z" in said.text() and set(panel.spots) == {"level"}
    click_face((1, 0, 0))
    assert "it may slide in X and Y" in said.text() and "turn" not in said.text()
    box = d.named("X the other way", QCheckBox)
    assert isinstance(box, QCheckBox)
    box.click()
    d.click("Lay it by these")
    d.wait(lambda: session.derived.in_force == "entities" and session.derived.evaluation is not None)
    alignment = session.derived.evaluation.alignment
    assert alignment.transform.turn(np.array([[1.0, 0, 0]]))[0] == pytest.approx([-1, 0, 0], abs=1e-3)
    assert any(note.startswith("free to slide in X and Y") for note in alignment.notes)
