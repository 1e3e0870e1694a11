"""Datums of which only places are given: a casting that rests on three pads, lies against two and one, against what was injected."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import JUDGEMENT, hole_at, turned
from juxtum.align.result import no_alignment
from juxtum.demo import solids
from juxtum.errors import InputError
from juxtum.evaluate import Verdict, measure_deviation
from juxtum.evaluate.drawing_words import typed
from juxtum.evaluate.drawn.references import Datum, common_datum
from juxtum.evaluate.kinds import Given
from juxtum.evaluate.kinds.location import Position
from juxtum.evaluate.kinds.toleranced import Toleranced
from juxtum.evaluate.typed import typed_characteristic, typed_datum
from juxtum.exchange.solid import TessellationRule
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import Plane
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface

PADS = "at 10 10 0 d8 at 90 10 0 d8 at 50 60 0 d8"
SIDE, END = "at 15 0 10 at 85 0 10", "at 0 35 10"


def part() -> object:
    """100 x 70 x 20 mm with a hole of 12 mm at 60, 40, and a step of 5 mm under one end."""
    return solids.cut(
        solids.box((0, 0, 0), (100, 70, 20)),
        [solids.cylinder((60, 40, -1), (0, 0, 1), 6, 30), solids.box((70, -1, -1), (31, 72, 6))],
    )


@pytest.fixture(scope="module")
def drawn() -> Nominal:
    return Nominal.from_shape(part())


@pytest.fixture(scope="module")
def scan() -> TriangleMesh:
    """Sampled every 0.8 mm, as drawn."""
    fine = Nominal.from_shape(part(), rule=TessellationRule(0.001, 0.1))
    return sample_surface(fine.mesh, fine.triangle_faces, 0.8).mesh


def facing(nominal: Nominal, normal: tuple[float, float, float], place: float) -> int:
    return next(
        f.number
        for f in nominal.faces
        if isinstance(f.feature, Plane)
        and f.feature.normal @ np.array(normal) > 0.99
        and abs(f.feature.point @ np.array(normal) - place) < 1e-6
    )


def bent(scan: TriangleMesh) -> Floats:
    """The points with the long side bulged between its targets, 0.2 mm in its middle, and nothing where the targets are."""
    points = scan.points.copy()
    on_side = np.abs(points[:, 1]) < 1e-9
    bulge = np.clip(1 - ((points[:, 0] - 50) / 25) ** 2, 0, None)
    points[on_side, 1] -= 0.2 * bulge[on_side]
    return points


def position(nominal: Nominal, datums: dict[str, Datum], letters: str) -> Toleranced:
    made = typed_characteristic(f"position d0.5 {letters} of {hole_at(nominal, 60, 40)}", "1", nominal, datums, {})
    assert isinstance(made, Toleranced)
    return made


def datums_at(nominal: Nominal, **texts: str) -> dict[str, Datum]:
    low, high = facing(nominal, (0, 0, -1), 0), facing(nominal, (0, 0, -1), -5)
    side, end = facing(nominal, (0, -1, 0), 0), facing(nominal, (-1, 0, 0), 0)
    named = {"A": f"{low}+{high}", "B": f"{side}", "C": f"{end}"}
    made = (typed_datum(f"{letter}={named[letter]} {words}", nominal) for letter, words in texts.items())
    return {datum.letter: datum for datum in made}


def given(points: Floats, scan: TriangleMesh, nominal: Nominal, move: RigidTransform | None = None) -> Given:
    moved = points if move is None else move.apply(points)
    return Given(measure_deviation(TriangleMesh(moved, scan.triangles), nominal, no_alignment().transform), JUDGEMENT)


STEPPED = {"A": "at 10 10 0 d8 at 90 10 5 d8 at 50 60 0 d8", "B": SIDE, "C": END}


@pytest.mark.parametrize("move", [None, turned((0.0008, -0.0006, 0.001), (0.05, -0.08, 0.06))])
def test_a_part_rests_on_its_targets_and_not_on_what_bulges_between(
    drawn: Nominal, scan: TriangleMesh, move: RigidTransform | None
) -> None:
    """Against the whole side its bulge moves the hole; against two targets beside it nothing does, however the part lies."""
    points = bent(scan)
    found = position(drawn, datums_at(drawn, **STEPPED), "A|B|C").result(given(points, scan, drawn, move))
    assert found.value == pytest.approx(0.0, abs=0.012) and found.verdict is Verdict.CONFORMS
    assert "datums A|B|C, A at 3 targets, B at 2 targets, C at 1 target" in found.measured.meaning
    whole = position(drawn, datums_at(drawn, **STEPPED | {"B": ""}), "A|B|C").result(given(points, scan, drawn, move))
    assert whole.value is not None and whole.value > 0.25


def test_a_target_that_is_off_carries_the_part_along(drawn: Nominal, scan: TriangleMesh) -> None:
    """One pad of the side stands out by 0.07 mm: the part turns by 0.001, and the hole goes by hand-worked amounts."""
    points = scan.points.copy()
    on_pad = (np.abs(points[:, 1]) < 1e-9) & (np.abs(points[:, 0] - 85) < 6)
    points[on_pad, 1] -= 0.07
    found = position(drawn, datums_at(drawn, **STEPPED), "A|B|C").result(given(points, scan, drawn))
    # Turned about the target at X = 15; the end's target then slides along its face, so that X stays where it touches.
    turn = 0.07 / 70
    across = np.array([turn * (35 - 40), turn * (60 - 15)])
    assert found.value == pytest.approx(2 * float(np.linalg.norm(across)), abs=0.012)


def test_three_on_one_plane_are_that_plane(drawn: Nominal, scan: TriangleMesh) -> None:
    low = facing(drawn, (0, 0, -1), 0)
    top = facing(drawn, (0, 0, 1), 20)
    words = "at 10 10 0 d8 at 60 10 0 d8 at 30 60 0 d8"
    points = scan.points.copy()
    on_pad = (np.abs(points[:, 2]) < 1e-9) & (np.hypot(points[:, 0] - 60, points[:, 1] - 10) < 6)
    points[on_pad, 2] -= 0.05
    known = {"A": typed_datum(f"A={low} {words}", drawn)}
    made = typed_characteristic(f"parallelism 0.2 A of {top}", "1", drawn, known, {})
    found = made.result(given(points, scan, drawn))
    # The plane through the three falls by 0.05 over 50 mm along X, and by 0.02 over 50 mm along Y for where the third lies.
    slope = np.array([0.05 / 50, -0.05 * 20 / 50 / 50])
    assert found.value == pytest.approx(float(np.abs(slope) @ [100, 70]), abs=0.015)


@pytest.mark.parametrize(
    ("letter", "words", "sentence"),
    [
        ("B", "at 15 0", "is no target of a datum"),
        ("B", "at 15 0 ten", "is no target of a datum"),
        ("B", "at 15 0 1e300", "is no target of a datum"),
        ("B", "least at 15 0 10", "a datum is not 'least'"),
        ("B", "at 15 -3 10", "lies more than 0.5 mm off the part"),
        ("B", "at 0 35 10", "which is not the datum's"),
        ("B", "at 15 0 10 at 50 0 10 at 85 0 10", "its targets lie in a line"),
        ("C", "at 0 35 10 at 0 35 10", "holds nothing that the others leave free"),
        ("B", " ".join(f"at {x} 0 10" for x in range(10, 60, 2)), "25 targets are too many"),
    ],
)
def test_what_is_no_target_is_said(drawn: Nominal, letter: str, words: str, sentence: str) -> None:
    with pytest.raises(InputError) as problem:
        datums_at(drawn, **{letter: words})
    assert sentence in problem.value.what and problem.value.next


def test_a_target_that_was_not_scanned_is_said(drawn: Nominal, scan: TriangleMesh) -> None:
    near = np.linalg.norm(scan.points[scan.triangles].mean(1) - [85, 0, 10], axis=1) < 8
    rest = TriangleMesh(scan.points, scan.triangles[~near])
    made = position(drawn, datums_at(drawn, **STEPPED), "A|B|C")
    result = made.result(Given(measure_deviation(rest, drawn, no_alignment().transform), JUDGEMENT))
    assert result.verdict is Verdict.NOT_DECIDED and "does not show target 2 of datum B" in result.reason


def test_targets_are_typed_where_faces_are(drawn: Nominal) -> None:
    """In the editor's field: a letter that is known, or faces and targets on them."""
    side = facing(drawn, (0, -1, 0), 0)
    texts = {"features": "7", "datums": f"A|{side} {SIDE}", "modifier": "d"}
    known = datums_at(drawn, A=STEPPED["A"])
    found = typed(Position, texts, known, {})["datums"]
    assert found[0] == known["A"] and [t.place for t in found[1].targets] == [(15, 0, 10), (85, 0, 10)]
    with pytest.raises(InputError, match="is no target of a datum"):
        typed(Position, texts | {"datums": f"{side} at 1"}, known, {})


def test_a_common_datum_has_no_targets(drawn: Nominal) -> None:
    known = datums_at(drawn, A=STEPPED["A"], B="")
    with pytest.raises(InputError, match="a datum of targets is no part of a common datum"):
        common_datum("A-B", known)
