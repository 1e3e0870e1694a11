"""The CAD library in a process of its own: a file that breaks it ends that process, not the application."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from juxtum.errors import InputError
from juxtum.exchange.limits import check_file
from juxtum.exchange.solid import CadArrays
from juxtum.progress import Progress, silent

if TYPE_CHECKING:
    from juxtum.exchange.cad import CadShape
    from juxtum.exchange.model_line import FaceMark

_REFUSED = 3
"""Exit code of the process when it says why in a sentence."""


@dataclass(frozen=True)
class CadLimits:
    """What the CAD library may use for one file.

    Parameters
    ----------
    seconds : float
        Time for the smallest file; each megabyte of the file adds `seconds_per_megabyte`.
    seconds_per_megabyte : float
    memory : int
        Bytes of address space.
    """

    seconds: float = 90.0
    seconds_per_megabyte: float = 8.0
    memory: int = 12 * 1024**3

    def seconds_for(self, size: int) -> float:
        """Time for a file of `size` bytes."""
        return self.seconds + self.seconds_per_megabyte * size / 1e6


def read_cad_arrays(path: Path, progress: Progress | None = None, limits: CadLimits | None = None) -> CadArrays:
    """Read a STEP or IGES file in a process of its own.

    Raises
    ------
    InputError
        When the file cannot be used, or breaks the library, its time or its memory.
    Cancelled
        When the progress was asked to stop; the process is ended.
    """
    limits = limits or CadLimits()
    size = check_file(path)
    with tempfile.TemporaryDirectory(prefix="juxtum-cad-") as folder:
        answer = Path(folder) / "answer"
        command = [sys.executable, "-P", "-m", __name__, str(path.resolve()), str(answer), str(limits.memory)]
        with (Path(folder) / "said").open("wb") as said:
            process = subprocess.Popen(
                command,
                stdin=subprocess.DEVNULL,
                stdout=said,
                stderr=said,
                cwd=folder,
                env=_environment(),
                start_new_session=True,
            )
        try:
            code = _awaited(process, limits.seconds_for(size), progress or silent(), path)
        finally:
            if process.poll() is None:
                process.kill()
            process.wait()
        return answer_of(code, answer, path)


def _environment() -> dict[str, str]:
    """The surroundings of the process: this package can be found, and one thread is enough."""
    package = str(Path(__file__).resolve().parents[2])
    found = os.environ.get("PYTHONPATH")
    paths = package if not found else package + os.pathsep + found
    return {**os.environ, "PYTHONPATH": paths, "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}


def _awaited(process: subprocess.Popen[bytes], seconds: float, progress: Progress, path: Path) -> int:
    """Exit code of the process, looked at often enough that a wish to stop is heard."""
    end = time.monotonic() + seconds
    while True:
        try:
            return process.wait(timeout=0.05)
        except subprocess.TimeoutExpired:
            progress.check()
        if time.monotonic() > end:
            what = f"the CAD library was not done with this file after {seconds:.0f} s"
            raise InputError(what, str(path), "Export the model again, best as STEP AP242, or give a mesh")


def answer_of(code: int, answer: Path, path: Path) -> CadArrays:
    """What the process left behind: arrays, or the sentence that it or its end gives.

    Raises
    ------
    InputError
    """
    if code == 0 and answer.exists():
        return CadArrays.load(answer)
    if code == _REFUSED and answer.exists():
        said = json.loads(answer.read_text("utf-8"))
        raise InputError(said["what"], str(path), said["next"])
    ended = f" ({signal.Signals(-code).name})" if code < 0 and -code in set(signal.Signals) else ""
    raise InputError(
        f"the CAD library broke down on this file{ended}", str(path), "Export the model again, best as STEP"
    )


def main(arguments: list[str]) -> int:
    """Read the file named first, write its arrays or a sentence to the file named second."""
    import resource

    source, answer, memory = Path(arguments[0]), Path(arguments[1]), int(arguments[2])
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    from juxtum.exchange.cad import read_cad
    from juxtum.exchange.shapes import cad_arrays

    try:
        model = read_cad(source)
        arrays = cad_arrays(model.shape, model.file_unit, marks=_marks(model))
        _told(arrays, source).save(answer)
    except InputError as problem:
        return _refuse(answer, problem.what, problem.next)
    except MemoryError:
        return _refuse(answer, "the model needs more memory than a model may", "Export it again, or give a mesh")
    except Exception as problem:  # noqa: BLE001 - whatever the library raises, the application is told a sentence
        return _refuse(answer, f"the model is damaged ({type(problem).__name__})", "Export it again, best as STEP")
    return 0


def _marks(model: CadShape) -> tuple[FaceMark, ...]:
    """Numbers and names of the faces; a file whose shape is sound is read without them where they are not."""
    from juxtum.exchange.model_says import marks_of
    from juxtum.exchange.shapes import faces_of

    if model.reader is None:
        return ()
    with contextlib.suppress(Exception):
        return marks_of(faces_of(model.shape)[0], model.reader)
    return ()


def _told(arrays: CadArrays, source: Path) -> CadArrays:
    """With the tolerances that the file states, or a sentence that they cannot be read."""
    from juxtum.exchange.model_says import with_lines

    try:
        return with_lines(arrays, source)
    except Exception as problem:  # noqa: BLE001 - whatever is odd about them, the shape was read
        what = f"the tolerances in the model cannot be read ({type(problem).__name__})"
        return replace(arrays, unread=(what,))


def _refuse(answer: Path, what: str, next: str) -> int:
    answer.write_text(json.dumps({"what": what, "next": next}), "utf-8")
    return _REFUSED


if __name__ == "__main__":
    code = main(sys.argv[1:])
    sys.stdout.flush()
    # Without the library's own clearing up, which has nothing left to save and may fail.
    os._exit(code)
