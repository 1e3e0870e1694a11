"""Cleaning scans: the table, loose fragments, selections."""

from juxtum.assemble.fragments import Fragments, drop_fragments, find_fragments
from juxtum.assemble.select import Prism, inside_prism
from juxtum.assemble.trim import find_flat, find_table, trim

__all__ = ["Fragments", "Prism", "drop_fragments", "find_flat", "find_fragments", "find_table", "inside_prism", "trim"]
