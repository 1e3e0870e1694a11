"""Length units: names, factors to millimetres, numbers typed by people, and guesses by size."""

from __future__ import annotations

import math
import re
from enum import StrEnum

from juxtum.errors import InputError


class Unit(StrEnum):
    """A unit of length that files come in."""

    MILLIMETRE = "mm"
    CENTIMETRE = "cm"
    METRE = "m"
    INCH = "in"

    @property
    def millimetres(self) -> float:
        """How many millimetres one of this unit is."""
        return _FACTORS[self]

    @property
    def plural(self) -> str:
        """The name of many of them."""
        return _PLURALS[self]


_FACTORS = {Unit.MILLIMETRE: 1.0, Unit.CENTIMETRE: 10.0, Unit.METRE: 1000.0, Unit.INCH: 25.4}
_PLURALS = {
    Unit.MILLIMETRE: "millimetres",
    Unit.CENTIMETRE: "centimetres",
    Unit.METRE: "metres",
    Unit.INCH: "inches",
}


def guess_unit(size: float, reference: float) -> Unit:
    """The unit in which `size` comes closest to `reference` millimetres.

    Parameters
    ----------
    size : float
        A length of the file without units, in its own numbers.
    reference : float
        The same length in millimetres, for example the diagonal of the nominal.

    Examples
    --------
    >>> guess_unit(12.6, 320.0)
    <Unit.INCH: 'in'>
    """
    if size <= 0 or reference <= 0:
        return Unit.MILLIMETRE
    return min(Unit, key=lambda unit: abs(math.log(size * unit.millimetres / reference)))


_NUMBER = re.compile(
    r"^([+\-\u2212]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+\-]?\d+)?)(?:\s*/\s*(\d+))?\s*(mm|cm|m|in|\")?$"
)


def parse_length(text: str, unit: Unit = Unit.MILLIMETRE) -> float:
    """Millimetres from what a person typed; units and decimal commas are welcome.

    Raises
    ------
    InputError
        When the text is not a length.

    Examples
    --------
    >>> parse_length("0,2"), parse_length("1/64 in")
    (0.2, 0.396875)
    """
    match = _NUMBER.match(text.strip())
    if match is None:
        raise InputError(f"'{text}' is not a length", next="Type a number such as 0.2, 0,2 mm or 1/64 in")
    number, divisor, suffix = match.groups()
    value = float(number.replace(",", ".").replace("\u2212", "-"))
    if divisor is not None:
        if int(divisor) == 0:
            raise InputError(f"'{text}' divides by zero", next="Type a number such as 1/64 in")
        value /= int(divisor)
    used = unit if suffix is None else Unit.INCH if suffix == '"' else Unit(suffix)
    return value * used.millimetres
