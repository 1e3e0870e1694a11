"""3MF: triangles and units from the package's model part; nothing is unpacked to disk."""

from __future__ import annotations

import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.errors import InputError
from juxtum.exchange.limits import check_counts
from juxtum.exchange.raw import RawMesh, refuse
from juxtum.units import Unit

_NAMESPACE = "{http://schemas.microsoft.com/3dmanufacturing/core/2015/02}"
_UNITS = {"millimeter": (Unit.MILLIMETRE, 1.0), "centimeter": (Unit.CENTIMETRE, 1.0), "meter": (Unit.METRE, 1.0)}
_UNITS |= {"inch": (Unit.INCH, 1.0), "foot": (Unit.INCH, 12.0), "micron": (Unit.MILLIMETRE, 0.001)}
MAX_MODEL_BYTES = 1024**3
Part = tuple[npt.NDArray[np.float64], npt.NDArray[np.int32]]


def read(path: Path) -> RawMesh:
    """Points and triangles of all built objects, in the file's unit."""
    root = _model(path)
    unit_name = root.get("unit", "millimeter")
    if unit_name not in _UNITS:
        refuse(path, f"the unit '{unit_name}' is not known")
    unit, factor = _UNITS[unit_name]
    try:
        parts = _built(path, root)
    except InputError:
        raise
    except (KeyError, ValueError, TypeError):
        refuse(path, "the model part is damaged")
    if not parts:
        refuse(path, "the file holds no triangles")
    offsets = np.cumsum([0] + [len(points) for points, _ in parts[:-1]])
    points = np.concatenate([points for points, _ in parts]) * factor
    return RawMesh(points, np.concatenate([t + o for (_, t), o in zip(parts, offsets, strict=True)]).astype(np.int32), unit)


def _model(path: Path) -> Any:
    from defusedxml.common import DefusedXmlException
    from defusedxml.ElementTree import ParseError, fromstring

    try:
        with zipfile.ZipFile(path) as package:
            for info in package.infolist():
                if info.filename.startswith(("/", "\\")) or ".." in Path(info.filename).parts:
                    refuse(path, "the package holds a path outside itself", "Do not use this file")
            names = [n for n in package.namelist() if n.lower().endswith(".model")]
            if not names:
                refuse(path, "the package holds no model part")
            name = "3D/3dmodel.model" if "3D/3dmodel.model" in names else names[0]
            if package.getinfo(name).file_size > MAX_MODEL_BYTES:
                refuse(path, "the model part is larger than 1 GB", "Thin it first")
            return fromstring(package.read(name), forbid_dtd=True)
    except (zipfile.BadZipFile, EOFError, OSError, NotImplementedError, RuntimeError):
        refuse(path, "this is not a 3MF package, or it is damaged", "Copy or export it again")
    except (ParseError, DefusedXmlException):
        refuse(path, "the model part is not clean XML")


def _built(path: Path, root: Any) -> list[Part]:
    objects = {item.get("id"): item for item in root.iter(f"{_NAMESPACE}object")}
    items = list(root.iter(f"{_NAMESPACE}item"))
    parts: list[Part] = []
    if not items:
        return [part for name in objects for part in _object(path, objects, name, 0)]
    for item in items:
        moved = _transform(item.get("transform"))
        parts += [(_apply(moved, p), t) for p, t in _object(path, objects, item.get("objectid"), 0)]
    return parts


def _object(path: Path, objects: dict[str, Any], name: str, depth: int) -> list[Part]:
    if depth > 16:
        refuse(path, "components are nested too deeply")
    item = objects[name]
    parts: list[Part] = []
    mesh = item.find(f"{_NAMESPACE}mesh")
    if mesh is not None:
        corners, rows = mesh.find(f"{_NAMESPACE}vertices"), mesh.find(f"{_NAMESPACE}triangles")
        check_counts(len(corners), len(rows), path)
        points = np.array([[float(v.get(a)) for a in "xyz"] for v in corners]).reshape(-1, 3)
        triangles = np.array([[int(t.get(a)) for a in ("v1", "v2", "v3")] for t in rows], dtype=np.int32).reshape(-1, 3)
        parts.append((points, triangles))
    for component in item.iter(f"{_NAMESPACE}component"):
        moved = _transform(component.get("transform"))
        parts += [(_apply(moved, p), t) for p, t in _object(path, objects, component.get("objectid"), depth + 1)]
    return parts


def _transform(text: str | None) -> npt.NDArray[np.float64]:
    return np.eye(4, 3) if text is None else np.array([float(x) for x in text.split()]).reshape(4, 3)


def _apply(matrix: npt.NDArray[np.float64], points: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    return np.asarray(points @ matrix[:3] + matrix[3])
