"""Cleaning scans: the table, loose fragments, selections."""

from juxtum.assemble.fragments import Fragments, drop_fragments, find_fragments, keep_pieces
from juxtum.assemble.select import Prism, grown, inside_prism, on_visible_side
from juxtum.assemble.trim import find_flat, find_table, trim

__all__ = [
    "Fragments", "Prism", "drop_fragments", "find_flat", "find_fragments", "find_table", "grown", "inside_prism", "keep_pieces",
    "on_visible_side", "trim",
]  # fmt: skip
