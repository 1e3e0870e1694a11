"""What is said of features of a scan: their cards."""

from __future__ import annotations

import numpy as np

from juxtum.evaluate.features import FeatureValue, MeasuredFeature, TakenFeature
from juxtum.evaluate.features.free_form import FreeForm
from juxtum.geometry.features import Opening


def value_line(value: FeatureValue) -> tuple[str, str]:
    """A number of a feature: its name, with what was drawn, and the value with its uncertainty.

    Examples
    --------
    >>> value_line(FeatureValue("diameter", 72.0834, 0.021, drawn=72.0))
    ('diameter (72 drawn)', '72.083 ± 0.021')
    """
    unit = value.unit if value.unit == "\u00b0" else ""
    spread = "U not known" if not np.isfinite(value.expanded) else f"\u00b1 {value.expanded:.3f}"
    name = value.name if not value.drawn else f"{value.name} ({value.drawn:g} drawn)"
    return name, f"{number(value.value, 3)} {spread}{unit}"


def number(value: float, digits: int) -> str:
    """A number with a true minus, and none before nothing.

    Examples
    --------
    >>> number(-0.0001, 3), number(-1.5, 1)
    ('0.000', '−1.5')
    """
    text = f"{value:.{digits}f}"
    return text.removeprefix("-") if not float(text) else text.replace("-", "\u2212")


def card_lines(taken: TakenFeature) -> list[tuple[str, str]]:
    """The card of a feature, line by line; lengths in mm."""
    made = taken.measured
    if made is None:
        return [("not measured", taken.problem)]
    lines = [("kind", made.kind if not made.face else f"{made.kind}, face {made.face}")]
    if made.origin:
        is_distance = any(value.name == "distance" for value in made.values)
        lines = [*([] if is_distance else lines), ("made", made.origin)]
    lines += [value_line(value) for value in made.values]
    if made.origin:
        return lines
    lines.append(("form, laid onto it" if made.kind == FreeForm.name else "form, least squares", f"{made.form:.4f}"))
    if np.isfinite(made.zone):
        lines.append(("form, narrowest zone", f"{made.zone:.4f}"))
    lines.append(("RMS", f"{made.rms:.4f}"))
    if np.isfinite(made.seen):
        lines.append(("seen", _seen_words(made)))
    lines += [("points used", f"{made.count}"), ("left out", f"{made.left_out}")]
    if np.isfinite(made.tolerance):
        lines.append(("grown within", f"{made.tolerance:.3f}"))
    return lines


def _seen_words(made: MeasuredFeature) -> str:
    if made.kind == FreeForm.name:
        return f"{100 * made.seen:.0f} % of its area"
    if isinstance(made.feature, Opening):
        return f"{100 * made.seen:.0f} % of the way round"
    return f"{360 * made.seen:.0f} of 360\u00b0"


def short_words(taken: TakenFeature) -> str:
    """A feature in a line of a list.

    Examples
    --------
    >>> short_words(TakenFeature("F1", None, "nothing there"))
    'F1: nothing there'
    """
    made = taken.measured
    if made is None:
        return f"{taken.label}: {taken.problem}"
    first = made.values[0]
    if made.origin and first.name == "distance":
        return f"{taken.label}: {first.value:.3f} {made.origin}"
    if made.origin:
        return f"{taken.label}: {made.origin}"
    if first.name == "diameter":
        return f"{taken.label}: {made.kind} \u2300 {first.value:.3f}"
    if first.name == "length":
        return f"{taken.label}: {made.kind} {first.value:.3f} \u00d7 {made.values[1].value:.3f}"
    if made.kind == FreeForm.name:
        return f"{taken.label}: {made.kind}, {number(first.value, 3)} off the drawn one"
    if first.name == "angle":
        return f"{taken.label}: {made.kind} of {first.value:.2f}\u00b0"
    return f"{taken.label}: {made.kind}, form {made.form:.3f}"
