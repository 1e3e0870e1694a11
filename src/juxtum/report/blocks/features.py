"""Features of the scan on the page: the card of each."""

from __future__ import annotations

from typing import Any

from reportlab.platypus import KeepTogether, Spacer

from juxtum.guide.features import card_lines
from juxtum.look import LIGHT
from juxtum.report.blocks.base import Block, ReportContent, heading, words


def _features(content: ReportContent) -> list[Any]:
    told: list[Any] = []
    for taken in content.evaluation.features:
        lines = [words(taken.label, 9)]
        lines += [words(f"{name}: {text}", 8, LIGHT.ink_soft) for name, text in card_lines(taken)]
        if taken.measured is not None:
            lines += [words(note, 8, LIGHT.ink_soft) for note in taken.measured.notes]
        told.append(KeepTogether(lines if told else [heading("Features"), *lines]))
        told.append(Spacer(0, 6))
    return told


FEATURES = Block("features", _features)
