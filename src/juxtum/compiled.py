"""The compiler of the kernels, with a cache that knows all of them.

A kernel that was compiled holds the code of those that it calls, from other files too. So what was compiled is kept
under a name made of all kernel files: when one of them changes, all are compiled anew.
"""

from __future__ import annotations

import hashlib
import shutil
import time
from pathlib import Path
from typing import Any

import numba
from numba.core.caching import UserProvidedCacheLocator

from juxtum.folders import cache_folder

__all__ = ["KernelLocator", "kernels_key", "numba"]
PACKAGE = Path(__file__).parent
OLD = 30 * 86400.0
"""Seconds after which the kernels of other versions are taken away."""


def kernels_key(package: Path) -> str:
    """A name made of the content of all kernel files below a folder."""
    key = hashlib.sha256()
    for path in sorted(package.rglob("*_kernels.py")):
        key.update(str(path.relative_to(package)).encode() + b"\0" + path.read_bytes())
    return key.hexdigest()[:16]


class KernelLocator(UserProvidedCacheLocator):  # type: ignore[misc]
    """Finds what was compiled by a kernel's place within the package: two copies of the program share it.

    The compiler asks for the place of the file alone, and so compiled anew for each copy of the same kernels.
    """

    @classmethod
    def from_function(cls, py_func: Any, py_file: str) -> Any:
        """A locator for a kernel of this package; None for other functions, which other locators find."""
        return super().from_function(py_func, py_file) if Path(py_file).is_relative_to(PACKAGE) else None

    @classmethod
    def get_suitable_cache_subpath(cls, py_file: str) -> str:
        """The folder of the file within the package, as one name."""
        return "_".join(Path(py_file).parent.relative_to(PACKAGE).parts) or "juxtum"


def _keep_apart() -> None:
    """Point the compiler's cache to a folder of these kernels alone, if it can be written."""
    try:
        folder = cache_folder() / "kernels" / kernels_key(PACKAGE)
        folder.mkdir(parents=True, exist_ok=True)
        folder.touch()
        for other in folder.parent.iterdir():
            if other != folder and time.time() - other.stat().st_mtime > OLD:
                shutil.rmtree(other, ignore_errors=True)
    except OSError:
        return
    numba.config.CACHE_DIR = str(folder)
    usual = "UserProvidedCacheLocator,InTreeCacheLocator,UserWideCacheLocator,IPythonCacheLocator,ZipCacheLocator"
    numba.config.CACHE_LOCATOR_CLASSES = f"juxtum.compiled.KernelLocator,{usual}"


_keep_apart()
