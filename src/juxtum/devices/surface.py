"""What light does on a surface: how much comes back, what too little and too much of it makes, how noise grows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.devices.body import Body, Coating
from juxtum.geometry.arrays import Bools, Floats, Ints
from juxtum.instruments.models import Mode
from juxtum.plan.blind import Finish

EXPOSURES = range(1, 10)
USUAL = 5
"""The exposure that suits a matt face; each step doubles the light."""
KINDS = tuple(Finish)
DIFFUSE = {Finish.MATT: 1.0, Finish.DARK: 0.09, Finish.GLOSSY: 0.22, Finish.MIRROR: 0.01, Finish.CLEAR: 0.02}
"""Share of the light that is scattered back, matt counted as one."""
LOBE = {Finish.GLOSSY: 6.0, Finish.MIRROR: 40.0, Finish.DARK: 0.4}
"""Light in the mirror direction, and how it falls off (degrees)."""
LOBE_WIDTH = 9.0
TOO_LITTLE, TOO_MUCH = 0.22, 4.5
WIDER = 3.5
"""A mode that copes with dark faces takes so many times less and more light."""
BLOOM_NOISE = 4.0
BLOOM_SHIFT = 0.05
"""A face that is far too bright seems to stand proud by so much, mm."""


@dataclass(frozen=True, eq=False)
class Light:
    """What comes back from places.

    Parameters
    ----------
    signal : array (N,)
        1 is what the instrument likes best.
    gives_point : array (N,)
        Where enough comes back.
    bloom : array (N,)
        0 where the light is not too much, growing to 1.
    """

    signal: Floats
    gives_point: Bools
    bloom: Floats


def light_back(
    mode: Mode, exposure: int, finishes: Ints, cosines: Floats, distances: Floats, rng: np.random.Generator
) -> Light:
    """Light that comes back from finishes (N,), indices into `KINDS`, under angles (cosines (N,)) from distances (N,)."""
    angle = np.degrees(np.arccos(np.clip(cosines, -1, 1)))
    kinds = np.array([DIFFUSE[f] for f in KINDS])[finishes]
    lobes = np.array([LOBE.get(f, 0.0) for f in KINDS])[finishes]
    diffuse = kinds * np.clip(cosines, 0.05, 1) + lobes * np.exp(-((angle / LOBE_WIDTH) ** 2))
    signal = 2.0 ** (exposure - USUAL) * diffuse * (mode.stand_off[1] / distances) ** 2
    slack = WIDER if mode.dark else 1.0
    least, most = TOO_LITTLE / slack, TOO_MUCH * slack
    chance = 1 / (1 + np.exp(-8 * np.log(np.maximum(signal, 1e-9) / least)))
    bloom = np.clip(np.log2(np.maximum(signal / most, 1e-9)) / 2, 0, 1)
    gives = (rng.random(len(signal)) < chance) & (rng.random(len(signal)) >= 0.5 * bloom)
    return Light(signal, gives, bloom)


def best_exposure(finish: Finish, mode: Mode) -> int:
    """The exposure whose light from a face seen squarely lies in the middle of what the mode takes."""
    slack = WIDER if mode.dark else 1.0
    middle = np.sqrt(TOO_LITTLE / slack * TOO_MUCH * slack)
    step = round(float(np.log2(middle / DIFFUSE[finish]))) + USUAL
    return int(np.clip(step, EXPOSURES[0], EXPOSURES[-1]))


def noise_of(mode: Mode, distances: Floats, cosines: Floats, bloom: Floats | None = None) -> Floats:
    """Standard deviation of points along the line of sight (N,), mm.

    It grows with the square of the stand-off, as the parallax shrinks, and with the incidence, as the line widens.
    """
    grown = mode.noise * (distances / mode.stand_off[1]) ** 2 / np.clip(cosines, 0.25, 1)
    return np.asarray(grown if bloom is None else grown * (1 + (BLOOM_NOISE - 1) * bloom))


def finishes_at(body: Body, faces: Ints, places: Floats, minutes: float) -> tuple[Ints, Floats]:
    """Finish (N,), an index into `KINDS`, at places (N, 3) of faces (N,), and the coat's thickness there (N,), mm."""
    known = np.full(max(int(faces.max(initial=0)), *body.finishes, 0) + 1, KINDS.index(Finish.MATT))
    for face, finish in body.finishes.items():
        known[face] = KINDS.index(finish)
    kinds, thickness = known[faces], np.zeros(len(faces))
    if body.coating is not None:
        thickness = _coat(body.coating, faces, places, minutes)
        kinds = np.where(thickness > 0.3 * body.coating.thickness, KINDS.index(Finish.MATT), kinds)
    return kinds, thickness


def _coat(coating: Coating, faces: Ints, places: Floats, minutes: float) -> Floats:
    """What is left of a coat: it goes slowly at first and is gone when its time is over."""
    left = max(0.0, 1 - (minutes / coating.lasts) ** 2) if np.isfinite(coating.lasts) else 1.0
    there = np.isin(faces, list(coating.faces))
    for x, y, z, radius in coating.rubbed:
        there &= np.linalg.norm(places - [x, y, z], axis=1) > radius
    return np.where(there, coating.thickness * left, 0.0)
