"""Numbers as people read them: as many digits as the uncertainty deserves."""

from __future__ import annotations

import math
from collections.abc import Sequence

MINUS = "\u2212"
DASH = "\u2013"


def decimals_for(expanded: float) -> int:
    """Decimal places that show an uncertainty to two significant digits; 3 when there is none.

    Examples
    --------
    >>> decimals_for(0.021), decimals_for(1.3), decimals_for(float("nan"))
    (3, 1, 3)
    """
    if not math.isfinite(expanded) or expanded <= 0:
        return 3
    return min(max(1 - math.floor(math.log10(expanded) + 1e-12), 0), 6)


def signed(value: float, decimals: int = 3) -> str:
    """A value with its sign; a dash when there is none.

    Examples
    --------
    >>> signed(-0.31, 2), signed(0.0, 1)
    ('\u22120.31', '0.0')
    """
    if not math.isfinite(value):
        return DASH
    text = f"{abs(value):.{decimals}f}"
    if float(text) == 0:
        return text
    return ("+" if value > 0 else MINUS) + text


def measured(value: float, expanded: float) -> str:
    """A value to the last place of its uncertainty."""
    return signed(value, decimals_for(expanded))


def uncertainty(expanded: float) -> str:
    """An expanded uncertainty to two significant digits."""
    return f"{expanded:.{decimals_for(expanded)}f}" if math.isfinite(expanded) and expanded > 0 else DASH


def tolerance(lower: float | None, upper: float | None) -> str:
    """Limits as a drawing writes them."""
    if lower is not None and upper is not None:
        return f"\u00b1{upper:g}" if math.isclose(-lower, upper) else f"{signed_short(upper)} / {signed_short(lower)}"
    if upper is not None:
        return f"\u2264{upper:g}".replace("-", MINUS)
    return f"\u2265{lower:g}".replace("-", MINUS) if lower is not None else DASH


def signed_short(value: float) -> str:
    """A limit with its sign and no more digits than it needs."""
    return ("+" if value > 0 else MINUS if value < 0 else "") + f"{abs(value):g}"


def percent(share: float, decimals: int = 1) -> str:
    """A share from 0 to 1 in per cent."""
    return f"{100 * share:.{decimals}f} %" if math.isfinite(share) else DASH


def listed(names: Sequence[str]) -> str:
    """Names one after another.

    Examples
    --------
    >>> listed(["F1"]), listed(["F1", "F2", "F3"])
    ('F1', 'F1, F2 and F3')
    """
    return " and ".join(part for part in (", ".join(names[:-1]), names[-1]) if part)


def sentence(words: str) -> str:
    """Words with a capital and a full stop.

    Examples
    --------
    >>> sentence("only Tz may move")
    'Only Tz may move.'
    """
    return f"{words[:1].upper()}{words[1:]}{'' if words.endswith(('.', '!', '?')) else '.'}" if words else ""
