"""What is said of a surface in work: its holes, and how far it may be moved."""

from __future__ import annotations

import numpy as np

from juxtum.assemble.finishing import Discs
from juxtum.assemble.holes import Hole
from juxtum.job import Job

HIDDEN = 0.6
"""Noise may hide further ones when it hides those lower than this share of those that were found."""
SHARE = 0.1
"""Of the tightest tolerance: farther no place of a surface is moved unless a person says so."""
COLUMNS = ("Border", "Perimeter, mm", "Area, mm\u00b2")
WORDS = {"edge": "end", "target": "round", "hole": "hole"}


def default_bound(job: Job) -> float:
    """How far a surface may be moved when nobody says, mm: a tenth of the tightest tolerance there is."""
    widths = [zone[1] - zone[0] for c in job.procedure.characteristics if (zone := c.zone) is not None]
    measure = job.procedure.measure
    return float(f"{SHARE * min([*widths, measure.upper - measure.lower]):.2g}")


def hole_row(hole: Hole) -> tuple[str, str, str]:
    """A row of the list of holes."""
    return WORDS[hole.kind], f"{hole.perimeter:.1f}", f"{hole.area:.1f}"


def holes_words(holes: tuple[Hole, ...], invented_area: float) -> str:
    """All holes in a sentence or two.

    Examples
    --------
    >>> holes_words((), 0.0)
    'No border is open: the surface is closed.'
    """
    if not holes:
        words = "No border is open: the surface is closed."
    else:
        parts = []
        for kind, one, many in (
            ("edge", "end of the surface", "ends of the surface"),
            ("target", "round one of a target's size", "round ones of a target's size"),
            ("hole", "hole", "holes"),
        ):
            number = sum(hole.kind == kind for hole in holes)
            parts += [f"{number} {one if number == 1 else many}"] if number else []
        words = f"Open borders: {', '.join(parts)}."
    if invented_area > 0:
        words += f" {invented_area:.1f} mm\u00b2 are invented, shown in grey, and never measured."
    return words


def discs_words(discs: Discs) -> str:
    """Discs that were found by their shape, in a sentence or two, with what noise would hide.

    Examples
    --------
    >>> discs_words(Discs((), 8.0, 0.04))
    'No disc of 8 mm stands out of the surface as a target does; noise would hide one lower than 0.04 mm.'
    """
    too_coarse = not np.isfinite(discs.lowest)
    if not discs.found:
        if too_coarse:
            return f"The surface is too coarse to tell targets of {discs.diameter:g} mm: scan it finer, or take them off by their places."
        return (
            f"No disc of {discs.diameter:g} mm stands out of the surface as a target does; "
            f"noise would hide one lower than {discs.lowest:.2f} mm."
        )
    across, high = (float(np.median([getattr(disc, what) for disc in discs.found])) for what in ("diameter", "height"))
    words = (
        f"1 disc {across:.1f} mm across stands {high:.2f} mm out of the surface. Take it off only if it is a target."
        if len(discs.found) == 1
        else f"{len(discs.found)} discs about {across:.1f} mm across stand {high:.2f} mm out of the surface. "
        "Take them off only if they are targets."
    )
    if too_coarse:
        return f"{words} The surface is coarse, and others may be missed."
    return words if discs.lowest < HIDDEN * high else f"{words} Noise would hide one lower than {discs.lowest:.2f} mm."
