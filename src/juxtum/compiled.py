"""The compiler of the kernels, with a cache that knows all of them.

A kernel that was compiled holds the code of those that it calls, from other files too. So what was compiled is kept
under a name made of all kernel files: when one of them changes, all are compiled anew.
"""

from __future__ import annotations

import hashlib
import shutil
import time
from pathlib import Path

import numba

from juxtum.folders import cache_folder

__all__ = ["kernels_key", "numba"]
OLD = 30 * 86400.0
"""Seconds after which the kernels of other versions are taken away."""


def kernels_key(package: Path) -> str:
    """A name made of the content of all kernel files below a folder."""
    key = hashlib.sha256()
    for path in sorted(package.rglob("*_kernels.py")):
        key.update(str(path.relative_to(package)).encode() + b"\0" + path.read_bytes())
    return key.hexdigest()[:16]


def _keep_apart() -> None:
    """Point the compiler's cache to a folder of these kernels alone, if it can be written."""
    package = Path(__file__).parent
    try:
        folder = cache_folder() / "kernels" / kernels_key(package)
        folder.mkdir(parents=True, exist_ok=True)
        folder.touch()
        for other in folder.parent.iterdir():
            if other != folder and time.time() - other.stat().st_mtime > OLD:
                shutil.rmtree(other, ignore_errors=True)
    except OSError:
        return
    numba.config.CACHE_DIR = str(folder)


_keep_apart()
