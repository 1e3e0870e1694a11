"""What an open job needs to come back after a crash."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from pathlib import Path

from juxtum.errors import JuxtumError
from juxtum.exchange.writing import write_atomically
from juxtum.folders import data_folder
from juxtum.job.document import Job
from juxtum.job.store import parse_job


@dataclass(frozen=True)
class Recovered:
    """A job that was open when its program ended without closing it."""

    job: Job
    path: Path | None
    note: Path


class Recovery:
    """Notes of the open job, one per process, beside nothing else."""

    def __init__(self) -> None:
        self._folder = data_folder() / "recovery"
        self._folder.mkdir(parents=True, exist_ok=True)

    @property
    def _own(self) -> Path:
        return self._folder / f"{os.getpid()}.json"

    def note(self, job: Job, path: Path | None) -> None:
        """Write down the job as it is now; its inputs are kept by the file store."""
        self._write(self._own, job, path)

    def clear(self) -> None:
        """The job was saved or closed: nothing to recover."""
        self._own.unlink(missing_ok=True)

    def set_aside(self, job: Job, path: Path | None) -> None:
        """Keep a job that is left for another one without having been saved."""
        self._write(self._folder / f"aside-{job.id}.json", job, path)
        self.clear()

    def aside(self) -> list[Recovered]:
        """Jobs that were left without having been saved, newest first."""
        return [found for note in self._newest("aside-*.json") if (found := _read(note)) is not None]

    def _write(self, note: Path, job: Job, path: Path | None) -> None:
        text = json.dumps({"path": str(path) if path else None, "job": job.model_dump_json(by_alias=True)})
        write_atomically(note, lambda target: target.write_text(text, "utf-8"))

    def _newest(self, pattern: str) -> list[Path]:
        return sorted(self._folder.glob(pattern), key=lambda p: p.stat().st_mtime, reverse=True)

    def left_behind(self) -> Recovered | None:
        """The newest job whose program is no longer running."""
        for note in self._newest("*.json"):
            if note.stem.isdigit() and note != self._own and not _is_running(int(note.stem)):
                found = _read(note)
                if found is not None:
                    return found
        return None


def _read(note: Path) -> Recovered | None:
    """A note's job; a note that cannot be read is put aside."""
    try:
        raw = json.loads(note.read_text("utf-8"))
        job = parse_job(str(raw["job"]).encode(), note)
        return Recovered(job, Path(raw["path"]) if raw["path"] else None, note)
    except (JuxtumError, ValueError, KeyError, TypeError, OSError):
        note.rename(note.with_suffix(".unreadable"))
        return None


def _is_running(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
