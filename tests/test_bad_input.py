"""Every malformed file and value gives its sentence, exit status 2, and leaves nothing half-written."""

from __future__ import annotations

import json
import os
import struct
import zipfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from helpers import bracket_mesh, write_bracket
from juxtum.cli import main
from juxtum.demo.world import nominal_path

Maker = Callable[[Path], Path]


def text(name: str, content: str | bytes) -> Maker:
    """Writes a file."""

    def make(folder: Path) -> Path:
        path = folder / name
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
        return path

    return make


def stl(count: int, triangles: list[list[list[float]]]) -> bytes:
    """A binary STL whose header may lie."""
    body = b"".join(struct.pack("<12fH", 0, 0, 0, *np.ravel(t), 0) for t in triangles)
    return b"made up".ljust(80, b"\0") + struct.pack("<I", count) + body


def ply(header: str, body: str = "") -> str:
    """An ASCII PLY."""
    return f"ply\nformat ascii 1.0\n{header}end_header\n{body}"


def package(members: dict[str, str], name: str) -> Maker:
    """A zip."""

    def make(folder: Path) -> Path:
        path = folder / name
        with zipfile.ZipFile(path, "w") as file:
            for member, content in members.items():
                file.writestr(member, content)
        return path

    return make


def model(body: str, head: str = "") -> str:
    """A 3MF model part."""
    return f'<?xml version="1.0"?>{head}<model unit="millimeter" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">{body}</model>'


def cut_step(folder: Path) -> Path:
    path = folder / "cut.step"
    path.write_bytes(nominal_path().read_bytes()[:30_000])
    return path


def empty_step(folder: Path) -> Path:
    path = folder / "wire.step"
    source = nominal_path().read_text()
    head = source[: source.index("DATA;")]
    path.write_text(head + "DATA;\n#1=CARTESIAN_POINT('',(0.,0.,0.));\nENDSEC;\nEND-ISO-10303-21;\n")
    return path


def unreadable(folder: Path) -> Path:
    path = folder / "fifo.stl"
    os.mkfifo(path)
    return path


def cut_bracket(folder: Path) -> Path:
    path = write_bracket(folder / "short.stl")
    path.write_bytes(path.read_bytes()[:-1000])
    return path


def huge_bracket(folder: Path) -> Path:
    return write_bracket(folder / "big.stl", 25.4)


def small_bracket(folder: Path) -> Path:
    return write_bracket(folder / "inch.stl", 1 / 25.4)


def other_part(folder: Path) -> Path:
    import trimesh

    path = folder / "ball.stl"
    trimesh.creation.icosphere(4, 24.0).export(path)
    return path


FLAT = [[[0.0, 0, 0], [1, 0, 0], [0, 1, 0]]]
DEGENERATE = [[[0.0, 0, 0], [1, 0, 0], [2, 0, 0]]] * 3
NAN = [[[0.0, 0, 0], [1, 0, float("nan")], [0, 1, 0]]]
INFINITE = [[[0.0, 0, 0], [1, 0, float("inf")], [0, 1, 0]]]
FAR = [[[0.0, 0, 0], [1e30, 0, 0], [0, 1, 0]]]
CUBE_JOB = json.dumps({"schema": "juxtum-job", "version": 99, "id": "0" * 32})

SCANS: dict[str, tuple[Maker, str]] = {
    "missing": (lambda folder: folder / "none.stl", "there is no such file"),
    "empty": (text("empty.stl", b""), "the file is empty"),
    "folder": (lambda folder: folder, "this is a folder, not a file"),
    "not a regular file": (unreadable, "this is not a regular file"),
    "unknown kind": (text("scan.docx", "hello"), "files are not read"),
    "no suffix": (text("scan", "hello"), "files are not read"),
    "cad as scan": (lambda folder: nominal_path(), "a CAD model is not a scan"),
    "stl magic": (text("a.stl", b"this is no mesh at all"), "this is not an STL file"),
    "stl truncated": (cut_bracket, "the file ends too early"),
    "stl huge count": (text("a.stl", stl(4_000_000_000, FLAT)), "the file ends too early"),
    "stl no triangles": (text("a.stl", stl(0, [])), "the file holds no triangles"),
    "stl nan": (text("a.stl", stl(1, NAN)), "not finite numbers"),
    "stl infinite": (text("a.stl", stl(1, INFINITE)), "not finite numbers"),
    "stl far": (text("a.stl", stl(1, FAR)), "larger than any part"),
    "stl degenerate": (text("a.stl", stl(3, DEGENERATE)), "all triangles are degenerate"),
    "stl text cut": (
        text("a.stl", "solid x\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\n"),
        "'endsolid' is missing",
    ),
    "stl text comma": (
        text("a.stl", "solid x\nfacet\nvertex 0,5 0 0\nvertex 1 0 0\nvertex 0 1 0\nendsolid"),
        "numbers with decimal points",
    ),
    "stl text two": (text("a.stl", "solid x\nfacet\nvertex 0 0 0\nvertex 1 0 0\nendsolid"), "three vertices"),
    "ply magic": (text("a.ply", "plx\n"), "PLY"),
    "ply no end": (text("a.ply", "ply\nformat ascii 1.0\nelement vertex 3\n"), "header"),
    "ply huge": (
        text("a.ply", ply("element vertex 99999999999\nproperty float x\nproperty float y\nproperty float z\n")),
        "more data than any scan",
    ),
    "ply negative": (
        text("a.ply", ply("element vertex -3\nproperty float x\nproperty float y\nproperty float z\n")),
        "the header names a negative count",
    ),
    "ply short": (
        text("a.ply", ply("element vertex 5\nproperty float x\nproperty float y\nproperty float z\n", "0 0 0\n")),
        "ends too early",
    ),
    "ply index": (
        text(
            "a.ply",
            ply(
                "element vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty list uchar int vertex_indices\n",
                "0 0 0\n1 0 0\n0 1 0\n3 0 1 7\n",
            ),
        ),
        "a triangle names a point that does not exist",
    ),
    "ply word": (
        text("a.ply", ply("element vertex 1\nproperty float x\nproperty float y\nproperty float z\n", "a b c\n")),
        "does not hold the numbers",
    ),
    "obj nothing": (text("a.obj", "# hello\n"), "no OBJ vertices"),
    "obj word": (text("a.obj", "v 0 0 zero\n"), "line 1"),
    "obj index": (text("a.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n"), "a triangle names a point"),
    "obj zero": (text("a.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 0 1 2\n"), "line 4"),
    "off magic": (text("a.off", "OOF\n3 1 0\n"), "OFF"),
    "off cut": (text("a.off", "OFF\n3 1 0\n0 0 0\n"), "holds less than its header names"),
    "3mf not zip": (text("a.3mf", "no zip"), "not a 3MF package"),
    "3mf outside": (package({"../../evil.model": "x"}, "a.3mf"), "a path outside itself"),
    "3mf no model": (package({"readme.txt": "x"}, "a.3mf"), "no model part"),
    "3mf entities": (
        package({"3D/3dmodel.model": model("&a;", '<!DOCTYPE x [<!ENTITY a "b">]>')}, "a.3mf"),
        "not clean XML",
    ),
    "3mf unit": (
        package({"3D/3dmodel.model": model("").replace("millimeter", "cubit")}, "a.3mf"),
        "the unit 'cubit' is not known",
    ),
    "3mf empty": (package({"3D/3dmodel.model": model("")}, "a.3mf"), "no triangles"),
    "xyz words": (text("a.xyz", "one two three\n" * 80), "no list of points"),
    "xyz two columns": (text("a.xyz", "1 2\n" * 20), "does not hold three numbers"),
    "xyz broken row": (text("a.csv", "x,y,z\n" + "1,2,3\n" * 20 + "1,2,oops\n"), "row 22"),
    "xyz few": (text("a.xyz", "0 0 0\n1 0 0\n0 1 0\n"), "too few to be a scan"),
    "xyz one place": (text("a.xyz", "1 1 1\n" * 50), "all points lie in one place"),
    "xyz binary": (text("a.xyz", b"\0\1\2" * 50), "binary data"),
    "xyz nan": (text("a.xyz", "nan nan nan\n" * 50), "not finite numbers"),
    "too big": (huge_bracket, "25.4 times as large as the nominal"),
    "inches": (small_bracket, "this looks like inches"),
    "another part": (other_part, "no pose brings the scan onto the nominal"),
}

NOMINALS: dict[str, tuple[Maker, str]] = {
    "step magic": (text("a.step", "hello"), "this is not a STEP file"),
    "step cut": (cut_step, "ends too early"),
    "step without solid": (empty_step, "the file holds no shape"),
    "iges magic": (text("a.igs", "hello"), "this is not an IGES file"),
    "points": (text("a.xyz", "0 0 0\n" * 30), "cannot be a nominal"),
    "not a mesh": (text("a.stl", "solid\n"), "this is not an STL file"),
}

OPTIONS: dict[str, tuple[list[str], str]] = {
    "limits": (["--lower", "0.3"], "the lower limit is not below the upper limit"),
    "length": (["--upper", "wide"], "'wide' is not a length"),
    "unit": (["--scan-unit", "ell"], "'ell' is not a unit"),
    "align": (["--align", "magic"], "'magic' is not an alignment"),
    "datums": (["--align", "datums:none.json"], "there is no such file"),
    "rule": (["--rule", "lenient"], "invalid choice"),
    "option": (["--colour", "red"], "unrecognized arguments"),
    "instrument": (["--instrument", "none.json"], "there is no such file"),
}


def refused(arguments: list[str], words: str, capsys: pytest.CaptureFixture[str], out: Path) -> None:
    """The command ends with 2, one line that says so, and nothing written."""
    status = main(arguments)
    said = capsys.readouterr()
    assert status == 2, said
    assert said.out == ""
    assert said.err.count("\n") == 1 and said.err.startswith("juxtum: "), said.err
    assert words in said.err, said.err
    assert "Traceback" not in said.err and "unexpected" not in said.err
    assert not out.exists() or not list(out.iterdir())


@pytest.mark.parametrize("name", SCANS)
def test_scan_is_refused(name: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    make, words = SCANS[name]
    nominal, out = write_bracket(tmp_path / "nominal.stl"), tmp_path / "out"
    refused(["inspect", str(nominal), str(make(tmp_path)), "--out", str(out)], words, capsys, out)


@pytest.mark.parametrize("name", NOMINALS)
def test_nominal_is_refused(name: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    make, words = NOMINALS[name]
    scan, out = write_bracket(tmp_path / "scan.stl"), tmp_path / "out"
    refused(["inspect", str(make(tmp_path)), str(scan), "--out", str(out)], words, capsys, out)


@pytest.mark.parametrize("name", OPTIONS)
def test_option_is_refused(name: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    options, words = OPTIONS[name]
    part, out = write_bracket(tmp_path / "part.stl"), tmp_path / "out"
    refused(["inspect", str(part), str(part), "--out", str(out), *options], words, capsys, out)


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (package({"job.json": CUBE_JOB}, "newer.juxtum"), "newer version"),
        (package({"../job.json": CUBE_JOB}, "a.juxtum"), "a path outside itself"),
        (package({"other.json": "{}"}, "a.juxtum"), "its document is missing"),
        (package({"job.json": "{nonsense"}, "a.juxtum"), "not JSON"),
        (package({"job.json": '{"schema":"juxtum-job","version":1,"id":"x"}'}, "a.juxtum"), "the job is damaged: 'id'"),
        (text("a.juxtum", b"PK\3\4 cut"), "not a job, or it is damaged"),
        (text("a.json", '{"procedure": {"steps": [{"kind": "dance"}]}, "nominal": {"path": "x"}}'), "this is not a procedure"),
    ],
)  # fmt: skip
def test_job_is_refused(make: Maker, words: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    scan, out = write_bracket(tmp_path / "scan.stl"), tmp_path / "out"
    refused(["run", str(make(tmp_path)), str(scan), "--out", str(out)], words, capsys, out)


@pytest.mark.parametrize(
    ("document", "words"),
    [
        ('{"a": -0.1}', "'a' is not right: input should be greater than or equal to 0"),
        ('{"a": "wide"}', "'a' is not right"),
        ('{"a": 0.1, "b": 0.1, "colour": 1}', "'colour' is not right"),
        ('{"a": 0.1}', "'b' is not right"),
        ("[1", "invalid json"),
    ],
)
def test_instrument_is_refused(document: str, words: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    part, out = write_bracket(tmp_path / "part.stl"), tmp_path / "out"
    (tmp_path / "i.json").write_text(document)
    refused(
        ["inspect", str(part), str(part), "--out", str(out), "--instrument", str(tmp_path / "i.json")],
        words,
        capsys,
        out,
    )


def test_name_that_is_not_utf8(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = os.fsdecode(os.fsencode(tmp_path) + b"/sc\xe4n.stl")
    Path(path).write_bytes(b"nothing")
    assert main(["info", path]) == 2
    assert "this is not an STL file" in capsys.readouterr().err


def test_folder_that_cannot_be_written(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    part = write_bracket(tmp_path / "part.stl")
    refused(
        ["inspect", str(part), str(part), "--out", str(part)], "this is a file, not a folder", capsys, tmp_path / "out"
    )
    long = tmp_path / ("x" * 300)
    refused(
        ["inspect", str(part), str(part), "--out", str(long)],
        "the name is too long for this disk",
        capsys,
        tmp_path / "out",
    )
    refused(
        ["inspect", str(part), str(part), "--out", str(tmp_path / "out"), "--instrument", "x" * 300],
        "no instrument",
        capsys,
        tmp_path / "out",
    )


def test_file_without_permission(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    part, user = write_bracket(tmp_path / "part.stl"), os.geteuid()
    part.chmod(0)
    main(["info", str(tmp_path)])
    capsys.readouterr()
    if user == 0:
        os.seteuid(65534)
    try:
        status = main(["info", str(part)])
    finally:
        os.seteuid(user)
    assert status == 2 and "the file may not be read" in capsys.readouterr().err


def test_what_can_be_mended_is_mended(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Duplicate triangles and mixed line ends are no reason to refuse."""
    mesh = bracket_mesh()
    rows = [f"v {x} {y} {z}" for x, y, z in mesh.vertices] + [f"f {a + 1} {b + 1} {c + 1}" for a, b, c in mesh.faces]
    rows += rows[-2:]
    (tmp_path / "a.obj").write_bytes(
        b"".join(row.encode() + (b"\r\n" if k % 2 else b"\n") for k, row in enumerate(rows))
    )
    assert main(["info", str(tmp_path / "a.obj"), "--json"]) == 0
    facts = json.loads(capsys.readouterr().out)
    assert facts["triangles"] == len(mesh.faces)
    assert facts["problems"][0] == "2 degenerate or repeated triangles left out"


def test_decimal_commas_are_understood(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rows = [f"{x:.3f};{y:.3f};{z:.3f}".replace(".", ",") for x, y, z in bracket_mesh().vertices]
    (tmp_path / "a.csv").write_text("x;y;z\n" + "\n".join(rows))
    assert main(["info", str(tmp_path / "a.csv"), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["bounds"] == [[0, 0, 0], [60, 40, 31]]
