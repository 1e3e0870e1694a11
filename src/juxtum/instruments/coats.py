"""Coats for difficult faces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Coat:
    """A coat for difficult faces.

    Parameters
    ----------
    thickness, spread : float
        Of the layer and half its spread, mm.
    drying : float
        Minutes until it may be scanned.
    lasts : float
        Minutes until it has gone by itself; inf when it stays.
    """

    name: str
    thickness: float
    spread: float
    drying: float
    lasts: float


COATS = {
    "none": Coat("none", 0.0, 0.0, 0.0, np.inf),
    "vanishing": Coat("vanishing spray", 0.004, 0.003, 3.0, 90.0),
    "slow vanishing": Coat("slow vanishing spray", 0.006, 0.004, 5.0, 480.0),
    "powder": Coat("wash-off powder", 0.012, 0.008, 4.0, np.inf),
}
