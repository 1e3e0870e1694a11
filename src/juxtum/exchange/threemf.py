"""3MF: triangles and units from the package's model part; nothing is unpacked to disk, no tree of the XML is built."""

from __future__ import annotations

import zipfile
import zlib
from array import array
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.exchange.limits import check_counts
from juxtum.exchange.raw import INVENTED, RawMesh, refuse
from juxtum.units import Unit

_NAMESPACE = "{http://schemas.microsoft.com/3dmanufacturing/core/2015/02}"
_UNITS = {"millimeter": (Unit.MILLIMETRE, 1.0), "centimeter": (Unit.CENTIMETRE, 1.0), "meter": (Unit.METRE, 1.0)}
_UNITS |= {"inch": (Unit.INCH, 1.0), "foot": (Unit.INCH, 12.0), "micron": (Unit.MILLIMETRE, 0.001)}
MAX_MODEL_BYTES = 1024**3
MAX_PLACED = 20_000
"""Bodies that a build may place; components that name each other multiply."""
MAX_DEPTH = 16
_CHUNK = 1 << 16
Part = tuple[npt.NDArray[np.float64], npt.NDArray[np.int32], npt.NDArray[np.bool_]]
"""Points, triangles, and which of them are invented."""
Placed = tuple[str, str | None]
"""Name of an object and the transform with which it is placed."""


@dataclass
class _Object:
    numbers: array[float] = field(default_factory=lambda: array("d"))
    corners: array[int] = field(default_factory=lambda: array("q"))
    marks: array[int] = field(default_factory=lambda: array("b"))
    components: list[Placed] = field(default_factory=list)

    def part(self) -> Part:
        points = np.frombuffer(self.numbers, dtype=np.float64) if self.numbers else np.empty(0)
        corners = np.frombuffer(self.corners, dtype=np.int64) if self.corners else np.empty(0)
        marks = np.frombuffer(self.marks, dtype=np.int8) if self.marks else np.empty(0)
        return points.reshape(-1, 3), corners.reshape(-1, 3).clip(-1, 2**31 - 1).astype(np.int32), marks != 0


class _Model:
    """What the parser tells: called for the start and the end of every element."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.unit = "millimeter"
        self.objects: dict[str, _Object] = {}
        self.items: list[Placed] = []
        self._now = _Object()
        self._materials, self._bases = "", 0
        self._invented: set[tuple[str, str]] = set()

    def start(self, tag: str, attributes: dict[str, str]) -> None:
        name = tag.removeprefix(_NAMESPACE)
        if name == "vertex":
            self._now.numbers.extend(float(attributes[axis]) for axis in "xyz")
        elif name == "triangle":
            self._now.corners.extend(int(attributes[corner]) for corner in ("v1", "v2", "v3"))
            self._now.marks.append((attributes.get("pid", ""), attributes.get("p1", "")) in self._invented)
        elif name == "basematerials":
            self._materials, self._bases = attributes["id"], 0
        elif name == "base":
            if attributes.get("name") == INVENTED:
                self._invented.add((self._materials, str(self._bases)))
            self._bases += 1
        elif name == "object":
            self._now = self.objects[attributes["id"]] = _Object()
        elif name == "component":
            self._now.components.append((attributes["objectid"], attributes.get("transform")))
        elif name == "item":
            self.items.append((attributes["objectid"], attributes.get("transform")))
        elif name == "model":
            self.unit = attributes.get("unit", "millimeter")

    def end(self, tag: str) -> None:
        if tag.endswith("}mesh"):
            check_counts(len(self._now.numbers) // 3, len(self._now.corners) // 3, self.path)

    def data(self, text: str) -> None:
        """Text between the elements means nothing here."""

    def close(self) -> _Model:
        return self


def read(path: Path) -> RawMesh:
    """Points and triangles of all built objects, in the file's unit."""
    try:
        model = _model(path)
        if model.unit not in _UNITS:
            refuse(path, f"the unit '{model.unit[:40]}' is not known")
        unit, factor = _UNITS[model.unit]
        parts = _Build(path, model).parts()
    except InputError:
        raise
    except (KeyError, ValueError, TypeError, OverflowError):
        refuse(path, "the model part is damaged")
    if not parts:
        refuse(path, "the file holds no triangles")
    offsets = np.cumsum([0] + [len(points) for points, _, _ in parts[:-1]])
    triangles = np.concatenate([t + o for (_, t, _), o in zip(parts, offsets, strict=True)]).astype(np.int32)
    marks = np.concatenate([marks for _, _, marks in parts])
    return RawMesh(
        np.concatenate([points for points, _, _ in parts]) * factor, triangles, unit,
        invented=marks if marks.any() else None,
    )  # fmt: skip


def _model(path: Path) -> _Model:
    from defusedxml.common import DefusedXmlException
    from defusedxml.ElementTree import DefusedXMLParser, ParseError

    model = _Model(path)
    parser = DefusedXMLParser(target=model, forbid_dtd=True)
    try:
        with zipfile.ZipFile(path) as package, package.open(_model_name(path, package)) as part:
            while chunk := part.read(_CHUNK):
                parser.feed(chunk)
        parser.close()
        return model
    except (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, RuntimeError):
        refuse(path, "this is not a 3MF package, or it is damaged", "Copy or export it again")
    except (ParseError, DefusedXmlException):
        refuse(path, "the model part is not clean XML")


def _model_name(path: Path, package: zipfile.ZipFile) -> str:
    for info in package.infolist():
        if info.filename.startswith(("/", "\\")) or ".." in Path(info.filename).parts:
            refuse(path, "the package holds a path outside itself", "Do not use this file")
    names = [n for n in package.namelist() if n.lower().endswith(".model")]
    if not names:
        refuse(path, "the package holds no model part")
    name = "3D/3dmodel.model" if "3D/3dmodel.model" in names else names[0]
    if package.getinfo(name).file_size > MAX_MODEL_BYTES:
        refuse(path, "the model part is larger than 1 GB", "Thin it first")
    return name


class _Build:
    """The bodies of a model where its build puts them."""

    def __init__(self, path: Path, model: _Model) -> None:
        self._path, self._model = path, model
        self._placed, self._points, self._triangles = 0, 0, 0

    def parts(self) -> list[Part]:
        items: list[Placed] = self._model.items or [(name, None) for name in self._model.objects]
        return [part for item in items for part in self._object(item, 0)]

    def _object(self, placed: Placed, depth: int) -> list[Part]:
        self._placed += 1
        if depth > MAX_DEPTH or self._placed > MAX_PLACED:
            refuse(self._path, "components are nested too deeply or name each other too often")
        name, transform = placed
        item, moved = self._model.objects[name], _transform(transform)
        parts = [item.part()] if item.corners else []
        for points, triangles, _ in parts:
            self._points, self._triangles = self._points + len(points), self._triangles + len(triangles)
            check_counts(self._points, self._triangles, self._path)
        for component in item.components:
            parts += self._object(component, depth + 1)
        return [(_apply(moved, points), triangles, marks) for points, triangles, marks in parts]


def _transform(text: str | None) -> npt.NDArray[np.float64]:
    return np.eye(4, 3) if text is None else np.array([float(x) for x in text.split()]).reshape(4, 3)


def _apply(matrix: npt.NDArray[np.float64], points: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    return np.asarray(points @ matrix[:3] + matrix[3])
