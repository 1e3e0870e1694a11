"""Meshes as STL, OBJ, PLY and 3MF files, in millimetres."""

from __future__ import annotations

import zipfile
from collections.abc import Callable
from pathlib import Path

import numpy as np

from juxtum.errors import InputError
from juxtum.exchange import ply
from juxtum.exchange.raw import INVENTED
from juxtum.exchange.stl import MARKED
from juxtum.exchange.writing import write_atomically
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats

CORE = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
RELATIONS = "http://schemas.openxmlformats.org/package/2006/relationships"
TYPES = "http://schemas.openxmlformats.org/package/2006/content-types"

KINDS_OF_FACE = (
    '<basematerials id="2"><base name="measured" displaycolor="#B8BEC6FF"/>'
    f'<base name="{INVENTED}" displaycolor="#D9A441FF"/></basematerials>'
)


def write_mesh(path: Path, mesh: TriangleMesh, properties: dict[str, Floats] | None = None) -> None:
    """Write a mesh in the format that the file's name ends in.

    Parameters
    ----------
    properties : dict of str to array (N,), optional
        Numbers of each point; only PLY can hold them.

    Raises
    ------
    InputError
        When there is no such format.
    """
    write_atomically(path, lambda target: writer_of(path)(target, mesh, properties or {}))


def writer_of(path: Path) -> Callable[[Path, TriangleMesh, dict[str, Floats]], None]:
    """What writes files with a name like this.

    Raises
    ------
    InputError
    """
    found = WRITERS.get(path.suffix.lower())
    if found is None:
        what = f"'{path.suffix or path.name}' is no format for a surface"
        raise InputError(what, str(path), f"End the name in {', '.join(WRITERS)}")
    return found


def _ply(path: Path, mesh: TriangleMesh, properties: dict[str, Floats]) -> None:
    ply.write(path, mesh.points, mesh.triangles, properties, mesh.invented)


def _stl(path: Path, mesh: TriangleMesh, properties: dict[str, Floats]) -> None:
    del properties
    rows = np.zeros(len(mesh.triangles), np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("rest", "<u2")]))
    rows["normal"], rows["corners"] = mesh.triangle_normals, mesh.corners
    if mesh.invented is not None:
        rows["rest"] = mesh.invented
    with path.open("wb") as file:
        file.write((b"Juxtum, millimetres" if mesh.invented is None else MARKED).ljust(80))
        file.write(np.uint32(len(rows)).tobytes())
        rows.tofile(file)


def _obj(path: Path, mesh: TriangleMesh, properties: dict[str, Floats]) -> None:
    del properties
    with path.open("w", encoding="ascii") as file:
        file.write("# Juxtum, millimetres\n")
        np.savetxt(file, mesh.points, "v %.9g %.9g %.9g")
        if mesh.invented is None:
            np.savetxt(file, mesh.triangles + 1, "f %d %d %d")
            return
        for name, some in (("measured", ~mesh.invented), (INVENTED, mesh.invented)):
            file.write(f"g {name}\n")
            np.savetxt(file, mesh.triangles[some] + 1, "f %d %d %d")


def _threemf(path: Path, mesh: TriangleMesh, properties: dict[str, Floats]) -> None:
    del properties
    head = f'<?xml version="1.0" encoding="UTF-8"?>\n<model unit="millimeter" xmlns="{CORE}"><resources>'
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=3) as package:
        package.writestr(
            "[Content_Types].xml",
            f'<?xml version="1.0" encoding="UTF-8"?>\n<Types xmlns="{TYPES}"><Default Extension="rels" '
            'ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="model" '
            'ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>',
        )
        package.writestr(
            "_rels/.rels",
            f'<?xml version="1.0" encoding="UTF-8"?>\n<Relationships xmlns="{RELATIONS}"><Relationship Id="m" '
            'Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel" Target="/3D/model.model"/></Relationships>',
        )
        with package.open("3D/model.model", "w", force_zip64=True) as file:
            file.write(f'{head}{KINDS_OF_FACE}<object id="1" type="model"><mesh><vertices>\n'.encode())
            np.savetxt(file, mesh.points, '<vertex x="%.9g" y="%.9g" z="%.9g"/>')
            file.write(b"</vertices><triangles>\n")
            marks = np.zeros(len(mesh.triangles), int) if mesh.invented is None else mesh.invented.astype(int)
            rows = np.column_stack([mesh.triangles, marks])
            np.savetxt(file, rows, '<triangle v1="%d" v2="%d" v3="%d" pid="2" p1="%d"/>')
            file.write(b'</triangles></mesh></object></resources><build><item objectid="1"/></build></model>\n')


WRITERS = {".ply": _ply, ".stl": _stl, ".obj": _obj, ".3mf": _threemf}
