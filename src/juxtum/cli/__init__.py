"""The command line: the same steps as the desk, for scripts and for machines without a display."""

from juxtum.cli.main import main

__all__ = ["main"]
