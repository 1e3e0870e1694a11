"""Damaged files of every kind that is read: each one has to end as an answer or as one sentence, in bounded time."""

from __future__ import annotations

import faulthandler
import os
import re
import signal
import tempfile
import time
import zipfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from types import FrameType

import numpy as np

from juxtum.errors import JuxtumError
from juxtum.exchange import cad_process
from juxtum.exchange.cad import CAD_SUFFIXES, write_iges, write_step
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry import TriangleMesh
from juxtum.instruments.models import read_instrument_model
from juxtum.job import FileStore, inputs_of, load_job
from juxtum.nominal import Nominal

SECONDS = 20.0
"""No file of a few kilobytes may take longer."""
CAD_SECONDS = 5.0
CAD_SHARE = 0.15
_NUMBER = re.compile(rb"[-+]?\d+(?:\.\d*)?(?:[eE][-+]?\d+)?")
_ODD_NUMBERS = [
    b"-1",
    b"0",
    b"1e308",
    b"nan",
    b"-inf",
    b"99999999999999999999",
    b"1e-320",
    b"2147483648",
    b"",
    b"x",
    b"1,5",
]


@dataclass(frozen=True)
class Fault:
    """What came of one input that should have ended otherwise."""

    name: str
    number: int
    said: str


def seeds(folder: Path) -> list[Path]:
    """Small sound files of every kind."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCone

    drilled = BRepAlgoAPI_Cut(
        BRepPrimAPI_MakeBox(40.0, 30.0, 20.0).Shape(), BRepPrimAPI_MakeCone(9.0, 0.0, 15.0).Shape()
    ).Shape()
    free = BRepBuilderAPI_NurbsConvert(BRepPrimAPI_MakeCone(9.0, 4.0, 3.0, 1.5).Shape()).Shape()
    for name, shape in (("drilled", drilled), ("free", free)):
        write_step(shape, folder / f"{name}.step")
        write_iges(shape, folder / f"{name}.igs")
    return [
        *sorted(folder.glob("*.step")),
        *sorted(folder.glob("*.igs")),
        *_mesh_seeds(folder),
        *_document_seeds(folder),
    ]


def _mesh_seeds(folder: Path) -> list[Path]:
    import trimesh

    ball = trimesh.creation.icosphere(subdivisions=1, radius=10.0)
    texts = {
        "text.stl": trimesh.exchange.stl.export_stl_ascii(ball),
        "body.obj": "\n".join(
            [
                *(f"v {x} {y} {z}" for x, y, z in ball.vertices),
                *(f"f {a + 1} {b + 1} {c + 1}" for a, b, c in ball.faces),
            ]
        ),
        "body.off": trimesh.exchange.off.export_off(ball),
        "list.xyz": "\n".join(f"{x:.3f} {y:.3f} {z:.3f}" for x, y, z in ball.vertices),
        "list.csv": "X [mm];Y [mm];Z [mm]\n"
        + "\n".join(f"{x:.3f};{y:.3f};{z:.3f}".replace(".", ",") for x, y, z in ball.vertices),
    }
    for name, text in texts.items():
        (folder / name).write_text(text)
    (folder / "binary.stl").write_bytes(trimesh.exchange.stl.export_stl(ball))
    for encoding, name in (("ascii", "text.ply"), ("binary", "binary.ply")):
        (folder / name).write_bytes(trimesh.exchange.ply.export_ply(ball, encoding=encoding))
    vertices = "".join(f'<vertex x="{x}" y="{y}" z="{z}"/>' for x, y, z in ball.vertices)
    triangles = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in ball.faces)
    body = f'<object id="1"><mesh><vertices>{vertices}</vertices><triangles>{triangles}</triangles></mesh></object>'
    model = '<model unit="millimeter" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"><resources>'
    with zipfile.ZipFile(folder / "body.3mf", "w", zipfile.ZIP_DEFLATED) as package:
        package.writestr("3D/3dmodel.model", f'{model}{body}</resources><build><item objectid="1"/></build></model>')
    names = [*texts, "binary.stl", "text.ply", "binary.ply", "body.3mf"]
    return [folder / name for name in names]


def _document_seeds(folder: Path) -> list[Path]:
    from juxtum.instruments.models import shipped_instruments
    from juxtum.job import Job, save_job

    files = FileStore()
    job = Job(inputs=inputs_of(files.adopt(folder / "binary.stl", None)))
    save_job(job, folder / "job.juxtum", files)
    (folder / "instrument.json").write_text(shipped_instruments()[0].model_dump_json(by_alias=True, indent=1))
    return [folder / "job.juxtum", folder / "instrument.json"]


def mutated(data: bytes, chance: np.random.Generator) -> bytes:
    """The file with one to four kinds of damage."""
    for _ in range(int(chance.integers(1, 5))):
        kind = int(chance.integers(0, 7))
        at = int(chance.integers(0, max(len(data), 1)))
        length = int(2 ** chance.uniform(0, 8))
        if kind == 0:
            data = data[:at]
        elif kind == 1:
            data = (
                data[:at] + bytes(chance.integers(0, 256, min(length, 8), dtype=np.uint8)) + data[at + min(length, 8) :]
            )
        elif kind == 2:
            data = data[:at] + data[at + length :]
        elif kind == 3:
            data = data[:at] + data[at : at + length] * int(chance.integers(2, 5)) + data[at + length :]
        elif kind == 4:
            data = data[:at] + bytes(length) + data[at + length :]
        else:
            data = _other_number(data, chance)
    return data


def _other_number(data: bytes, chance: np.random.Generator) -> bytes:
    found = list(_NUMBER.finditer(data))
    if not found:
        return data
    one = found[int(chance.integers(0, len(found)))]
    odd = _ODD_NUMBERS[int(chance.integers(0, len(_ODD_NUMBERS)))]
    if chance.random() < 0.5:
        other = found[int(chance.integers(0, len(found)))]
        odd = data[other.start() : other.end()]
    return data[: one.start()] + odd + data[one.end() :]


def inputs(folder: Path, count: int, seed: int, cad_share: float = CAD_SHARE) -> Iterator[tuple[int, Path]]:
    """Numbered damaged files; the same seed gives the same files."""
    sound = seeds(folder)
    cad = [path for path in sound if path.suffix in CAD_SUFFIXES]
    rest = [path for path in sound if path.suffix not in CAD_SUFFIXES]
    for number in range(count):
        chance = np.random.default_rng([seed, number])
        kind = cad if chance.random() < cad_share else rest
        source = kind[int(chance.integers(0, len(kind)))]
        target = folder / f"damaged-{source.name}"
        target.write_bytes(mutated(source.read_bytes(), chance))
        yield number, target


def read_any(path: Path, folder: Path) -> None:
    """Read a file the way the application would; CAD in a process that is forked here, which is quicker to start."""
    if path.suffix in CAD_SUFFIXES:
        Nominal.from_arrays(_read_cad_forked(path, folder / "answer"))
    elif path.suffix == ".juxtum":
        load_job(path, FileStore(), folder / "unpacked")
    elif path.suffix == ".json":
        read_instrument_model(path)
    else:
        read = read_mesh(path)
        if isinstance(read.scan, TriangleMesh):
            Nominal.from_mesh(read.scan)


def _read_cad_forked(path: Path, answer: Path) -> cad_process.CadArrays:
    answer.unlink(missing_ok=True)
    child = os.fork()
    if child == 0:
        faulthandler.disable()
        signal.setitimer(signal.ITIMER_REAL, 0)
        silence = os.open(os.devnull, os.O_WRONLY)
        os.dup2(silence, 1)
        os.dup2(silence, 2)
        code = 1
        try:
            code = cad_process.main([str(path), str(answer), str(cad_process.CadLimits().memory)])
        finally:
            os._exit(code)
    end = time.monotonic() + CAD_SECONDS
    while True:
        done, status = os.waitpid(child, os.WNOHANG)
        if done:
            return cad_process.answer_of(os.waitstatus_to_exitcode(status), answer, path)
        if time.monotonic() > end:
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            raise JuxtumError("the CAD library was not done with this file", str(path))
        time.sleep(0.002)


def _too_long(signum: int, frame: FrameType | None) -> None:
    raise TimeoutError(f"longer than {SECONDS:.0f} s")


def faults(folder: Path, count: int, seed: int, cad_share: float = CAD_SHARE) -> tuple[list[Fault], Counter[str]]:
    """Every input that ended as neither an answer nor a sentence, and how many ended as which."""
    found, ends = [], Counter[str]()
    signal.signal(signal.SIGALRM, _too_long)
    for number, path in inputs(folder, count, seed, cad_share):
        signal.setitimer(signal.ITIMER_REAL, SECONDS)
        try:
            read_any(path, folder)
            ends["answer"] += 1
        except JuxtumError as problem:
            told = (
                "broke down"
                if "broke down" in problem.what
                else "not done"
                if "not done" in problem.what
                else "sentence"
            )
            ends[told] += 1
            if not problem.sentence.strip() or "\n" in problem.sentence:
                found.append(Fault(path.name, number, "an empty or broken sentence"))
        except Exception as problem:  # noqa: BLE001 - this is what is looked for
            ends["fault"] += 1
            found.append(Fault(path.name, number, f"{type(problem).__name__}: {problem}"[:200]))
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)
    return found, ends


def fuzz() -> Iterator[str]:
    """10,000 damaged files; JUXTUM_INPUTS and JUXTUM_SEED choose others."""
    count, seed = int(os.environ.get("JUXTUM_INPUTS", "10000")), int(os.environ.get("JUXTUM_SEED", "9"))
    with tempfile.TemporaryDirectory() as name:
        began = time.perf_counter()
        found, ends = faults(Path(name), count, seed)
        took = time.perf_counter() - began
    yield f"{count} damaged files (seed {seed}) in {took:.0f} s: " + ", ".join(
        f"{n} {kind}" for kind, n in ends.most_common()
    )
    for fault in found[:40]:
        yield f"{fault.number} {fault.name}: {fault.said}"
