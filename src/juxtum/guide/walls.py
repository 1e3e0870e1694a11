"""What is said of the walls of a part."""

from __future__ import annotations

import numpy as np

from juxtum.evaluate.walls import WallMap
from juxtum.evaluate.walls.measured import WallPlace
from juxtum.job.wall_map import TakenWalls
from juxtum.wording import percent

WAYS = {"ray": "straight through the wall", "ball": "by the largest ball that fits"}
BECAUSE = "because"


def wall_facts(taken: TakenWalls) -> list[tuple[str, str]]:
    """The walls of a part, line by line; lengths in mm."""
    found = taken.found
    if found is None:
        return [("not measured", taken.problem)]
    facts = [
        ("measured", WAYS[found.way]),
        ("thinnest", _value(found.thinnest)),
        ("there, X Y Z", _place(found.thinnest)),
        ("thickest", _value(found.thickest)),
        ("there, X Y Z", _place(found.thickest)),
        ("mean, by area", f"{found.mean:.3f}"),
        ("area with a thickness", percent(found.seen)),
    ]
    if found.uneven is not None:
        facts.insert(3, ("thinner yet, uneven", f"{found.uneven.value:.3f}, U not known"))
        facts.insert(4, ("there, X Y Z", _place(found.uneven)))
    asked = limit_words(found)
    if asked:
        facts += [("asked", asked), ("beyond that", percent(found.beyond, 2))]
    if found.decision is not None:
        facts += [("verdict", str(found.decision.verdict)), (BECAUSE, found.decision.reason)]
    return facts


def limit_words(found: WallMap) -> str:
    """What is asked of the walls.

    Examples
    --------
    >>> from types import SimpleNamespace
    >>> limit_words(SimpleNamespace(limits=SimpleNamespace(least=2.5, most=None)))
    'at least 2.5'
    """
    least, most = found.limits.least, found.limits.most
    words = [f"at least {least:g}"] if least is not None else []
    return ", ".join([*words, *([f"at most {most:g}"] if most is not None else [])])


def _value(one: WallPlace) -> str:
    spread = f"\u00b1 {one.expanded:.3f}" if np.isfinite(one.expanded) else "U not known"
    return f"{one.value:.3f} {spread}"


def _place(one: WallPlace) -> str:
    return "  ".join(f"{x:.1f}" for x in one.place).replace("-", "\u2212")
