"""Limits from codes: tolerance classes of holes and shafts (ISO 286), and general tolerances (ISO 2768-1)."""

from __future__ import annotations

import re
from bisect import bisect_left
from typing import Literal

from juxtum.errors import InputError

Of = Literal["hole", "shaft", "length", "angle"]
"""What a limit belongs to: the inside or the outside of a feature of size, another length, or an angle."""

STEPS = (3, 6, 10, 18, 30, 50, 80, 120, 180, 250, 315, 400, 500)
"""Ends of the ranges of nominal sizes, mm."""
FINE_STEPS = (3, 6, 10, 18, 30, 50, 65, 80, 100, 120, 140, 160, 180, 200, 225, 250, 280, 315, 355, 400, 450, 500)
GRADES = {
    4: (3, 4, 4, 5, 6, 7, 8, 10, 12, 14, 16, 18, 20),
    5: (4, 5, 6, 8, 9, 11, 13, 15, 18, 20, 23, 25, 27),
    6: (6, 8, 9, 11, 13, 16, 19, 22, 25, 29, 32, 36, 40),
    7: (10, 12, 15, 18, 21, 25, 30, 35, 40, 46, 52, 57, 63),
    8: (14, 18, 22, 27, 33, 39, 46, 54, 63, 72, 81, 89, 97),
    9: (25, 30, 36, 43, 52, 62, 74, 87, 100, 115, 130, 140, 155),
    10: (40, 48, 58, 70, 84, 100, 120, 140, 160, 185, 210, 230, 250),
    11: (60, 75, 90, 110, 130, 160, 190, 220, 250, 290, 320, 360, 400),
    12: (100, 120, 150, 180, 210, 250, 300, 350, 400, 460, 520, 570, 630),
    13: (140, 180, 220, 270, 330, 390, 460, 540, 630, 720, 810, 890, 970),
    14: (250, 300, 360, 430, 520, 620, 740, 870, 1000, 1150, 1300, 1400, 1550),
}
"""Standard tolerances, micrometres."""
ABOVE = {
    "d": (20, 30, 40, 50, 65, 80, 100, 120, 145, 170, 190, 210, 230),
    "e": (14, 20, 25, 32, 40, 50, 60, 72, 85, 100, 110, 125, 135),
    "f": (6, 10, 13, 16, 20, 25, 30, 36, 43, 50, 56, 62, 68),
    "g": (2, 4, 5, 6, 7, 9, 10, 12, 14, 15, 17, 18, 20),
    "h": (0,) * 13,
}
"""How far shafts lie below the nominal, and holes above it, micrometres."""
BELOW = {
    "k": (0, 1, 1, 1, 2, 2, 2, 3, 3, 4, 4, 4, 5),
    "m": (2, 4, 6, 7, 8, 9, 11, 13, 15, 17, 20, 21, 23),
    "n": (4, 8, 10, 12, 15, 17, 20, 23, 27, 31, 34, 37, 40),
    "p": (6, 12, 15, 18, 22, 26, 32, 37, 43, 50, 56, 62, 68),
    "r": (10, 15, 19, 23, 28, 34, 41, 43, 51, 54, 63, 65, 68, 77, 80, 84, 94, 98, 108, 114, 126, 132),
    "s": (14, 19, 23, 28, 35, 43, 53, 59, 71, 79, 92, 100, 108, 122, 130, 140, 158, 170, 190, 208, 232, 252),
}
"""How far shafts lie above the nominal; r and s by `FINE_STEPS`."""
GENERAL_STEPS = (3, 6, 30, 120, 400, 1000, 2000, 4000)
GENERAL = {
    "f": (0.05, 0.05, 0.1, 0.15, 0.2, 0.3, 0.5, None),
    "m": (0.1, 0.1, 0.2, 0.3, 0.5, 0.8, 1.2, 2.0),
    "c": (0.2, 0.3, 0.5, 0.8, 1.2, 2.0, 3.0, 4.0),
    "v": (None, 0.5, 1.0, 1.5, 2.5, 4.0, 6.0, 8.0),
}
"""Deviations of lengths without tolerances of their own, mm."""
_FIT = re.compile(r"([A-Za-z]{1,2})(\d{1,2})")
_GENERAL = re.compile(r"(?:iso\s*)?2768[- ]?([fmcvFMCV])")


def is_code(text: str) -> bool:
    """Whether words are a code of limits.

    Examples
    --------
    >>> [is_code(text) for text in ("H7", "js6", "ISO 2768-m", "0.1", "P20 M")]
    [True, True, True, False, False]
    """
    return bool(_FIT.fullmatch(text.strip()) or _GENERAL.fullmatch(text.strip().lower()))


def limits_of(code: str, nominal: float, of: Of) -> tuple[float, float]:
    """Lower and upper deviation that a code gives a size, mm.

    Parameters
    ----------
    nominal : float
        The nominal size, mm.
    of : str
        What it is the size of.

    Raises
    ------
    InputError
        For a code that is not known, or does not belong to such a feature or size.

    Examples
    --------
    >>> limits_of("H7", 72.0, "hole"), limits_of("k6", 25.0, "shaft"), limits_of("2768-m", 40.0, "length")
    ((0.0, 0.03), (0.002, 0.015), (-0.3, 0.3))
    """
    text = code.strip()
    general = _GENERAL.fullmatch(text.lower())
    if general:
        return _general(general[1].lower(), nominal, of, text)
    fit = _FIT.fullmatch(text)
    if fit is None:
        raise InputError(f"'{text}' is no code of limits", "limits", "Write for example H7, g6 or 2768-m")
    letter, grade = fit[1], int(fit[2])
    is_hole = letter.isupper()
    if of not in ("hole", "shaft") or is_hole != (of == "hole"):
        whose = "a hole" if is_hole else "a shaft"
        raise InputError(
            f"{text} is a tolerance class of {whose}, and this is {'an angle' if of == 'angle' else f'a {of}'}", "limits",
            "Write capitals for holes and small letters for shafts, or the two deviations",
        )  # fmt: skip
    if not 0 < nominal <= STEPS[-1]:
        raise InputError(f"there is no {text} for {nominal:g} mm", "limits", "Write the two deviations")
    if grade not in GRADES:
        raise InputError(f"grade {grade} is not known", "limits", f"Grades are {min(GRADES)} to {max(GRADES)}")
    lower, upper = _fit(letter.lower(), grade, nominal, is_hole=is_hole)
    return round(lower / 1000, 6), round(upper / 1000, 6)


def _fit(letter: str, grade: int, nominal: float, *, is_hole: bool) -> tuple[float, float]:
    """Lower and upper deviation, micrometres."""
    width = GRADES[grade][bisect_left(STEPS, nominal)]
    if letter == "js":
        return -width / 2, width / 2
    if letter in ABOVE:
        start = ABOVE[letter][bisect_left(STEPS, nominal)]
        return (start, start + width) if is_hole else (-start - width, -start)
    if letter not in BELOW:
        known = " ".join([*ABOVE, "js", *BELOW])
        raise InputError(f"class '{letter}' is not known", "limits", f"Classes are {known}, capitals for holes")
    table = BELOW[letter]
    start = table[bisect_left(FINE_STEPS if len(table) > len(STEPS) else STEPS, nominal)]
    if not is_hole:
        # Shafts k hold their distance from the nominal only in the fine grades.
        start = 0 if letter == "k" and not 4 <= grade <= 7 else start
        return start, start + width
    if letter in "kmn" and grade > 8:
        if letter == "n" and nominal > STEPS[0]:
            return -width, 0
        raise InputError(f"holes {letter.upper()} are given up to grade 8", "limits", "Write the two deviations")
    # Holes of fine grades are shifted by what the next finer shaft of the same letter would leave (ISO 286-1, the delta rule).
    finest = 8 if letter in "kmn" else 7
    is_shifted = grade <= finest and nominal > STEPS[0] and grade - 1 in GRADES
    shift = width - GRADES[grade - 1][bisect_left(STEPS, nominal)] if is_shifted else 0
    return -start + shift - width, -start + shift


def _general(letter: str, nominal: float, of: Of, text: str) -> tuple[float, float]:
    if of == "angle":
        raise InputError(
            f"{text} gives angles by the length of their sides, which is not known here", "limits",
            "Write the two deviations, in degrees",
        )  # fmt: skip
    at = bisect_left(GENERAL_STEPS, nominal)
    deviation = GENERAL[letter][at] if nominal >= 0.5 and at < len(GENERAL_STEPS) else None
    if deviation is None:
        raise InputError(f"{text} gives nothing for {nominal:g} mm", "limits", "Write the two deviations")
    return -deviation, deviation
