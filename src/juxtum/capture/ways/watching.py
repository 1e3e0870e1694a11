"""A folder into which another program writes scans: which files are new and complete."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from juxtum.errors import InputError

SUFFIXES = (".stl", ".ply", ".obj", ".3mf", ".off", ".xyz", ".csv", ".txt", ".asc")
MOST = 500
"""Files that are looked at; more is no folder of scans."""


@dataclass(frozen=True)
class _Look:
    """What a file was like when it was last looked at: its size and when it was written."""

    size: int
    written: int


class FolderWatch:
    """Tells which scans came into a folder since it was begun.

    A file counts once it has not changed between two looks, so that none is read while it is written; one that is
    written anew counts again.

    Parameters
    ----------
    folder : Path

    Raises
    ------
    InputError
        When it is no folder that can be read.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as name:
    ...     watch = FolderWatch(Path(name))
    ...     _ = (Path(name) / "a.stl").write_text("solid a")
    ...     first, second, third = watch.look(), watch.look(), watch.look()
    >>> first, [path.name for path in second], third
    ((), ['a.stl'], ())
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._last: dict[Path, _Look] = {}
        self._done = dict(self._looks())
        """What was there before is not a scan that comes."""

    def look(self) -> tuple[Path, ...]:
        """Scans that are new since the last look and complete, the oldest first.

        Raises
        ------
        InputError
            When the folder cannot be read any more.
        """
        now = self._looks()
        ready = [
            path for path, look in now.items() if look.size > 0 and look == self._last.get(path) != self._done.get(path)
        ]
        self._last = now
        self._done |= {path: now[path] for path in ready}
        return tuple(sorted(ready, key=lambda path: (now[path].written, path.name)))

    def _looks(self) -> dict[Path, _Look]:
        try:
            entries = [e for e in self.folder.iterdir() if e.suffix.lower() in SUFFIXES and not e.name.startswith(".")]
        except OSError as problem:
            raise InputError("this folder cannot be read", str(self.folder), "Choose another one") from problem
        if len(entries) > MOST:
            what = f"{len(entries)} files are in this folder, it should be one into which scans are written"
            raise InputError(what, str(self.folder), "Choose a folder of its own")
        looks = {}
        for path in entries:
            try:
                state = path.stat()
            except OSError:
                continue
            if path.is_file():
                looks[path] = _Look(state.st_size, state.st_mtime_ns)
        return looks
