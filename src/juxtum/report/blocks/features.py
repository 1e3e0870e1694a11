"""Features of the scan on the page: the card of each."""

from __future__ import annotations

from typing import Any

from reportlab.platypus import KeepTogether, Spacer

from juxtum.guide.features import card_lines
from juxtum.look import LIGHT
from juxtum.report.blocks.base import Block, ReportContent, facts_table, heading, words


def _features(content: ReportContent) -> list[Any]:
    told: list[Any] = []
    for taken in content.evaluation.features:
        lines = [words(taken.label, 9)]
        if taken.measured is None:
            lines.append(words(taken.problem, 8, LIGHT.ink_soft))
        else:
            lines.append(facts_table(card_lines(taken), across=2))
            lines += [words(note, 8, LIGHT.ink_soft) for note in taken.measured.notes]
        told.append(KeepTogether(lines if told else [heading("Features"), *lines]))
        told.append(Spacer(0, 6))
    return told


FEATURES = Block("features", _features)
