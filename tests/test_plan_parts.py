"""Parts of planning on their own: patches, poses, order of sticking, layers on the stage, pages, documents, migration."""

from __future__ import annotations

import json
import re
import subprocess
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from benchmarks.starts import drill
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import box_mesh
from juxtum.demo import solids
from juxtum.demo.beam_job import beam_job
from juxtum.demo.job import demo_job
from juxtum.desk.planning import topics
from juxtum.desk.planning.rows import facts_of, laid, table_of
from juxtum.desk.planning.topics import Topic
from juxtum.errors import InputError
from juxtum.instruments.models import Kind, shipped
from juxtum.job import FileStore, Job, load_job, save_job
from juxtum.job.planning import task_of
from juxtum.job.store import parse_job
from juxtum.nominal import Nominal
from juxtum.plan.cautions import DEFER, cautions
from juxtum.plan.document import Plan, PlannedTarget
from juxtum.plan.grounds import Grounds
from juxtum.plan.planner import Planner, chances, default_plan, expected_coverage, tracked_coverage
from juxtum.plan.rough_part import part_from_scan
from juxtum.plan.targets.approach import approaches
from juxtum.plan.targets.naming import face_counts, face_words
from juxtum.plan.targets.targets import Target, sticking_order
from juxtum.plan.targets.views import Stance, make_patches
from juxtum.plan.task import whole_part
from juxtum.progress import Progress
from juxtum.report.plan_result import effort_document, suitability_document, targets_document
from juxtum.report.setup_notes import setup_notes
from juxtum.report.setup_sheet import WIDTH, take_sheet_pictures, targets_table, write_setup_sheet
from juxtum.report.sheet_positions import take_position_pictures
from juxtum.scene.plan_layers import BANDS, band_surfaces, bands_of, cylinder_lines, tray_lines


@pytest.fixture(scope="module")
def planner(nominal: Nominal) -> Planner:
    """BC-220 with a modest plan."""
    job = demo_job(FileStore(), with_scan=False)
    assert job.plan is not None
    begun = Planner(nominal, task_of(job), job.plan.model_copy(update={"goal": 0.6}), Grounds())
    return replace(begun, plan=begun.planned())


def test_patches_share_out_the_whole_surface_and_lie_on_it(nominal: Nominal) -> None:
    faces = tuple(f.number for f in nominal.faces)
    patches = make_patches(nominal, faces, 30.0)
    assert patches.areas.sum() == pytest.approx(nominal.samples.mesh.area) == pytest.approx(nominal.area, rel=2e-3)
    by_face = np.bincount(patches.faces, patches.areas, len(nominal.faces))
    assert by_face == pytest.approx([f.area for f in nominal.faces], rel=0.08, abs=3)
    found = nominal.projector.project(patches.places)
    assert np.abs(found.distances).max() < 1e-6
    assert np.einsum("ij,ij->i", found.normals, patches.normals).min() > 0.99
    assert len(patches.samples) == len(nominal.samples.faces) and patches.owners.max() == len(patches.places) - 1
    with pytest.raises(InputError, match="there is no surface to measure"):
        make_patches(nominal, (), 30.0)


def test_on_a_table_no_pose_is_below_it_and_stands_let_it_be(nominal: Nominal) -> None:
    task, hand = whole_part(-1, 1), shipped(Kind.HANDHELD)
    table = Grounds().of(nominal, task, hand, hand.modes[0], Stance.TABLE, Progress()).views
    for setup, turned in enumerate(table.turned):
        heights = turned.apply(table.eyes[table.setups == setup])[:, 2]
        assert heights.min() > 50
    stands = Grounds().of(nominal, task, hand, hand.modes[0], Stance.STANDS, Progress()).views
    assert len(stands.turned) == 1 and (stands.eyes[:, 2] < 0).any()


@settings(max_examples=25, deadline=None)
@given(st.integers(1, 40), st.integers(0, 1000))
def test_the_order_of_sticking_is_a_short_walk_over_the_same_targets(count: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    targets = tuple(Target(p, np.array([0, 0, 1.0]), 1, 9.0) for p in rng.uniform(0, 200, (count, 3)))
    walk = sticking_order(targets)
    assert {id(t) for t in walk} == {id(t) for t in targets}

    def length(order: tuple[Target, ...]) -> float:
        points = np.array([t.place for t in order])
        return float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum())

    if count > 12:
        assert length(walk) < length(targets)


def test_bands_cover_the_part_once(planner: Planner) -> None:
    a = planner.assess()
    patches = planner.ground().patches
    names = bands_of(planner.ground(), a.tracking, a.covered)
    surfaces = band_surfaces(planner.nominal, patches, names)
    triangles = sum(len(s.triangles) for s in surfaces.values() if s is not None)
    assert triangles == len(planner.nominal.samples.faces)
    assert set(surfaces) == {f"band {name}" for name, _ in BANDS} | {"band blank"}
    areas = patches.areas
    well = float(areas[names == "good"].sum() / areas[names != "blank"].sum())
    assert well == pytest.approx(a.share) and a.weakest_words
    assert a.weakest is not None and a.covered.lacks[a.weakest] > 0, "nothing is called weak that lacks nothing"


def test_a_tray_is_drawn_inside_its_cylinder() -> None:
    part = Nominal.from_mesh(box_mesh((30.0, 20.0, 10.0)))
    tray = Planner(part, whole_part(-1, 1), Plan(parts_in_tray=6), Grounds()).tray()
    low, high = np.array(tray_lines(tray).data.GetBounds()).reshape(3, 2).T
    cylinder = np.array(cylinder_lines(tray.cylinder.diameter, tray.cylinder.height).data.GetBounds()).reshape(3, 2).T
    assert tray.count == 6 and (low >= cylinder[0] - 1e-3).all() and (high <= cylinder[1] + 1e-3).all()


def test_sheet_pictures_show_every_target_that_can_be_seen(planner: Planner, tmp_path: Path) -> None:
    pictures, strips = take_sheet_pictures(planner)
    assert strips == [] and 1 <= len(pictures) <= 10
    told = {number for p in pictures for number, _, _ in p.marks}
    assert told == set(range(1, len(planner.plan.targets) + 1)), "those that no side shows get a view of their own"
    counts = face_counts(planner.nominal, planner.plan.placed)
    assert sorted(n for c in counts for n in c.numbers) == sorted(told)
    assert counts[0].numbers[0] == 1 and len({c.words for c in counts}) > len(counts) / 2
    assert all(0 < x < 1 and 0 < y < 1 for p in pictures for _, x, y in p.marks)
    assert len(targets_table(planner).splitlines()) == len(planner.plan.targets) + 1
    with pytest.raises(InputError, match="the plan has no targets yet"):
        write_setup_sheet(tmp_path, Job(), replace(planner, plan=Plan()))


def test_the_sheet_says_from_where_to_scan_and_that_shows_the_part(planner: Planner) -> None:
    """Whoever follows it sees all but a few per cent of what any tracked pose sees, and nothing comes out of the table."""
    ground, holds = planner.ground(), planner.holding()
    sides = approaches(ground, holds)
    assert 3 <= len(sides) <= 10 and all("above" in s.words or s.way[2] == 0 for s in sides)
    assert [s.position for s in sides] == sorted(s.position for s in sides)
    turns = np.stack([t.rotation for t in ground.views.turned])[ground.views.setups]
    towards = np.einsum("pij,pj->pi", turns, -ground.views.axes)
    near = [(towards @ s.direction > np.cos(np.radians(30))) & (ground.views.setups == s.position) for s in sides]
    followed = ground.cover.area(holds & np.any(near, axis=0))
    assert followed > 0.97 * ground.cover.area(holds)
    pictures = take_position_pictures(planner, planner.assess())
    assert [len(p.arrows) for p in pictures] == [n for k in (0, 1) if (n := sum(s.position == k for s in sides))]
    assert all((p.arrows > 0).all() and (p.arrows < 1).all() for p in pictures)
    assert pictures[0].caption.startswith(f"Position 1: scan from 1 {sides[0].words}, 2 {sides[1].words}")


def test_faces_are_named_by_where_they_are() -> None:
    """A box: which way each side looks, and how far along that way it lies; a hole goes round; the table is no face."""
    box = Nominal.from_shape(solids.cut(solids.box((0, 0, 0), (90, 60, 30)), [drill(70, 30, 8)]))
    words = {face_words(box, f.number) for f in box.faces}
    assert words == {
        "facing left at X 0, in the middle", "facing right at X 90, in the middle", "facing front at Y 0, in the middle",
        "facing back at Y 60, in the middle", "facing down at Z 0, in the middle", "facing up at Z 30, in the middle",
        "all round, right",
    }  # fmt: skip
    assert face_words(box, 0) == "on the table beside the part"


def test_a_long_part_is_pictured_in_strips(beam: Nominal) -> None:
    job = beam_job(FileStore())
    assert job.plan is not None
    rng = np.random.default_rng(0)
    front = rng.uniform([-1700, -80, 20], [1700, -80, 180], (30, 3)) * [1, 1, 0.01] + [0, 0, 5]
    targets = tuple(PlannedTarget(place=tuple(p), normal=(0.0, -1.0, 0.0), face=3, edge=6.0) for p in front.tolist())  # type: ignore[arg-type]
    made = Planner(beam, task_of(job), job.plan.model_copy(update={"targets": targets}), Grounds())
    pictures, strips = take_sheet_pictures(made)
    shown = [number for s in strips for number, _, _ in s.marks]
    assert sorted(set(shown)) == list(range(1, 31)) and len(shown) <= 33, "each in its own strip, save at the cuts"
    assert pictures[0].bars, "the scale bars are drawn"
    assert strips[0].title.startswith("Front, X \u2212")


def test_many_targets_fit_their_sheet(planner: Planner, tmp_path: Path) -> None:
    """Sixty on one face: every number stands on the page, and what must not be lost is a count, not a list."""
    top = next(
        f.number for f in planner.nominal.faces if face_words(planner.nominal, f.number).startswith("facing up at Z 18")
    )
    rng = np.random.default_rng(0)
    places = rng.uniform([-120, -80, 18], [-60, 80, 18], (60, 3)).tolist()
    targets = tuple(PlannedTarget(place=tuple(p), normal=(0.0, 0.0, 1.0), face=top, edge=6.0) for p in places)  # type: ignore[arg-type]
    made = replace(planner, plan=planner.plan.model_copy(update={"targets": targets}))
    write_setup_sheet(tmp_path, Job(), made)
    shown = subprocess.run(
        ["pdftotext", "-bbox", str(tmp_path / "setup-sheet.pdf"), "-"], capture_output=True, text=True, check=True
    ).stdout
    assert max(float(x) for x in re.findall(r'xMax="([0-9.]+)"', shown)) < WIDTH
    a = made.assess()
    assert not any("must not be lost" in note for note in setup_notes(made, replace(a, facts=())))
    costly = replace(a, facts=tuple(replace(fact, cost=0.1) for fact in a.facts))
    assert any(note.startswith("Of the 60 targets 60 must not be lost") for note in setup_notes(made, costly))


def test_documents_hold_no_number_that_json_lacks(planner: Planner) -> None:
    models = (planner.model,)
    table = planner.suitability(models)
    from juxtum.plan.suitability import chain_chart

    a = planner.assess()
    for document in (
        suitability_document(table, chain_chart(table, models), planner), targets_document(planner, a, ()), effort_document(planner.effort()),
    ):  # fmt: skip
        assert json.loads(json.dumps(document, allow_nan=False)) == document
    expected = planner.plan.expected
    assert expected is not None and expected.coverage == pytest.approx(
        expected_coverage(planner.ground(), chances(planner, a), planner.blind())
    )
    assert expected.coverage < tracked_coverage(planner.ground(), a), "what only a probe gives is not promised"


def test_every_topic_has_its_rows_facts_and_next_step(planner: Planner) -> None:
    for topic in Topic:
        try:
            made = topics.answer(topic, planner, Progress())
        except InputError as problem:
            assert topic is Topic.TRAY
            assert topics.next_step(topic, planner, problem).action == "next topic"
            continue
        table = table_of(made, planner)
        assert table is None or (all(len(row) == len(table[0]) for row in table[1]) and table[1])
        assert facts_of(made, planner) or topic is Topic.FIT
        assert topics.next_step(topic, planner, made).reason
    assert laid((0.0, 0.0)) == "upright" and laid((0.0, -90.0)) == "\u221290\u00b0 about Y"


def test_questions_change_only_with_what_they_rest_on(planner: Planner) -> None:
    moved = replace(planner, plan=planner.plan.with_targets(planner.plan.placed[1:]))
    assert topics.question(Topic.TARGETS, moved) != topics.question(Topic.TARGETS, planner)
    assert topics.question(Topic.BLIND, moved) == topics.question(Topic.BLIND, planner)
    assert topics.ways_question(moved) == topics.ways_question(planner) != topics.question(Topic.BLIND, planner)


def test_jobs_of_the_first_version_are_brought_forward(tmp_path: Path) -> None:
    old = json.loads(Job().model_dump_json(by_alias=True))
    old["version"] = 1
    del old["plan"]
    assert parse_job(json.dumps(old).encode(), Path("old.juxtum")).plan is None
    files = FileStore()
    job = demo_job(files, with_scan=False)
    save_job(job, tmp_path / "new.juxtum", files)
    assert load_job(tmp_path / "new.juxtum", FileStore(), tmp_path / "inputs") == job
    damaged = json.loads(job.model_dump_json(by_alias=True))
    damaged["plan"]["targets"] = [{"place": [0, 0], "normal": [0, 0, 1], "face": 1, "edge": 3}]
    with pytest.raises(InputError, match=r"the job is damaged: 'plan.targets.0.place"):
        parse_job(json.dumps(damaged).encode(), Path("bad.juxtum"))


def test_cautions_name_what_applies_and_defer(planner: Planner) -> None:
    plan = planner.plan
    assert cautions(plan, 11.0) == (
        "Laser class 2M: do not look into the lines, least of all through a loupe, a telescope or a camera, mind reflections from bare metal.",
        DEFER,
    )
    words = " ".join(cautions(plan.model_copy(update={"coat": "vanishing", "chain": "with photo set and bars"}), 180.0))
    assert "180 kg" in words and "respirator" in words and "customer's leave" in words and "Tripods" in words
    cabinet = plan.model_copy(update={"instrument": shipped(Kind.CABINET), "chain": ""})
    assert "X-rays" in " ".join(cautions(cabinet, float("nan")))


def test_heavy_parts_begin_on_stands(nominal: Nominal, beam: Nominal) -> None:
    assert default_plan(nominal, whole_part(-1, 1)).stance is Stance.TABLE
    assert default_plan(beam, whole_part(-1, 1)).stance is Stance.STANDS


def test_a_spacing_outside_the_mode_and_a_name_that_is_not_there_are_refused(planner: Planner) -> None:
    with pytest.raises(InputError, match="outside what 'crossed lines' can do"):
        replace(planner, plan=planner.plan.model_copy(update={"spacing": 0.01})).spacing()
    with pytest.raises(InputError, match="has no method 'by hand'"):
        replace(planner, plan=planner.plan.model_copy(update={"chain": "by hand"})).effort()


def test_a_scan_is_thinned_to_a_part_of_the_same_size() -> None:
    mesh = box_mesh((120.0, 80.0, 40.0), cuts=7)
    part = part_from_scan(mesh, triangles=20_000)
    assert len(part.mesh.triangles) <= 20_000 and part.area == pytest.approx(mesh.area, rel=1e-3)
    assert np.allclose(part.mesh.bounds, mesh.bounds, atol=0.05) and len(part.faces) == 6
