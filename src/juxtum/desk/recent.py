"""Jobs that were opened or saved lately."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QSettings

MOST = 8


class RecentJobs:
    """Their paths in the user's settings, the newest first.

    Parameters
    ----------
    settings : QSettings
        Where they are kept.
    """

    def __init__(self, settings: QSettings) -> None:
        self._settings = settings

    @property
    def paths(self) -> list[Path]:
        """Those that still exist."""
        stored = self._settings.value("recent", []) or []
        names = [stored] if isinstance(stored, str) else list(stored)
        return [Path(name) for name in names if Path(name).exists()]

    def put_first(self, path: Path) -> None:
        """A job was opened or saved."""
        names = [str(path.resolve()), *(str(p) for p in self.paths if p != path.resolve())]
        self._settings.setValue("recent", names[:MOST])
