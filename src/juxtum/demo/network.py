"""A made-up photo network for trials: simple, seeded, of any size."""

from __future__ import annotations

import numpy as np

from juxtum.plan.photos.bundle import BarTie, Lens, Network, Photos, Rays

LENS = Lens(24.0, (0.03, -0.02), (-1e-4, 1e-7))
NOISE = 0.00054
"""Of a target's place in a picture, mm."""


def trial_network(targets: int, photos: int, *, bars: int = 2, solved: bool = True, seed: int = 3) -> Network:
    """Targets on a part of 3 m, photos from both sides, each turned by a quarter more than the one before."""
    rng = np.random.default_rng(seed)
    points = rng.uniform([-1500, -100, 0], [1500, 100, 300], (targets, 3))
    rotations, centres = [], []
    for k in range(photos):
        centre = np.array([rng.uniform(-1500, 1500), 1900 * (-1) ** k, rng.uniform(300, 1800)])
        axis = np.array([centre[0] + rng.uniform(-700, 700), 0, 100]) - centre
        axis /= np.linalg.norm(axis)
        right = np.cross(axis, [0, 0, 1])
        right /= np.linalg.norm(right)
        down, roll = np.cross(axis, right), k % 4 * np.pi / 2
        x, y = np.cos(roll) * right + np.sin(roll) * down, np.cos(roll) * down - np.sin(roll) * right
        rotations.append([x, y, axis])
        centres.append(centre)
    ties = tuple(
        BarTie(2 * k, 2 * k + 1, float(np.linalg.norm(points[2 * k] - points[2 * k + 1])), 0.006) for k in range(bars)
    )
    poses = Photos(np.array(rotations), np.array(centres))
    q = np.einsum("mij,mtj->mti", poses.rotations, points[None] - poses.centres[:, None])
    photo, target = np.nonzero(
        (q[..., 2] > 0) & (np.abs(24 * q[..., 0] / q[..., 2]) < 13.5) & (np.abs(24 * q[..., 1] / q[..., 2]) < 9)
    )
    return Network(points, poses, Rays(photo, target, np.zeros((len(photo), 2)), NOISE), ties, LENS, solved)
