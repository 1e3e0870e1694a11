"""The user's folders."""

from __future__ import annotations

import os
from pathlib import Path


def cache_folder() -> Path:
    """The folder for things that can be made again (JUXTUM_CACHE, or the user's cache folder)."""
    from platformdirs import user_cache_dir

    folder = Path(os.environ.get("JUXTUM_CACHE") or user_cache_dir("juxtum"))
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def data_folder() -> Path:
    """The folder for things that must not be lost (JUXTUM_DATA, or the user's data folder)."""
    from platformdirs import user_data_dir

    folder = Path(os.environ.get("JUXTUM_DATA") or user_data_dir("juxtum"))
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def is_keeping() -> bool:
    """Whether results are kept on disk and taken from there: not with `JUXTUM_SHELF=off` in the environment."""
    return os.environ.get("JUXTUM_SHELF") != "off"
