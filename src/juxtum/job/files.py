"""Where input files are: each is known by the hash of its content."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

from juxtum.errors import JobError
from juxtum.exchange.inputfile import InputFile
from juxtum.exchange.limits import check_file, content_hash
from juxtum.folders import data_folder
from juxtum.units import Unit


def inputs_folder() -> Path:
    """The folder for the inputs of jobs: a job that is open has no other copy of them."""
    folder = data_folder() / "inputs"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


class FileStore:
    """Finds input files by their content.

    Parameters
    ----------
    keep : Path, optional
        A folder that takes copies, so that a job survives the loss of its sources. Without one, files are read
        where they lie.
    """

    def __init__(self, keep: Path | None = None) -> None:
        self._keep = keep
        self._places: dict[str, Path] = {}

    def adopt(self, path: Path, unit: Unit | None = None) -> InputFile:
        """Take a file in."""
        check_file(path)
        digest = content_hash(path)
        self._places[digest] = path.resolve()
        name = path.name.encode("utf-8", "replace").decode("utf-8")
        taken = InputFile(name=name, sha256=digest, unit=unit)
        if self._keep is not None:
            self._places[digest] = self._copy(path, taken)
        return taken

    def register(self, taken: InputFile, path: Path) -> None:
        """Note where the content of a file lies."""
        self._places[taken.sha256] = path

    def _copy(self, path: Path, taken: InputFile) -> Path:
        target = self.kept_path(taken)
        if not target.exists() or content_hash(target) != taken.sha256:
            target.parent.mkdir(parents=True, exist_ok=True)
            unfinished = target.with_name(f".{os.getpid()}.part")
            shutil.copyfile(path, unfinished)
            with unfinished.open("rb") as file:
                os.fsync(file.fileno())
            os.replace(unfinished, target)
        return target

    def kept_path(self, taken: InputFile) -> Path:
        """Where a copy would lie."""
        assert self._keep is not None
        return self._keep / taken.sha256 / taken.name

    def checked(self, taken: InputFile) -> Path:
        """Where a file's content is, after it was seen to be still the same.

        Raises
        ------
        JobError
            When it is lost or was changed.
        """
        path = self.locate(taken)
        if content_hash(path) != taken.sha256:
            raise JobError(
                "the kept copy of this file was changed or cut off",
                f"{taken.name} in {path.parent}",
                "Bring it in again",
            )
        return path

    def locate(self, taken: InputFile) -> Path:
        """Where a file's content is now.

        Raises
        ------
        JobError
            When it is nowhere to be found.
        """
        path = self._places.get(taken.sha256)
        if path is None and self._keep is not None:
            path = self.kept_path(taken)
        if path is None or not path.exists():
            raise JobError("the file of this job cannot be found", taken.name, "Bring it in again in Brief")
        return path
