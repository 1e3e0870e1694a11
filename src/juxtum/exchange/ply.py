"""PLY: ascii and binary in both byte orders."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import numpy.typing as npt

from juxtum.exchange.limits import check_counts
from juxtum.exchange.raw import INVENTED, RawMesh, as_triangles, of_triangles, refuse

_TYPES = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2",
    "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4",
    "double": "f8", "float64": "f8",
}  # fmt: skip
_NORMAL = ("nx", "ny", "nz")
_FORMATS = {"ascii": "", "binary_little_endian": "<", "binary_big_endian": ">"}


@dataclass
class _Element:
    name: str
    count: int
    properties: list[tuple[str, str, str]] = field(default_factory=list)
    """Name, type, and type of the list's length ('' for single numbers)."""

    @property
    def is_plain(self) -> bool:
        return all(not length for _, _, length in self.properties)

    @property
    def has_normals(self) -> bool:
        return set(_NORMAL) <= {name for name, _, _ in self.properties}

    def dtype(self, order: str) -> np.dtype[np.void]:
        return np.dtype([(name, order + kind) for name, kind, _ in self.properties])


def read(path: Path) -> RawMesh:
    """Points and triangles; polygons become fans of triangles."""
    data = np.memmap(path, dtype=np.uint8, mode="r")
    order, elements, start = _header(path, bytes(data[:65536]))
    for element in elements:
        if element.name in ("vertex", "face"):
            check_counts(element.count, element.count, path)
    if order == "":
        return _read_text(path, elements, start)
    return _read_binary(path, data, start, order, elements)


def _header(path: Path, head: bytes) -> tuple[str, list[_Element], int]:
    end = head.find(b"end_header")
    if not head.startswith(b"ply") or end < 0:
        refuse(path, "this is not a PLY file, or its header is cut off", "Check the file's ending or copy it again")
    start = head.find(b"\n", end) + 1 or head.find(b"\r", end) + 1
    order, elements = "?", list[_Element]()
    for line in head[:end].decode("latin-1").replace("\r", "\n").split("\n"):
        words = line.split()
        try:
            if words[:1] == ["format"]:
                order = _FORMATS[words[1]]
            elif words[:1] == ["element"]:
                elements.append(_Element(words[1], int(words[2])))
            elif words[:2] == ["property", "list"]:
                elements[-1].properties.append((words[4], _TYPES[words[3]], _TYPES[words[2]]))
            elif words[:1] == ["property"]:
                elements[-1].properties.append((words[2], _TYPES[words[1]], ""))
        except (KeyError, IndexError, ValueError):
            refuse(path, f"the header line '{line.strip()[:60]}' makes no sense")
    vertex = next((e for e in elements if e.name == "vertex"), None)
    if order == "?" or vertex is None or not {"x", "y", "z"} <= {n for n, _, _ in vertex.properties}:
        refuse(path, "the PLY header names no format or no vertex with x, y and z")
    if any(e.count < 0 for e in elements):
        refuse(path, "the header names a negative count")
    if any(len({name for name, _, _ in e.properties}) < len(e.properties) or not e.properties for e in elements):
        refuse(path, "the header names a property twice, or an element without properties")
    return order, elements, start


def _read_binary(path: Path, data: npt.NDArray[np.uint8], start: int, order: str, elements: list[_Element]) -> RawMesh:
    points, triangles, normals, invented = np.empty((0, 3)), None, None, None
    at = start
    for element in elements:
        if element.is_plain:
            kind = element.dtype(order)
            size = kind.itemsize * element.count
            _need(path, data, at, size)
            if element.name == "vertex":
                rows = data[at : at + size].view(kind)
                points = np.stack([rows[c].astype(np.float64) for c in "xyz"], axis=1)
                if element.has_normals:
                    normals = np.stack([rows[c].astype(np.float64) for c in _NORMAL], axis=1)
            at += size
        elif element.name == "vertex":
            refuse(path, "vertices with lists are not read")
        else:
            found, marks, at = _read_lists(path, data, at, order, element)
            if element.name == "face":
                triangles, invented = found, marks
    return RawMesh(
        points, triangles if triangles is not None and len(triangles) else None, normals=normals, invented=invented
    )


def _need(path: Path, data: npt.NDArray[np.uint8], at: int, size: int) -> None:
    if at + size > len(data):
        refuse(path, "the file ends too early: it holds less than its header names", "Copy it again")


def _read_lists(
    path: Path, data: npt.NDArray[np.uint8], at: int, order: str, element: _Element
) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.bool_] | None, int]:
    """The polygons of an element with lists, and which are invented; the case that all are triangles is read at once."""
    fields: list[tuple[str, str] | tuple[str, str, int]] = []
    for name, kind, length in element.properties:
        if length:
            fields += [(f"{name} length", order + length), (name, order + kind, 3)]
        else:
            fields.append((name, order + kind))
    together = np.dtype(fields)
    size = together.itemsize * element.count
    indices = next((n for n, _, k in element.properties if k and n in ("vertex_indices", "vertex_index")), None)
    if at + size <= len(data):
        rows = data[at : at + size].view(together)
        lengths = [n for n in together.names or () if n.endswith(" length")]
        if all((rows[n] == 3).all() for n in lengths):
            if indices is None:
                return np.empty((0, 3), np.int32), None, at + size
            marks = rows[INVENTED] != 0 if INVENTED in [n for n, _, k in element.properties if not k] else None
            return _as_int32(rows[indices]), marks, at + size
    return _read_ragged(path, data, at, order, element)


def _as_int32(rows: npt.NDArray[np.generic]) -> npt.NDArray[np.int32]:
    return np.ascontiguousarray(np.clip(rows.astype(np.int64), -1, 2**31 - 1).astype(np.int32))


def _read_ragged(
    path: Path, data: npt.NDArray[np.uint8], at: int, order: str, element: _Element
) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.bool_] | None, int]:
    polygons: list[list[int]] = []
    marks: list[bool] = []
    for _ in range(element.count):
        for name, kind, length in element.properties:
            count = 1
            if length:
                head = np.dtype(order + length)
                _need(path, data, at, head.itemsize)
                count = int(data[at : at + head.itemsize].view(head)[0])
                at += head.itemsize
                if count < 0 or count > 100_000:
                    refuse(path, "a face names an impossible number of points")
            size = np.dtype(kind).itemsize * count
            _need(path, data, at, size)
            if length and name in ("vertex_indices", "vertex_index"):
                polygons.append(data[at : at + size].view(order + kind).astype(np.int64).tolist())
            elif name == INVENTED:
                marks.append(bool(data[at : at + size].view(order + kind)[0] != 0))
            at += size
    return as_triangles(polygons), of_triangles(polygons, marks), at


def _read_text(path: Path, elements: list[_Element], start: int) -> RawMesh:
    with path.open("rb") as file:
        file.seek(start)
        body = file.read().replace(b"\r\n", b"\n").replace(b"\r", b"\n")
    lines = [line for line in body.split(b"\n") if line.strip()]
    points, triangles, normals, invented = np.empty((0, 3)), None, None, None
    at = 0
    for element in elements:
        rows = lines[at : at + element.count]
        if len(rows) < element.count:
            refuse(path, "the file ends too early: it holds less than its header names", "Copy it again")
        at += element.count
        try:
            if element.name == "vertex" and element.is_plain:
                names = [n for n, _, _ in element.properties]
                columns = [names.index(c) for c in "xyz"]
                table = [row.split() for row in rows]
                points = np.array([[float(w[c]) for c in columns] for w in table], dtype=np.float64).reshape(-1, 3)
                if element.has_normals:
                    columns = [names.index(c) for c in _NORMAL]
                    normals = np.array([[float(w[c]) for c in columns] for w in table], dtype=np.float64).reshape(-1, 3)
            elif element.name == "face":
                polygons = [[int(x) for x in w[1 : 1 + int(w[0])]] for w in (row.split() for row in rows)]
                triangles = as_triangles(polygons)
                if [n for n, _, _ in element.properties][1:] == [INVENTED]:
                    invented = of_triangles(polygons, [row.split()[-1] not in (b"0", b"0.0") for row in rows])
        except (ValueError, IndexError):
            refuse(path, f"a line of the element '{element.name}' does not hold the numbers it should")
    return RawMesh(
        points, triangles if triangles is not None and len(triangles) else None, normals=normals, invented=invented
    )


def write(
    path: Path,
    points: npt.NDArray[np.float64],
    triangles: npt.NDArray[np.int32],
    properties: dict[str, npt.NDArray[np.float64]],
    invented: npt.NDArray[np.bool_] | None = None,
) -> None:
    """Binary little-endian PLY with double coordinates and float properties; invented faces are marked."""
    kind = np.dtype([("x", "<f8"), ("y", "<f8"), ("z", "<f8"), *((name, "<f4") for name in properties)])
    rows = np.empty(len(points), kind)
    for column, axis in enumerate("xyz"):
        rows[axis] = points[:, column]
    for name, values in properties.items():
        rows[name] = values
    header = ["ply", "format binary_little_endian 1.0", "comment units mm", f"element vertex {len(points)}"]
    header += ["property double x", "property double y", "property double z"]
    header += [f"property float {name}" for name in properties]
    if len(triangles):
        header += [f"element face {len(triangles)}", "property list uchar int vertex_indices"]
        header += [] if invented is None else [f"property uchar {INVENTED}"]
    with path.open("wb") as file:
        file.write(("\n".join([*header, "end_header"]) + "\n").encode())
        rows.tofile(file)
        if len(triangles):
            marks = [] if invented is None else [(INVENTED, "u1")]
            faces = np.empty(len(triangles), np.dtype([("n", "u1"), ("v", "<i4", 3), *marks]))
            faces["n"] = 3
            faces["v"] = triangles
            if invented is not None:
                faces[INVENTED] = invented
            faces.tofile(file)
