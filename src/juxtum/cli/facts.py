"""What a file holds, as plain facts."""

from __future__ import annotations

import argparse
import json
import math
from pathlib import Path
from typing import Any

from juxtum.errors import InputError
from juxtum.exchange.cad import CAD_SUFFIXES
from juxtum.exchange.limits import JOB_SUFFIX, check_file
from juxtum.exchange.meshes import MESH_SUFFIXES, POINT_SUFFIXES, read_mesh
from juxtum.geometry import TriangleMesh
from juxtum.geometry.features import Cone, Cylinder, Plane, Sphere, Torus
from juxtum.geometry.topology import closure
from juxtum.nominal import Nominal
from juxtum.nominal.common import is_hollow
from juxtum.nominal.model import NominalFace
from juxtum.units import Unit


def file_facts(path: Path) -> dict[str, Any]:
    """Volume (mm3), area (mm2), bounds (mm), counts, unit, whether it is watertight, problems.

    Raises
    ------
    InputError
        When the file cannot be read.
    """
    check_file(path)
    suffix = path.suffix.lower()
    if suffix == JOB_SUFFIX:
        return _job_facts(path)
    if suffix not in (*CAD_SUFFIXES, *MESH_SUFFIXES, *POINT_SUFFIXES):
        kinds = "Give a job, STEP or IGES, a mesh (STL, PLY, OBJ, OFF, 3MF) or a list of points (CSV, TXT, XYZ, ASC)"
        raise InputError(f"'{path.suffix or path.name}' files are not read", str(path), kinds)
    return _cad_facts(path) if suffix in CAD_SUFFIXES else _mesh_facts(path)


def _cad_facts(path: Path) -> dict[str, Any]:
    from juxtum.exchange.kept_models import model_arrays

    arrays = model_arrays(path)
    problems = list(arrays.problems)
    if (arrays.spline_rows >= 0).any():
        from juxtum.nominal.tessellation import checked

        found = checked(arrays)
        arrays, problems = found.arrays, problems + list(found.problems)
    return {
        "file": path.name,
        "kind": "CAD",
        "volume": arrays.volume if arrays.is_closed else None,
        "area": float(arrays.areas.sum()),
        "bounds": arrays.bounds.tolist(),
        "faces": len(arrays.kinds),
        "triangles": len(arrays.triangles),
        "points": len(arrays.nodes),
        "solids": arrays.solids,
        "unit": arrays.file_unit,
        "watertight": arrays.is_closed,
        "problems": problems,
    }


def _mesh_facts(path: Path) -> dict[str, Any]:
    file = read_mesh(path)
    problems = list(file.problems)
    factor = (file.unit or Unit.MILLIMETRE).millimetres
    if file.unit is None:
        problems.append("the file names no unit; its numbers are taken for millimetres here")
    scan = file.scan.scaled(factor) if factor != 1 else file.scan
    facts: dict[str, Any] = {
        "file": path.name,
        "kind": "points",
        "volume": None,
        "area": None,
        "bounds": scan.bounds.tolist(),
        "faces": 0,
        "triangles": len(scan.triangles),
        "points": len(scan.points),
        "unit": file.unit.value if file.unit else None,
        "watertight": False,
        "problems": problems,
    }
    if isinstance(scan, TriangleMesh):
        facts |= _surface_facts(scan, problems)
    return facts


def _surface_facts(mesh: TriangleMesh, problems: list[str]) -> dict[str, Any]:
    state = closure(mesh)
    for count, words in (
        (state.border_edges, "open edges"),
        (state.crowded_edges, "edges shared by more than two triangles"),
        (state.reversed_edges, "edges between triangles of opposite winding"),
    ):
        if count:
            problems.append(f"{count} {words}")
    volume = mesh.volume if state.is_watertight else float("nan")
    if state.is_watertight and volume < 0:
        problems.append("the mesh is inside out")
    return {
        "kind": "mesh",
        "volume": volume if math.isfinite(volume) else None,
        "area": mesh.area,
        "faces": _face_count(mesh) if len(mesh.triangles) < 300_000 and not volume < 0 else 0,
        "watertight": state.is_watertight,
    }


def _face_count(mesh: TriangleMesh) -> int:
    from juxtum.nominal.model import smooth_regions

    return int(smooth_regions(mesh).max()) + 1


def _job_facts(path: Path) -> dict[str, Any]:
    from juxtum.folders import cache_folder
    from juxtum.job import FileStore, load_job
    from juxtum.job.joins import measured_title

    job = load_job(path, FileStore(), cache_folder() / "inputs")
    return {
        "file": path.name,
        "kind": "job",
        "part": job.brief.part,
        "serial": job.brief.serial,
        "nominal": job.nominal.name if job.nominal else None,
        "scan": measured_title(job) or None,
        "steps": [step.kind for step in job.procedure.steps],
    }


def face_facts(path: Path) -> list[dict[str, Any]]:
    """Number, kind, area (mm2), bounds (mm) and feature of each face of a nominal, as characteristics name them.

    Raises
    ------
    InputError
        When the file cannot be a nominal.
    """
    from juxtum.job.inputs import load_nominal
    from juxtum.progress import silent

    nominal = load_nominal(path, None, silent())
    facts = []
    for face in nominal.faces:
        bounds = nominal.face_mesh((face.number,)).bounds
        known = {
            "number": face.number,
            "kind": KIND_WORDS.get(str(face.kind), "freeform"),
            "name": face.name or face.title,
        }
        facts.append(known | {"area": face.area, "bounds": bounds.tolist()} | _feature_facts(nominal, face))
    return facts


KIND_WORDS = {kind: kind for kind in ("plane", "cylinder", "cone", "sphere", "torus")}


def _feature_facts(nominal: Nominal, face: NominalFace) -> dict[str, Any]:
    """What tells a face's feature: a plane's normal looks out of the material."""
    feature = face.feature
    if isinstance(feature, Plane):
        return {"point": feature.anchored(face.centre).point.tolist(), "normal": (feature.normal + 0.0).tolist()}
    if isinstance(feature, Cylinder):
        point = feature.anchored(face.centre).point
        inside = is_hollow(nominal, face.number)
        return {"point": point.tolist(), "direction": feature.axis.tolist(), "radius": feature.radius, "inside": inside}
    if isinstance(feature, Cone):
        half = math.degrees(abs(feature.half_angle))
        return {"point": feature.apex.tolist(), "direction": feature.axis.tolist(), "half_angle_deg": half}
    if isinstance(feature, Sphere):
        return {"centre": feature.point.tolist(), "radius": feature.radius}
    if isinstance(feature, Torus):
        sizes = {"radius": feature.radius, "minor_radius": feature.minor_radius}
        return {"centre": feature.point.tolist(), "direction": feature.axis.tolist()} | sizes
    return {}


def info(options: argparse.Namespace) -> int:
    """`juxtum info`."""
    facts = file_facts(options.file)
    if options.faces:
        facts["faces"] = face_facts(options.file)
    if options.json:
        print(json.dumps(facts, indent=1, allow_nan=False))
    else:
        for name, value in facts.items():
            if name != "faces" or not options.faces:
                print(f"{name:12} {_plain(value)}")
        for face in facts["faces"] if options.faces else ():
            print("; ".join(f"{name} {_plain(value)}" for name, value in face.items()))
    return 0


def _plain(value: Any) -> str:
    if value is None:
        return "not known"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        inner = [f"({_plain(v).replace('; ', ', ')})" if isinstance(v, list) else _plain(v) for v in value]
        return "; ".join(inner) or "none"
    return f"{value:.6g}" if isinstance(value, float) else str(value)
