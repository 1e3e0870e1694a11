"""The logbook: instruments, artefacts with certificates, calibrations, checks and exercises, in a database."""

from juxtum.logbook.book import Logbook

__all__ = ["Logbook"]
