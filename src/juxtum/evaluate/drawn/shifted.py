"""A pattern of features moved as a whole to where the worst of them lies best (the lower tier of a composite position)."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from juxtum.align import Alignment
from juxtum.evaluate.drawn.frames import Frame
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats, frozen, orthonormal_frame

ROUND = 96
"""Directions in which the round zone is approached: its radius comes out within 0.06 per cent."""
TURNS = 3
"""Times that the motion is found again, since turns are small only near the answer."""


@dataclass(frozen=True, eq=False)
class Spot:
    """A place of one member of a pattern.

    Parameters
    ----------
    place, home : array (3,)
        Where it lies in the frame of the datums, and where it was drawn.
    across : array (S, 3)
        Orthonormal directions in which it may not be off: two of an axis, one of a plane, three of a point.
    """

    place: Floats
    home: Floats
    across: Floats


def settled(frame: Frame, spots: list[Spot]) -> Frame:
    """The frame in which the farthest of some places lies nearest to where it was drawn.

    All shifts are free, and those turns that the datums leave free; all turns where there is no datum. The smallest largest
    offset is a linear program, the round zones being approached by many sides.

    Parameters
    ----------
    frame : Frame
        In which the places lie; from it only the directions count.
    """
    from scipy.optimize import linprog

    turns = np.eye(3) if not frame.datums else _independent(frame.free[:, 3:])
    places, homes = np.array([s.place for s in spots]), np.array([s.home for s in spots])
    centre, size = homes.mean(0), max(float(np.linalg.norm(np.ptp(homes, axis=0))), 1e-9)
    motion = RigidTransform.identity()
    for _ in range(TURNS):
        rows, offsets = [], []
        for place, spot in zip(motion.apply(places), spots, strict=True):
            arms = np.cross(turns, place - centre) / size
            for way in _ways(spot.across):
                rows.append([*way, *(arms @ way), -1.0])
                offsets.append(-float(way @ (place - spot.home)))
        count = 3 + len(turns)
        bounds = [(None, None)] * count + [(0, None)]
        found = linprog([0.0] * count + [1.0], np.array(rows), np.array(offsets), bounds=bounds, method="highs")
        if not found.success:
            break
        twist = np.concatenate([found.x[:3], turns.T @ found.x[3:count] / size])
        motion = RigidTransform.about(centre, twist) @ motion
    move = motion @ frame.move
    alignment: Alignment = replace(frame.alignment, covariance=frozen(np.zeros((6, 6))))
    return Frame(move, alignment, frame.datums, np.zeros((0, 6)))


def _independent(turns: Floats) -> Floats:
    """Unit directions (K, 3) that span some turns."""
    if not len(turns) or np.abs(turns).max() < 1e-9:
        return np.zeros((0, 3))
    _, values, rows = np.linalg.svd(turns, full_matrices=False)
    return np.asarray(rows[values > 1e-6 * values[0]])


def _ways(across: Floats) -> Floats:
    """Unit directions (K, 3) in which a place may be off."""
    if len(across) == 1:
        return np.concatenate([across, -across])
    if len(across) == 2:
        turn = np.linspace(0, 2 * np.pi, ROUND, endpoint=False)
        return np.outer(np.cos(turn), across[0]) + np.outer(np.sin(turn), across[1])
    k = np.arange(4 * ROUND) + 0.5
    z, turn = 1 - 2 * k / len(k), np.pi * (1 + np.sqrt(5)) * k
    r = np.sqrt(1 - z * z)
    return np.stack([r * np.cos(turn), r * np.sin(turn), z], axis=1) @ orthonormal_frame(across[2])
