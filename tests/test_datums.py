"""Datum systems of holes, cones, balls and rings: what locks what, where the part comes to lie, and how well that is known."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone, BRepPrimAPI_MakeSphere, BRepPrimAPI_MakeTorus
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

from helpers import turned
from juxtum.align import DatumFeature, datum_alignment
from juxtum.align.result import AXES, Alignment
from juxtum.demo import solids
from juxtum.geometry import PointCloud, RigidTransform
from juxtum.nominal import FaceKind, Nominal

NOISE, COAT = 0.02, 0.05
POSE, START = turned((1.0, -0.8, 0.5), (0.3, -0.2, 0.4)), turned((0.7, -0.6, 0.3), (0.2, -0.1, 0.3))


def at(z: float) -> Any:
    return gp_Ax2(gp_Pnt(40, 30, z), gp_Dir(0, 0, 1))


def part(name: str) -> Nominal:
    """A plate of 80 x 60 x 12 mm with something round on or in it."""
    plate = solids.box((0, 0, 0), (80, 60, 12))
    if name == "holes":
        return Nominal.from_shape(solids.cut(plate, [solids.cylinder((x, 30, -1), (0, 0, 1), 5, 14) for x in (20, 62)]))
    if name == "sink":
        return Nominal.from_shape(solids.cut(plate, [BRepPrimAPI_MakeCone(at(0), 6, 16, 12).Shape()]))
    if name == "boss":
        return Nominal.from_shape(solids.fused(plate, [BRepPrimAPI_MakeCone(at(12), 16, 8, 20).Shape()]))
    round_one = (
        BRepPrimAPI_MakeSphere(gp_Pnt(40, 30, 20), 15) if name == "ball" else BRepPrimAPI_MakeTorus(at(12), 18, 6)
    )
    return Nominal.from_shape(solids.fused(plate, [round_one.Shape()]))


def faces_of(nominal: Nominal, words: str) -> tuple[int, ...]:
    """The face that looks down, +X or +Y; or the round ones; or the first or second hole."""
    looks = {"below": (0, 0, -1), "end": (1, 0, 0), "side": (0, 1, 0)}
    if words in looks:
        planes = [
            f for f in nominal.faces if f.kind is FaceKind.PLANE and f.feature.normal @ np.array(looks[words]) > 0.99
        ]  # type: ignore[union-attr]
        return (max(planes, key=lambda f: f.area).number,)
    round_ones = sorted((f for f in nominal.faces if f.kind is not FaceKind.PLANE), key=lambda f: float(f.centre[0]))
    return (
        tuple(f.number for f in round_ones)
        if words == "round"
        else (round_ones[("left", "right").index(words)].number,)
    )


def aligned(nominal: Nominal, datums: tuple[DatumFeature, ...], coat: float, seed: int) -> Alignment:
    rng = np.random.default_rng(seed)
    some = rng.choice(len(nominal.samples.centres), min(20_000, len(nominal.samples.centres)), replace=False)
    found = nominal.projector.project(
        nominal.samples.centres[some], nominal.samples.mesh.triangle_normals[some], limit=2.0
    )
    places = found.feet + (coat + NOISE * rng.normal(size=len(some)))[:, None] * found.normals
    back = POSE.inverse
    thickness = np.full(len(nominal.faces), coat) if coat else None
    return datum_alignment(PointCloud(back.apply(places), back.turn(found.normals)), nominal, START, datums, thickness)


@pytest.mark.parametrize("coat", [0.0, COAT])
@pytest.mark.parametrize(
    ("name", "system", "locks"),
    [
        ("holes", ("below", "left", "right"), "BBAAAC"),
        ("holes", ("below", "left", "end"), "BBAAAC"),
        ("boss", ("round", "side"), "AAAAAB"),
        ("boss", ("below", "round", "end"), "BBAAAC"),
        ("sink", ("round", "side"), "AAAAAB"),
        ("ball", ("below", "round", "end"), "BBAAAC"),
        ("ring", ("round", "side"), "AAAAAB"),
        ("ring", ("below", "round", "end"), "BBAAAC"),
    ],
)
def test_each_datum_locks_what_the_drawing_lets_it_lock(
    name: str, system: tuple[str, ...], locks: str, coat: float
) -> None:
    """A measured hole is never quite square to a measured plane: by that little it must not lock the turn about itself."""
    nominal = part(name)
    datums = tuple(DatumFeature(letter, faces_of(nominal, words)) for letter, words in zip("ABC", system, strict=False))
    off, said = [], []
    for seed in range(8):
        found = aligned(nominal, datums, coat, seed)
        assert "".join(found.locked[axis] for axis in AXES) == locks and not any("free" in note for note in found.notes)
        left: RigidTransform = found.transform @ POSE.inverse
        turn = left.rotation
        off.append([*(left.apply(found.centre[None])[0] - found.centre), turn[2, 1], turn[0, 2], turn[1, 0]])
        said.append(np.sqrt(np.diag(found.covariance)))
    assert np.abs(np.array(off)[:, :3]).max() < 0.03
    ratio = np.median(said, axis=0) / np.sqrt(np.mean(np.square(off), axis=0))
    assert ratio.min() > 0.4 and ratio.max() < 6, ratio


def test_a_ball_leaves_every_turn_free_and_no_shift() -> None:
    nominal = part("ball")
    found = aligned(nominal, (DatumFeature("A", faces_of(nominal, "round")),), 0.0, 1)
    assert (
        "".join(found.locked[axis][0] for axis in AXES) == "AAAfff"
        and sum("free to turn" in note for note in found.notes) == 3
    )
