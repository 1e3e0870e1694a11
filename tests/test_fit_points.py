"""Features from bare points: against known shapes, against the conditions of an optimum, and what makes none."""

from __future__ import annotations

import json
from itertools import combinations
from pathlib import Path

import numpy as np
import pytest

from juxtum.associate.from_points import KINDS, associated, circumscribed, inscribed, zoned
from juxtum.associate.zones import signed_distances
from juxtum.cli.main import main
from juxtum.errors import JuxtumError
from juxtum.geometry.transform import rotation_from_vector

AWAY = np.array([4000.0, -7000.0, 2500.0])
TURN = rotation_from_vector(np.array([0.6, -0.4, 1.1]))


def made(kind: str, arc: float, count: int, noise: float, seed: int = 3) -> np.ndarray:
    """Points of a shape over an arc (degrees), with noise, turned and 8 m off; flat kinds near their plane's origin."""
    rng = np.random.default_rng(seed)
    angle, height = np.radians(rng.uniform(0, arc, count)), rng.uniform(-20, 30, count)
    other = np.radians(rng.uniform(0, max(arc, 90), count))
    co, si, one = np.cos(angle), np.sin(angle), np.ones(count)
    shapes = {
        "line2d": (height, 0 * one, 0 * one), "line3d": (height, 0 * one, 0 * one), "plane": (height, 40 * co, 0 * one),
        "circle2d": (25 * co, 25 * si, 0 * one), "circle3d": (25 * co, 25 * si, 0 * one),
        "sphere": (25 * co * np.cos(other), 25 * si * np.cos(other), 25 * np.sin(other)),
        "cylinder": (25 * co, 25 * si, height),
        "cone": ((25 + 0.2 * height) * co, (25 + 0.2 * height) * si, height),
        "torus": ((40 + 8 * np.cos(other)) * co, (40 + 8 * np.cos(other)) * si, 8 * np.sin(other)),
    }  # fmt: skip
    points = np.column_stack(shapes[kind])
    if kind.endswith("2d"):
        points[:, :2] += rng.normal(0, noise, (count, 2)) + np.array([300.0, -200.0])
        return points
    return (points + rng.normal(0, noise, points.shape)) @ TURN.T + AWAY


TRUE = {
    "circle2d": {"radius": 25.0}, "circle3d": {"radius": 25.0}, "sphere": {"radius": 25.0}, "cylinder": {"radius": 25.0},
    "cone": {"half_angle": np.arctan(0.2)}, "torus": {"radius": 40.0, "minor_radius": 8.0},
}  # fmt: skip


@pytest.mark.parametrize("arc", [360.0, 120.0, 60.0])
@pytest.mark.parametrize("kind", KINDS)
def test_a_shape_without_noise_is_found_exactly(kind: str, arc: float) -> None:
    found = associated(kind, made(kind, arc, 60, 0.0))
    assert found.form < 1e-7 and found.rms < 1e-8
    for name, value in TRUE.get(kind, {}).items():
        assert abs(getattr(found.feature, name)) == pytest.approx(value, abs=1e-6)


@pytest.mark.parametrize("kind", [kind for kind in KINDS if kind != "line2d"])
def test_with_noise_no_neighbour_is_better(kind: str) -> None:
    """The sum of squares of a Gauss fit rises with every small change of the feature."""
    points = made(kind, 200.0, 400, 0.05)
    found = associated(kind, points)
    least = (
        float((signed_distances(found.feature, points) ** 2).sum())
        if kind != "circle3d"
        else float((found.feature.distances(points) ** 2).sum())
    )
    steps = found.feature.linearised(points)[1].shape[1]
    for column, size in combinations([*range(steps), 1e-4, -1e-4], 2):
        if isinstance(column, float) or not isinstance(size, float):
            continue
        step = np.zeros(steps)
        step[column] = size
        other = (
            found.feature.anchored(points.mean(0)).stepped(step)
            if kind not in ("circle2d", "circle3d")
            else found.feature.stepped(step)
        )
        if kind == "circle2d" and column in (2, 3, 4):
            continue
        moved = other.distances(points) if kind == "circle3d" else signed_distances(other, points)
        assert float((moved**2).sum()) > least - 1e-9 * max(least, 1.0), (column, size)


@pytest.mark.parametrize("kind", ["line2d", "plane", "circle2d"])
def test_a_zone_is_no_wider_than_any_other(kind: str) -> None:
    """Not than that of the Gauss fit, not than with any small change, and of known shapes as wide as it must be."""
    for seed in range(3):
        points = made(kind, 300.0, 60, 0.05, seed)
        zone, gauss = zoned(kind, points), associated(kind, points)
        assert zone.form <= gauss.form + 1e-12
        if kind == "line2d":
            widths = [
                np.ptp((points - a)[:, :2] @ np.array([-(b - a)[1], (b - a)[0]]) / np.linalg.norm((b - a)[:2]))
                for a, b in combinations(points, 2)
            ]
            assert zone.form == pytest.approx(min(widths), abs=1e-9), (
                "a pair of points bears a side of the narrowest strip"
            )
        if kind == "plane":
            normals = [np.cross(b - a, c - a) for a, b, c in combinations(points[::3], 3)]
            sample = points[::3]
            widths = [np.ptp((sample - sample[0]) @ n) / np.linalg.norm(n) for n in normals]
            assert zoned("plane", sample).form <= min(widths) + 1e-9


def test_the_command_line_gives_the_feature(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / "points.csv"
    for kind in KINDS:
        points = made(kind, 300.0, 80, 0.0)
        columns = 2 if kind.endswith("2d") else 3
        np.savetxt(path, points[:, :columns], "%.17g", ",", header="X,Y,Z"[: 2 * columns - 1], comments="")
        assert main(["fit", kind, str(path), "--json"]) == 0
        found = json.loads(capsys.readouterr().out)
        assert found["kind"] == kind and found["n"] == 80 and found["form"] < 1e-6
        keys = {
            "line2d": "direction",
            "line3d": "direction",
            "plane": "normal",
            "cone": "half_angle_deg",
            "torus": "minor_radius",
        }
        assert keys.get(kind, "radius") in found
        if kind == "cone":
            assert found["half_angle_deg"] == pytest.approx(np.degrees(np.arctan(0.2)), abs=1e-6)
    assert main(["fit", "plane", str(path), "--method", "zone"]) == 0 and "form: " in capsys.readouterr().out


@pytest.mark.parametrize(
    ("kind", "text", "words"),
    [
        ("plane", "0,0,0\n1,0,0\n", "2 points do not make a plane"),
        ("plane", "0,0,0\n1,0,0\n2,0,0\n3,0,0\n", "points lie on one line"),
        ("line3d", "1,1,1\n1,1,1\n", "do not make a line"),
        ("circle2d", "0,0\n1,0\n2,0\n", "lie on one line"),
        ("cone", "0,0,0\n1,0,0\n", "2 points do not make a cone"),
        ("sphere", "X,Y,Z\n0,0,0\n1,x,0\n", "line 3 does not hold 3 numbers"),
        ("sphere", "0,0,0\n1,nan,0\n", "line 2 does not hold 3 numbers"),
        ("sphere", "", "empty"),
        ("sphere", "X,Y,Z\n", "there are no points"),
    ],
)
def test_what_makes_no_feature(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], kind: str, text: str, words: str
) -> None:
    path = tmp_path / "points.csv"
    path.write_text(text)
    assert main(["fit", kind, str(path)]) == 2 and words in capsys.readouterr().err


def test_a_short_arc_says_how_unsure_its_radius_is(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    for arc, words in ((5.0, "leaves the radius unsure by"), (200.0, "")):
        points, path = made("cylinder", arc, 400, 0.02), tmp_path / "arc.csv"
        np.savetxt(path, points, delimiter=",")
        assert main(["fit", "cylinder", str(path), "--json"]) == 0
        told = capsys.readouterr().err
        assert words in told and bool(told) == bool(words)


def test_a_zone_that_is_not_found_is_refused() -> None:
    with pytest.raises(JuxtumError, match="the minimum zone of a torus is not found here"):
        zoned("torus", made("torus", 300, 30, 0.01))
    with pytest.raises(JuxtumError, match="a plane has nothing inside it"):
        inscribed("plane", made("plane", 300, 30, 0.01))


@pytest.mark.parametrize("kind", ["circle2d", "sphere", "cylinder"])
@pytest.mark.parametrize("inside", [True, False])
def test_what_touches_is_the_largest_inside_or_the_smallest_outside(kind: str, inside: bool) -> None:
    """No point lies beyond it, and no small change makes it larger inside, or smaller outside."""
    points = made(kind, 360.0, 200, 0.02)
    found = (inscribed if inside else circumscribed)(kind, points).feature
    sign = 1.0 if inside else -1.0
    assert (sign * signed_distances(found, points)).min() > -1e-9
    rng, gauss = np.random.default_rng(1), associated(kind, points).feature
    assert sign * (gauss.radius - found.radius) > 0  # type: ignore[attr-defined]
    free = {"circle2d": 2, "sphere": 3, "cylinder": 4}[kind]
    for scale in (1e-2, 1e-3, 1e-4, 1e-5):
        for _ in range(100):
            step = np.zeros({"circle2d": 6, "sphere": 4, "cylinder": 5}[kind])
            step[:free] = scale * rng.normal(size=free)
            step[2:4] *= 0.02 if kind == "cylinder" else 1.0
            other = found.stepped(step)
            touching = signed_distances(other, points)
            reached = other.radius + (touching.min() if inside else touching.max())  # type: ignore[attr-defined]
            assert sign * (reached - found.radius) < 1e-7  # type: ignore[attr-defined]


def test_the_zone_of_a_line_in_space_is_the_narrowest() -> None:
    points = made("line3d", 90.0, 300, 0.05)
    found = zoned("line3d", points)
    rng = np.random.default_rng(2)
    assert found.form < 2 * associated("line3d", points).feature.distances(points).max()
    for scale in (1e-2, 1e-3, 1e-4, 1e-5):
        for _ in range(200):
            step = scale * rng.normal(size=4) * [1, 1, 0.02, 0.02]
            assert 2 * found.feature.stepped(step).distances(points).max() > found.form - 1e-7
