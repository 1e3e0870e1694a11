"""Shots of a head on its turntable: the table cut away, each laid onto those before it by its overlap."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.devices.protocol import Message
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, frozen
from juxtum.geometry.kdtree import kd_tree
from juxtum.geometry.registration import Pulls, Rounds, register

LOOKED_AT, KNOWN = 7_000, 120_000
"""Points of a shot that are laid, and of all before it onto which they are."""
ROUNDS = 25
LEAST_OVERLAP = 0.15


@dataclass(frozen=True, eq=False)
class TurnedShot:
    """A shot laid in place: places and normals (N, 3), overlap with those before it, RMS there in mm, and what its pose lacked."""

    places: Floats
    normals: Floats
    overlap: float
    rms: float
    move: RigidTransform


class TurnedShots:
    """Shots as they come.

    Parameters
    ----------
    table : float
        What lies nearer to the table's surface than this, mm, is background.
    floor : callable
        Heights above the table of places (N, 3) in the frame of the shots.
    """

    def __init__(self, floor: tuple[Floats, Floats], table: float = 1.0) -> None:
        self._point, self._normal = floor
        self._table = table
        self.shots: list[TurnedShot] = []

    def lay(self, floor: tuple[Floats, Floats]) -> None:
        """The part lies another way: where its table is from now on."""
        self._point, self._normal = floor

    def take(self, message: Message, pose: RigidTransform) -> TurnedShot:
        """Take a shot: cut the background, align by overlap where there is enough of it."""
        points = message.points()
        places = pose.apply(points["place"].astype(np.float64))
        normals = pose.turn(points["normal"].astype(np.float64))
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-9)
        kept = (places - self._point) @ self._normal > self._table
        places, normals = places[kept], normals[kept]
        move, overlap, rms = RigidTransform.identity(), 0.0, 0.0
        if self.shots and len(places) > 100:
            move, overlap, rms = self._aligned(places, normals)
            places, normals = move.apply(places), move.turn(normals)
        shot = TurnedShot(frozen(places), frozen(normals), overlap, rms, move)
        self.shots.append(shot)
        return shot

    def _aligned(self, places: Floats, normals: Floats) -> tuple[RigidTransform, float, float]:
        """Registered onto what is there, on at most a few thousand points."""
        step = max(1, sum(len(s.places) for s in self.shots) // KNOWN)
        known = np.concatenate([s.places[::step] for s in self.shots])
        facing = np.concatenate([s.normals[::step] for s in self.shots])
        tree = kd_tree(known)
        some = slice(None, None, max(1, len(places) // LOOKED_AT))
        p, n = places[some], normals[some]
        overlap, rms = 0.0, 0.0

        def pulls_at(move: RigidTransform, index: int) -> Pulls | None:
            nonlocal overlap, rms
            moved, turned = move.apply(p), move.turn(n)
            distances, rows = tree.query(moved, distance_upper_bound=max(0.7, 3.0 * 0.8**index), workers=-1)
            good = np.isfinite(distances)
            good[good] = np.einsum("ij,ij->i", facing[rows[good]], turned[good]) > 0.8
            overlap = float(good.mean())
            if overlap < LEAST_OVERLAP:
                return None
            to = facing[rows[good]]
            heights = np.einsum("ij,ij->i", moved[good] - known[rows[good]], to)
            rms = float(np.sqrt(np.mean(heights**2)))
            return Pulls(moved[good], to, heights)

        size = float(np.linalg.norm(np.ptp(p, axis=0))) / 2
        # A turn about an axis of symmetry is not seen and must not run away.
        move = register(pulls_at, RigidTransform.identity(), Rounds(ROUNDS, 1e-5, size))
        return (move, overlap, rms) if move is not None else (RigidTransform.identity(), overlap, 0.0)
