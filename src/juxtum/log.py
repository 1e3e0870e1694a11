"""The log file: where traces go that no screen shows."""

from __future__ import annotations

import logging
import os
from logging.handlers import RotatingFileHandler
from pathlib import Path


def log_file() -> Path:
    """Where the log is (JUXTUM_DATA, or the user's data folder)."""
    from platformdirs import user_data_dir

    folder = Path(os.environ.get("JUXTUM_DATA") or user_data_dir("juxtum"))
    folder.mkdir(parents=True, exist_ok=True)
    return folder / "juxtum.log"


def start_log() -> None:
    """Send the program's messages to the log file."""
    logger = logging.getLogger("juxtum")
    if not logger.handlers:
        handler = RotatingFileHandler(log_file(), maxBytes=1_000_000, backupCount=2, encoding="utf-8")
        handler.setFormatter(logging.Formatter("%(asctime)s %(process)d %(levelname)s %(message)s"))
        logger.addHandler(handler)
        logger.setLevel(logging.INFO)
        logger.propagate = False
