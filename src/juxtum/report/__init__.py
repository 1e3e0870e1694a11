"""Handing over: the result document, tables, pictures, the PDF and the coloured scan."""

from juxtum.report.result import result_document
from juxtum.report.writer import write_outputs

__all__ = ["result_document", "write_outputs"]
