"""The walls of the part on the page."""

from __future__ import annotations

from typing import Any

from reportlab.platypus import KeepTogether, Spacer

from juxtum.guide.walls import wall_facts
from juxtum.report.blocks.base import Block, ReportContent, facts_table, heading


def _walls(content: ReportContent) -> list[Any]:
    taken = content.evaluation.walls
    if taken is None:
        return []
    return [KeepTogether([heading("Thickness of walls"), facts_table(wall_facts(taken)), Spacer(0, 6)])]


WALLS = Block("walls", _walls)
