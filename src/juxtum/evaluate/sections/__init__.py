"""Sections: where a plane cuts nominal and scan, how they differ in it, and the lines and arcs it shows."""

from juxtum.evaluate.sections.cutting import Curve, SectionPlane, cut
from juxtum.evaluate.sections.pieces import Dimension, Piece, SectionFeature, between
from juxtum.evaluate.sections.taken import Section, SectionRule, take_section

__all__ = [
    "Curve", "Dimension", "Piece", "Section", "SectionFeature", "SectionPlane", "SectionRule", "between", "cut",
    "take_section",
]  # fmt: skip
