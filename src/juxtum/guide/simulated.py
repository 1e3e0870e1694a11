"""What a simulation says of a budget, in a sentence."""

from __future__ import annotations

from juxtum.evaluate.simulated import ALIKE, Simulated


def simulated_words(found: Simulated) -> str:
    """How many scans were drawn, what they scatter, and whether the budget says as much.

    Examples
    --------
    >>> import numpy as np
    >>> from juxtum.evaluate.uncertainty import Budget, Contribution
    >>> drawn = np.sort(np.random.default_rng(1).normal(0.1, 0.01, 400))
    >>> simulated_words(Simulated("1", 0.1, drawn, Budget((Contribution("sampling", 0.01),))))
    'Of 400 scans drawn, 95 % lie within \u00b10.018 mm; the budget says \u00b10.020: they agree.'
    """
    count, unit = len(found.values), found.unit
    space = "" if unit == "\N{DEGREE SIGN}" else " "
    words = f"Of {count} scans drawn, 95 % lie within \u00b1{found.half:.3f}{space}{unit}; the budget says \u00b1{found.budget.expanded:.3f}"
    words += f": {_verdict(found.ratio)}."
    if not found.is_whole:
        words += " Without the instrument's error, since no instrument is stated."
    if found.lost:
        words += f" {found.lost} more gave no value."
    return words


def _verdict(ratio: float) -> str:
    if ratio > ALIKE:
        return "the budget is on the safe side, since it takes form for scatter, or errors to be alike over more of the surface"
    if ratio < 1 / ALIKE:
        return "the budget is too small; trust the simulation"
    return "they agree"
