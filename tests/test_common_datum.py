"""A datum that two features make together: a shaft turned between its bearings, against what was injected."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import JUDGEMENT
from juxtum.align import DatumFeature, datum_alignment
from juxtum.align.result import no_alignment
from juxtum.associate.coaxial import fit_coaxial
from juxtum.demo import solids
from juxtum.errors import InputError
from juxtum.evaluate import Deviation, Verdict, measure_deviation
from juxtum.evaluate.kinds import Given
from juxtum.evaluate.typed import typed_characteristic, typed_datum
from juxtum.geometry import PointCloud, RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.geometry.features import Cylinder
from juxtum.geometry.transform import rotation_from_vector
from juxtum.nominal import Nominal

PARTS = ((10.0, 0.0, 30.0), (15.0, 30.0, 40.0), (8.0, 70.0, 30.0))
"""Radius, where it begins and how long it is, of each part of the shaft along Z."""


@pytest.fixture(scope="module")
def shaft() -> Nominal:
    shapes = [solids.cylinder((0, 0, z), (0, 0, 1), r, length) for r, z, length in PARTS]
    return Nominal.from_shape(solids.fused(shapes[0], shapes[1:]))


def face_of(nominal: Nominal, radius: float) -> int:
    return next(
        f.number for f in nominal.faces if isinstance(f.feature, Cylinder) and abs(f.feature.radius - radius) < 1e-6
    )


def turned(offsets: tuple[Floats, Floats, Floats], noise: float = 0.003) -> PointCloud:
    """The shaft with each of its parts off the axis by so much (x, y)."""
    rng, points, normals = np.random.default_rng(3), [], []
    for (radius, start, length), offset in zip(PARTS, offsets, strict=True):
        turn, z = np.meshgrid(
            np.linspace(0, 2 * np.pi, int(10 * radius), endpoint=False), np.arange(start + 0.5, start + length, 0.7)
        )
        out = np.stack([np.cos(turn), np.sin(turn), 0 * turn], -1).reshape(-1, 3)
        reach = radius + rng.normal(0, noise, len(out))
        points.append(out * reach[:, None] + [*offset, 0] + np.outer(z.ravel(), [0, 0, 1]))
        normals.append(out)
    return PointCloud(np.concatenate(points), np.concatenate(normals))


def deviation_of(shaft: Nominal, cloud: PointCloud) -> Deviation:
    return measure_deviation(cloud, shaft, no_alignment().transform)


def test_runout_is_about_the_axis_of_both_bearings(shaft: Nominal) -> None:
    """The middle runs 0.05 off: 0.1 to both bearings. One bearing 0.04 off: the axis leans, and the middle with it by half."""
    known = {
        d.letter: d for d in (typed_datum(f"{x}={face_of(shaft, r)}", shaft) for x, r in (("A", 10.0), ("B", 8.0)))
    }
    made = typed_characteristic(f"runout 0.12 A-B of {face_of(shaft, 15.0)}", "1", shaft, known, {})
    assert made.line.datums == "A-B"
    none, off, bearing = np.zeros(2), np.array([0.05, 0.0]), np.array([0.0, 0.04])
    result = made.result(Given(deviation_of(shaft, turned((none, off, none))), JUDGEMENT))
    assert result.value == pytest.approx(0.1, abs=0.008) and result.verdict is Verdict.CONFORMS
    # The middles of the bearings lie at Z 15 and 85, that of the shaft's middle at 50: half way. To A alone it runs true.
    leaning = deviation_of(shaft, turned((none, none, bearing)))
    both = made.result(Given(leaning, JUDGEMENT))
    alone = typed_characteristic(f"runout 0.12 A of {face_of(shaft, 15.0)}", "2", shaft, known, {}).result(
        Given(leaning, JUDGEMENT)
    )
    assert both.value == pytest.approx(0.04 * (1 + 20 / 70), abs=0.01) and alone.value < 0.03
    coaxial = typed_characteristic(f"coaxiality 0.2 A-B of {face_of(shaft, 15.0)}", "3", shaft, known, {})
    middle = coaxial.result(Given(deviation_of(shaft, turned((none, off, none))), JUDGEMENT))
    assert middle.value == pytest.approx(0.1, abs=0.008)


def test_the_axis_of_both_does_not_hang_on_where_it_lies() -> None:
    cloud = turned((np.zeros(2), np.zeros(2), np.zeros(2)), 0.0)
    one, two = cloud.points[cloud.points[:, 2] < 30], cloud.points[cloud.points[:, 2] > 70]
    motion = RigidTransform.from_parts(rotation_from_vector([0.4, -0.9, 0.2]), [900.0, -400.0, 70.0])
    start = Cylinder(
        motion.apply(np.array([[0.2, -0.1, 3.0]]))[0], motion.turn(np.array([[0.004, 0.003, 1.0]]))[0], 9.8
    )
    made = fit_coaxial(motion.apply(one), motion.apply(two), start)
    ends = motion.apply(np.array([[0.0, 0, 0], [0, 0, 100]]))
    assert made.feature.distances(ends).max() < 1e-7 and made.rms < 1e-7 and made.covariance.shape == (4, 4)


def test_the_part_is_locked_to_both_of_its_bearings(shaft: Nominal) -> None:
    """One bearing 0.04 off: the axis through both leans, and the part is laid on it; turned about it, it stays as it was."""
    flat = min((f for f in shaft.faces if f.kind == "plane"), key=lambda f: f.centre[2]).number
    none, bearing = np.zeros(2), np.array([0.0, 0.04])
    start = RigidTransform.from_parts(rotation_from_vector([0.001, -0.002, 0.0]), [0.2, -0.1, 0.1])
    cloud = turned((none, none, bearing))
    ends = np.stack(
        [np.stack([x, y, np.zeros_like(x)], -1) for x, y in [np.meshgrid(*2 * [np.arange(-6, 6.1, 0.5)])]]
    ).reshape(-1, 3)
    whole = PointCloud(
        np.concatenate([cloud.points, ends]), np.concatenate([cloud.normals, np.tile([0.0, 0, -1], (len(ends), 1))])
    )
    datums = (DatumFeature("A", (face_of(shaft, 10.0), face_of(shaft, 8.0))), DatumFeature("B", (flat,)))
    found = datum_alignment(whole.moved(start.inverse), shaft, start, datums)
    # In the frame found both bearings lie off by half of it, each its own way, at their middles.
    laid = (found.transform @ start.inverse).apply(np.array([[0.0, 0.0, 15.0], [0.0, 0.04, 85.0]]))
    assert np.abs(laid[:, :2]).max() < 2e-3, "both middles lie on the axis"
    others = {name: letter for name, letter in found.locked.items() if letter != "A"}
    assert others == {"Tz": "B", "Rz": "free"}
    assert any("free to turn about Z" in note for note in found.notes)
    alone = datum_alignment(
        whole.moved(start.inverse), shaft, start, (DatumFeature("A", (face_of(shaft, 10.0),)), datums[1])
    )
    away = (alone.transform @ start.inverse).apply(np.array([[0.0, 0.04, 85.0]]))[0]
    assert away[1] == pytest.approx(0.04, abs=0.01), "by one bearing alone the other runs out"


COMMON_BAD = [
    ("runout 0.1 A-Z of {mid}", "there is no datum 'A-Z'"),
    ("runout 0.1 A-C of {mid}", "make no common datum here"),
    ("runout 0.1 A-D of {mid}", "a middle plane is no part of a common datum"),
]


@pytest.mark.parametrize(("text", "said"), COMMON_BAD)
def test_what_is_no_common_datum_is_said(shaft: Nominal, text: str, said: str) -> None:
    flat = next(f.number for f in shaft.faces if f.kind == "plane")
    other = [f.number for f in shaft.faces if f.kind == "plane"][-1]
    names = {"A": face_of(shaft, 10.0), "B": face_of(shaft, 8.0), "C": flat, "D": f"{flat}|{other}"}
    known = {d.letter: d for d in (typed_datum(f"{letter}={faces}", shaft) for letter, faces in names.items())}
    with pytest.raises(InputError, match=said):
        typed_characteristic(text.format(mid=face_of(shaft, 15.0)), "1", shaft, known, {})


def test_faces_of_one_surface_are_one_common_datum() -> None:
    """Two feet in one plane, one of them 0.1 low: the plane through both leans."""
    block = Nominal.from_shape(
        solids.cut(solids.box((0, 0, 0), (100, 40, 20)), [solids.box((30, -1, 10), (40, 42, 11))])
    )
    feet = [f.number for f in block.faces if f.kind == "plane" and f.feature.normal[2] > 0.9 and f.centre[2] > 19]  # type: ignore[union-attr]
    floor = next(f.number for f in block.faces if f.kind == "plane" and f.feature.normal[2] > 0.9 and f.centre[2] < 19)  # type: ignore[union-attr]
    assert len(feet) == 2
    known = {d.letter: d for d in (typed_datum(f"{x}={n} gauss", block) for x, n in zip("AB", feet, strict=True))}
    made = typed_characteristic(f"parallelism 0.2 A-B of {floor}", "1", block, known, {})
    x, y = (v.ravel() for v in np.meshgrid(np.arange(0.5, 100, 0.7), np.arange(0.5, 40, 0.7), indexing="ij"))
    z = np.where(x < 30, 20.0, np.where(x > 70, 19.9, 10.0))
    cloud = PointCloud(np.stack([x, y, z], 1), np.tile([0.0, 0, 1], (len(x), 1)))
    result = made.result(Given(deviation_of(block, cloud), JUDGEMENT))
    # Two steps of 0.1, 70 mm apart, make a line of least squares that falls by about 0.13 over 100 mm: 0.05 over the floor.
    assert result.value == pytest.approx(0.05, abs=0.012)


def bored_block(holes: list[tuple[float, float]], offsets: Floats) -> tuple[Nominal, PointCloud]:
    """A block with bores of 8 mm, and what a scan shows of it with each bore off by so much (x, y)."""
    block = Nominal.from_shape(
        solids.cut(
            solids.box((0, 0, 0), (100, 100, 20)), [solids.cylinder((x, y, -1), (0, 0, 1), 4.0, 22) for x, y in holes]
        )
    )
    x, y = (v.ravel() for v in np.meshgrid(np.arange(0.4, 100, 0.8), np.arange(0.4, 100, 0.8), indexing="ij"))
    clear = np.all([np.hypot(x - a, y - b) > 4.6 for a, b in holes], axis=0)
    top = np.stack([x[clear], y[clear], np.full(clear.sum(), 20.0)], axis=1)
    points, normals = [top], [np.tile([0.0, 0, 1], (len(top), 1))]
    turn, z = (v.ravel() for v in np.meshgrid(np.linspace(0, 2 * np.pi, 60, endpoint=False), np.arange(0.5, 20, 0.7)))
    out = np.stack([np.cos(turn), np.sin(turn), 0 * turn], axis=1)
    for (a, b), (dx, dy) in zip(holes, offsets, strict=True):
        points.append(4 * out + np.column_stack([np.full(len(z), a + dx), np.full(len(z), b + dy), z]))
        normals.append(-out)
    return block, PointCloud(np.concatenate(points), np.concatenate(normals))


def test_a_pattern_that_moved_as_a_whole_is_good_among_itself() -> None:
    """All bores 0.3 off and turned together: bad to the datums, good among themselves but for the one that is off by itself."""
    holes = [(25.0, 25.0), (75.0, 25.0), (75.0, 75.0), (25.0, 75.0)]
    turn = 0.004 * np.array([[-(y - 50), x - 50] for x, y in holes])
    alone = np.array([[0.08, 0.0], [0, 0], [0, 0], [0, 0]])
    block, cloud = bored_block(holes, np.array([0.3, 0.0]) + turn + alone)
    bores = [
        next(
            f.number
            for f in block.faces
            if f.feature is not None and f.kind == "cylinder" and np.hypot(*(f.centre[:2] - h)) < 5
        )
        for h in holes
    ]
    top = next(f.number for f in block.faces if f.kind == "plane" and f.centre[2] > 19)
    known = {"A": typed_datum(f"A={top} gauss", block)}
    of = ";".join(map(str, bores))
    given = Given(deviation_of(block, cloud), JUDGEMENT)
    tight, loose = (
        typed_characteristic(f"position d0.2 {words}A of {of}", "1", block, known, {}) for words in ("pattern ", "")
    )
    assert loose.result(given).value > 0.6 or loose.result(given).verdict is Verdict.NOT_DECIDED
    among = tight.result(given)
    # One of four is 0.08 off: shared out over shift and turn, so that the worst is nearest.
    from scipy.optimize import minimize

    def worst(m: Floats) -> float:
        moved = alone + m[:2] + m[2] * np.array([[-(y - 50), x - 50] for x, y in holes]) / 50
        return float(np.hypot(*moved.T).max())

    best = min(minimize(worst, start, method="Nelder-Mead", options={"xatol": 1e-9, "fatol": 1e-12, "maxiter": 8000}).fun
               for start in ([0.0, 0, 0], [-0.02, 0.01, 0.01], [-0.04, 0, 0.0]))  # fmt: skip
    assert among.value == pytest.approx(2 * best, abs=0.006) and among.verdict is Verdict.CONFORMS
    with pytest.raises(InputError, match="a pattern has two members or more"):
        typed_characteristic(f"position d0.2 pattern A of {bores[0]}", "2", block, known, {})
