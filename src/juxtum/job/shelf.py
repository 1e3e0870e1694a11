"""Alignments and doubts kept on disk, so that a job that is opened again, or inspected again, need not search for its pose."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Callable
from functools import cache
from importlib.metadata import version
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from juxtum.align import Alignment
from juxtum.errors import InputError
from juxtum.exchange.writing import write_atomically
from juxtum.folders import cache_folder, is_keeping
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import frozen

MOST = 300
"""Files kept; the oldest go first."""
PACKAGES = (
    "align",
    "assemble",
    "associate",
    "evaluate",
    "evaluate/kinds",
    "exchange",
    "geometry",
    "geometry/features",
    "job",
    "job/steps",
    "nominal",
)
"""Whatever of the program an alignment or a doubt depends on."""


@cache
def program() -> str:
    """A hash over the code and the libraries that make what is kept: another program makes its own."""
    held = hashlib.sha256()
    for package in PACKAGES:
        for entry in sorted(Path(str(files("juxtum"))).joinpath(package).glob("*.py")):
            held.update(entry.name.encode() + entry.read_bytes())
    for library in ("numpy", "scipy", "numba", "cadquery-ocp-novtk"):
        held.update(version(library).encode())
    return held.hexdigest()[:20]


class Shelf:
    """Alignments and sentences under the key of all that they depend on.

    Parameters
    ----------
    folder : Path, optional
        The user's cache when not given.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder or cache_folder() / "alignments"

    def take(self, kind: str, key: str) -> Any:
        """What is kept under a key; None when there is nothing, or what is there cannot be read."""
        if not is_keeping():
            return None
        try:
            return FORMS[kind][0](json.loads(self._path(key).read_text("utf-8")))
        except (OSError, ValueError, TypeError, KeyError, InputError):
            return None

    def put(self, kind: str, key: str, made: Any) -> None:
        """Keep what was made; a shelf that cannot be written is none."""
        if not is_keeping():
            return
        text = json.dumps(FORMS[kind][1](made))
        with contextlib.suppress(OSError, InputError):
            self._folder.mkdir(parents=True, exist_ok=True)
            write_atomically(self._path(key), lambda path: path.write_text(text, "utf-8"))
            self._thin()

    def _path(self, key: str) -> Path:
        return self._folder / f"{key}-{program()}.json"

    def _thin(self) -> None:
        held = sorted(self._folder.glob("*.json"), key=lambda path: path.stat().st_mtime)
        for path in held[: max(len(held) - MOST, 0)]:
            path.unlink(missing_ok=True)


def _read_sentences(held: dict[str, Any]) -> tuple[str, ...]:
    sentences = held["sentences"]
    if not isinstance(sentences, list) or not all(isinstance(text, str) for text in sentences):
        raise ValueError("no sentences")
    return tuple(sentences)


def _read_number(held: dict[str, Any]) -> float:
    number = float(held["number"])
    if not np.isfinite(number):
        raise ValueError("no number")
    return number


def _written(a: Alignment) -> dict[str, Any]:
    return {
        "transform": a.transform.matrix.tolist(),
        "method": a.method,
        "rms": a.rms,
        "used": a.used,
        "covariance": a.covariance.tolist(),
        "centre": a.centre.tolist(),
        "locked": a.locked,
        "notes": list(a.notes),
        "alternatives": [pose.matrix.tolist() for pose in a.alternatives],
        "anchors": None if a.anchors is None else a.anchors.tolist(),
    }


def _read(held: dict[str, Any]) -> Alignment:
    """Numbers come back as they were: JSON keeps every digit of a double."""
    covariance = np.array(held["covariance"], dtype=np.float64)
    if covariance.shape != (6, 6) or not np.isfinite(covariance).all():
        raise ValueError("not a covariance")
    return Alignment(
        RigidTransform(np.array(held["transform"])), str(held["method"]), float(held["rms"]), int(held["used"]), frozen(covariance),
        frozen(np.array(held["centre"])), dict(held["locked"]), tuple(held["notes"]),
        tuple(RigidTransform(np.array(pose)) for pose in held["alternatives"]),
        None if held["anchors"] is None else frozen(np.array(held["anchors"])),
    )  # fmt: skip


FORMS: dict[str, tuple[Callable[[dict[str, Any]], Any], Callable[[Any], dict[str, Any]]]] = {
    "alignment": (_read, _written),
    "number": (_read_number, lambda number: {"number": number}),
    "sentences": (_read_sentences, lambda sentences: {"sentences": list(sentences)}),
}
"""How each kind of thing that is kept is read and written."""
