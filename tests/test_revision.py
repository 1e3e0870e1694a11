"""Another revision of the nominal: faces are found again by what they are, or said to be lost; never another face in silence."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from helpers import HOLES, STATED, hole_at, plate
from juxtum.demo.solids import box
from juxtum.errors import InputError, JuxtumError
from juxtum.evaluate import Verdict
from juxtum.evaluate.kinds import Flatness, Profile
from juxtum.exchange.cad import read_cad, write_step
from juxtum.geometry import Plane
from juxtum.instruments import Coating
from juxtum.job import FileStore, Job, Procedure, Runner, inputs_of
from juxtum.job.revision import faces_named, named_fingerprints, revised
from juxtum.job.steps import AsScanned, BestFit, DatumChoice, Datums, Decide, GridStep
from juxtum.job.store import load_procedure, save_procedure
from juxtum.nominal import Nominal
from juxtum.nominal.fingerprints import find_again, fingerprints
from juxtum.plan.blind import Finish
from juxtum.plan.document import Plan

pytestmark = pytest.mark.quick


def nominal_of(shape: Any) -> Nominal:
    return Nominal.from_shape(shape)


@pytest.fixture(scope="module")
def before() -> Nominal:
    return nominal_of(plate())


@pytest.mark.parametrize(
    ("shape", "same", "lost"),
    [
        (plate(), "all", ()),
        (plate(HOLES[::-1]), "all", ()),
        (plate(HOLES[1:]), "all", (HOLES[0],)),
        (plate(radius=4.3), "others", ()),
        (plate(((28.0, 20.0), *HOLES[1:])), "all", (HOLES[0],)),
        (plate(radius=7.0), "all", HOLES),
    ],
    ids=[
        "the same",
        "in another order",
        "one hole less",
        "wider holes",
        "a hole moved by its width",
        "holes nearly twice as wide",
    ],
)
def test_faces_are_found_by_what_they_are(
    before: Nominal, shape: Any, same: str, lost: tuple[tuple[float, float], ...]
) -> None:
    after = nominal_of(shape)
    found = find_again(fingerprints(before, (f.number for f in before.faces)), after)
    assert {*found.numbers, *found.lost} == {f.number for f in before.faces} and len(
        set(found.numbers.values())
    ) == len(found.numbers)
    assert {hole_at(before, *place) for place in lost} == set(found.lost)
    for old, new in found.numbers.items():
        a, b = before.face(old), after.face(new)
        assert a.kind == b.kind
        if isinstance(a.feature, Plane):
            assert (
                np.allclose(a.feature.normal, b.feature.normal) and abs(a.feature.distances(b.centre[None])[0]) < 1e-6
            )  # type: ignore[union-attr]
        else:
            assert np.allclose(a.feature.point[:2], b.feature.point[:2], atol=1e-6)  # type: ignore[union-attr]
    assert (same == "all") == (not found.changed)
    assert len(found.notes) == len(found.changed) + len(found.lost)


def top_at_10(nominal: Nominal) -> int:
    return next(
        f.number
        for f in nominal.faces
        if isinstance(f.feature, Plane) and f.feature.normal[2] > 0.99 and abs(f.centre[2] - 10) < 1e-6
    )


def job_on(nominal: Nominal) -> Job:
    """A job in which nearly everything names a face."""
    first, last, top = hole_at(nominal, *HOLES[0]), hole_at(nominal, *HOLES[3]), top_at_10(nominal)
    steps = (
        AsScanned(name="a"),
        BestFit(name="b", faces=(top, first)),
        Datums(name="c", start="a", datums=(DatumChoice(letter="A", faces=(top,)), DatumChoice(letter="B", faces=(first,)))),
        Profile(id="1", title="hole", faces=(first,)), Profile(id="2", title="another", faces=(last,)), Flatness(id="3", title="top", faces=(top,)),
        GridStep(label="G", face=first, spacing=2), Decide(alignment="a"),
    )  # fmt: skip
    coats = tuple(Coating.of("vanishing", (face,), datetime(2026, 11, 20, tzinfo=UTC)) for face in (first, top))
    plan = Plan(datums=(top, first), finishes=((first, Finish.GLOSSY), (last, Finish.DARK)))
    return Job(procedure=Procedure(steps=steps), circumstances=STATED.model_copy(update={"coats": coats}), plan=plan)


def test_everything_that_names_a_face_follows(before: Nominal) -> None:
    job, after = job_on(before), nominal_of(plate((HOLES[0], *HOLES[2:])))
    assert set(faces_named(job)) == {hole_at(before, *HOLES[0]), hole_at(before, *HOLES[3]), top_at_10(before)}
    made, notes = revised(job, named_fingerprints(job, before), after)
    assert notes == () and made == job_on(after).model_copy(update={"id": job.id})
    assert hole_at(before, *HOLES[3]) != hole_at(after, *HOLES[3]), "the numbers are others indeed"


def test_what_is_lost_is_told_and_never_judged(before: Nominal) -> None:
    job, after = job_on(before), nominal_of(plate(HOLES[1:]))
    made, notes = revised(job, named_fingerprints(job, before), after)
    lost = hole_at(before, *HOLES[0])
    assert [text for text in notes if text.startswith(f"face {lost} (cylinder")]
    assert any("the readings G went with it" in text for text in notes) and any(
        "state again what is coated" in text for text in notes
    )
    hole, another, flat = made.procedure.characteristics
    assert (
        hole.faces == ()
        and hole.lost[0].number == lost
        and another.faces == (hole_at(after, *HOLES[3]),)
        and flat.faces == (top_at_10(after),)
    )
    assert [coat.faces for coat in made.circumstances.coats] == [(top_at_10(after),)], (
        "a coat of no faces would be one on all"
    )
    assert Job.model_validate_json(made.model_dump_json(by_alias=True)) == made
    with pytest.raises(InputError, match="is not in the nominal any more"):
        hole.check(after)


def test_a_procedure_runs_on_another_revision(tmp_path: Path) -> None:
    """From the file: the numbers follow, what is lost is not decided with its reason; another part is refused."""
    shapes = {"old.step": plate(), "new.step": plate(HOLES[:0:-1]), "other.step": box((500, 0, 0), (8, 6, 4))}
    for name, shape in shapes.items():
        write_step(shape, tmp_path / name)
    files = FileStore()
    old = Nominal.from_shape(read_cad(tmp_path / "old.step").shape)
    job = job_on(old).model_copy(update={"inputs": inputs_of(files.adopt(tmp_path / "old.step")), "plan": None})
    save_procedure(job, tmp_path / "p.json", tmp_path / "old.step", named_fingerprints(job, old))
    (tmp_path / "new.step").replace(tmp_path / "old.step")
    told: list[str] = []
    made = load_procedure(tmp_path / "p.json", files, told.append)
    assert told[0].startswith("'old.step' is not the nominal that this procedure was made with")
    assert any("is not in the new nominal" in text for text in told)
    runner = Runner(files)
    after = runner.nominal(made)
    mesh = after.mesh
    import trimesh

    trimesh.Trimesh(mesh.points, mesh.triangles, process=False).subdivide_to_size(2.5).export(tmp_path / "scan.ply")
    ledger = runner.evaluation(made.with_scan(files.adopt(tmp_path / "scan.ply"))).ledger
    assert [line.verdict for line in ledger] == [Verdict.NOT_DECIDED, Verdict.CONFORMS, Verdict.CONFORMS]
    assert "is not in the nominal any more" in ledger[0].reason
    with pytest.raises(JuxtumError, match="datum B"):
        runner.evaluation(made.with_scan(files.adopt(tmp_path / "scan.ply")), "c")
    (tmp_path / "other.step").replace(tmp_path / "old.step")
    with pytest.raises(InputError, match="none of its faces were found in it"):
        load_procedure(tmp_path / "p.json", files)
