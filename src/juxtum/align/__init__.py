"""Alignment: from the device frame into part coordinates."""

from juxtum.align.best_fit import best_fit
from juxtum.align.compare import FrameComparison, compare
from juxtum.align.datums import DatumFeature, datum_alignment
from juxtum.align.pairs import align_pairs
from juxtum.align.result import Alignment
from juxtum.align.rough import rough_align
from juxtum.align.samples import ScanSample, scan_sample

__all__ = [
    "Alignment",
    "DatumFeature",
    "FrameComparison",
    "ScanSample",
    "align_pairs",
    "best_fit",
    "compare",
    "datum_alignment",
    "rough_align",
    "scan_sample",
]
