"""The demo world is what the tests and the newcomer rely on."""

from __future__ import annotations

from importlib.resources import files

import numpy as np
import pytest

from juxtum.assemble import find_fragments
from juxtum.demo.carrier import BORE_HEIGHT, BOSS_TOP, build_carrier
from juxtum.demo.job import BRIEF, FACES, characteristics, datum_step, demo_job
from juxtum.demo.truth import Truth
from juxtum.demo.world import nominal_path
from juxtum.errors import InputError
from juxtum.evaluate import grid_places
from juxtum.exchange.cad import read_cad
from juxtum.exchange.shapes import exact_volume
from juxtum.geometry import Cylinder, Plane
from juxtum.geometry.mesh import Scan
from juxtum.job import FileStore
from juxtum.nominal import FaceKind, Nominal


def test_the_shipped_model_is_what_the_script_builds(nominal: Nominal) -> None:
    assert exact_volume(build_carrier()) == pytest.approx(nominal.volume, rel=1e-9)
    assert exact_volume(read_cad(nominal_path()).shape) == pytest.approx(nominal.volume, rel=1e-9)


def test_faces_are_those_that_they_are_called(nominal: Nominal) -> None:
    def primitive(name: str) -> object:
        return nominal.face(FACES[name]).feature

    bore, hole = primitive("bore"), primitive("bolt hole 1")
    assert (
        isinstance(bore, Cylinder)
        and bore.radius == 36
        and bore.point[2] == pytest.approx(BORE_HEIGHT)
        and abs(bore.axis[1]) == 1
    )
    assert isinstance(hole, Cylinder) and hole.point[:2] == pytest.approx([-108, 70])
    for name, height in (
        ("seat top", 140.0),
        ("plate top", 18.0),
        ("boss 1 top", BOSS_TOP),
        ("boss 2 top", BOSS_TOP),
        ("underside", 0.0),
    ):
        plane = primitive(name)
        assert (
            isinstance(plane, Plane)
            and abs(plane.normal[2]) == pytest.approx(1)
            and plane.point[2] == pytest.approx(height)
        )
    assert nominal.face(FACES["shroud"]).kind is FaceKind.FREE_FORM
    end = primitive("seat end")
    assert isinstance(end, Plane) and end.normal == pytest.approx([0, -1, 0])


def test_the_scan_has_what_real_scans_have(raw_scan: Scan, nominal: Nominal, known: Truth) -> None:
    assert 300_000 <= len(raw_scan.points) <= 600_000 and len(raw_scan.triangles) > 500_000
    assert 0.4 < raw_scan.spacing < 0.7
    pieces = find_fragments(raw_scan)
    assert 5 <= len(pieces.areas) <= 40, "loose fragments"
    part = known.pose.inverse.apply(raw_scan.points)
    table = np.abs(part[:, 2]) < 0.1
    assert 0.1 < table.mean() < 0.4 and np.ptp(part[table], axis=0)[:2].min() > 200, "a table larger than the part"
    found = nominal.projector.project(part, limit=2.0)
    plate = (
        (found.faces == FACES["plate top"] - 1)
        & (nominal.edge_distances(found.feet, 4.0) >= 4.0)
        & (np.abs(found.distances) < 0.2)
    )
    assert np.std(found.distances[plate]) == pytest.approx(known.noise, rel=0.15), "noise of the stated size"
    outer = (found.faces >= 0) & (nominal.edge_distances(part, 0.3) < 0.3)
    assert np.quantile(np.abs(found.distances[outer]), 0.6) > 2.5 * known.noise, "edges are rounded"


def test_the_truth_is_written_down_once(known: Truth) -> None:
    text = files("juxtum.demo").joinpath("data/truth.json").read_text("utf-8")
    for number in ("0.08", "0.06", "0.30", "0.22", "-0.14", "0.45", "0.015"):
        assert number in text
    assert known.errors.hole_shift == (0.22, -0.14)


def test_the_job_is_ready_but_nothing_is_done_yet() -> None:
    job = demo_job(FileStore())
    assert not job.procedure.cleaning and not job.procedure.alignments and not job.procedure.readings
    assert len(characteristics()) == len(job.procedure.characteristics) == 8
    assert job.brief == BRIEF and job.scan is not None and job.nominal is not None
    assert [d.letter for d in datum_step("best fit").datums] == ["A", "B", "C"]


def test_grids_keep_their_spacing(nominal: Nominal) -> None:
    places = grid_places(nominal, FACES["plate top"], 25.0)
    apart = np.linalg.norm(places[:, None] - places[None], axis=2) + 1e9 * np.eye(len(places))
    assert len(places) > 20 and apart.min() > 24 and np.abs(places[:, 2] - 18).max() < 1e-9
    assert nominal.edge_distances(places, 2.0).min() >= 1.9


@pytest.mark.parametrize(
    ("face", "spacing", "words"),
    [
        ("plate top", 1.0, "more than 400 readings"),
        ("plate top", 0.0, "not positive"),
        (15, 5.0, "too narrow for a grid"),
    ],
)
def test_grids_that_make_no_sense(nominal: Nominal, face: str | int, spacing: float, words: str) -> None:
    with pytest.raises(InputError, match=words):
        grid_places(nominal, FACES[face] if isinstance(face, str) else face, spacing)
