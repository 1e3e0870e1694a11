"""Alignment by targets whose places in part coordinates are known; which is which is found from the distances between them."""

from __future__ import annotations

import numpy as np

from juxtum.align.pairs import pairs_covariance
from juxtum.align.result import AXES, Alignment
from juxtum.align.targets import match_targets
from juxtum.errors import AlignmentError
from juxtum.geometry.arrays import Floats, frozen

TOLD = 3.0
"""A target that lies so many times the RMS off is named."""


def target_alignment(measured: Floats, known: Floats, tolerance: float) -> Alignment:
    """Lay measured targets onto known ones; extra and missing ones do no harm.

    Parameters
    ----------
    measured : array (N, 3)
        Scan coordinates, mm.
    known : array (M, 3)
        Part coordinates, mm.
    tolerance : float
        How far a target may lie from its partner, mm.

    Raises
    ------
    AlignmentError
        When fewer than four agree, or two answers agree equally well.
    """
    found = match_targets(measured, known, tolerance)
    if found is None:
        raise AlignmentError(
            f"of {len(measured)} measured and {len(known)} known targets no four agree within {tolerance:g} mm, or they agree in more than one way",
            "known targets", "Check units and names of the lists, or allow a larger tolerance",
        )  # fmt: skip
    laid, partners = found.transform.apply(measured[found.pairs[:, 0]]), known[found.pairs[:, 1]]
    off = np.linalg.norm(laid - partners, axis=1)
    spare = len(measured) - len(found.pairs)
    notes = [f"{len(found.pairs)} targets agree" + (f"; {spare} measured ones have no partner" if spare else "")]
    worst = int(np.argmax(off))
    if off[worst] > TOLD * max(found.rms, 1e-9):
        notes.append(
            f"target {found.pairs[worst, 1] + 1} of the known ones lies {off[worst]:.3f} mm off, the others {found.rms:.3f}"
        )
    centre = partners.mean(0)
    return Alignment(
        found.transform, "known targets", found.rms, len(off), frozen(pairs_covariance(partners - centre, off)),
        frozen(centre), dict.fromkeys(AXES, "targets"), tuple(notes),
    )  # fmt: skip
