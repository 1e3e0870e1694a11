"""The walls of a part for scripts."""

from __future__ import annotations

from typing import Any

from juxtum.evaluate.walls.measured import WallPlace
from juxtum.job.wall_map import TakenWalls


def walls_document(taken: TakenWalls | None) -> dict[str, Any] | None:
    """Thickness of walls, mm; None where nobody asked for it."""
    if taken is None:
        return None
    found = taken.found
    if found is None:
        return {"problem": taken.problem}
    decision = found.decision
    return {
        "way": found.way, "least": found.limits.least, "most": found.limits.most,
        "thinnest": _place(found.thinnest), "thickest": _place(found.thickest), "mean": found.mean,
        "uneven": None if found.uneven is None else _place(found.uneven),
        "seen": found.seen, "beyond": found.beyond,
        "verdict": None if decision is None else str(decision.verdict), "reason": None if decision is None else decision.reason,
        "probability_conforming": None if decision is None else decision.probability,
    }  # fmt: skip


def _place(one: WallPlace) -> dict[str, Any]:
    return {"value": one.value, "expanded_uncertainty": one.expanded, "place": one.place.tolist()}
