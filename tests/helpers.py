"""Small parts that tests are made of."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from juxtum.align.result import no_alignment
from juxtum.align.targets import match_targets
from juxtum.demo.solids import box, cut, cylinder, fused
from juxtum.evaluate import DecisionRule
from juxtum.evaluate.characteristics import Judgement
from juxtum.evaluate.uncertainty import Chain
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.instruments import Circumstances, Environment, Instrument
from juxtum.job.touches import read_touches
from juxtum.job.touching import touches_in
from juxtum.nominal import Nominal

STATED = Circumstances(
    instrument=Instrument(name="Made-up scanner", a=0.02, b=0.04), environment=Environment(temperature=20.0)
)
"""A measurement of which everything is known."""


PERFECT = Chain(Instrument(a=0.0, b=0.0), Environment(temperature=20.0, temperature_u=0.0))
JUDGEMENT = Judgement(no_alignment(), PERFECT, DecisionRule.GUARDED)


def box_mesh(size: tuple[float, float, float] = (40.0, 30.0, 20.0), cuts: int = 0) -> TriangleMesh:
    """A closed box about the origin; each triangle cut in four `cuts` times."""
    import trimesh

    box = trimesh.creation.box(size)
    for _ in range(cuts):
        box = box.subdivide()
    return TriangleMesh(np.array(box.vertices), np.array(box.faces))


HOLES = ((20.0, 20.0), (60.0, 20.0), (60.0, 45.0), (20.0, 45.0))
"""Places of the holes of `plate`."""


def write_bracket(path: Path, scale: float = 1.0, shift: float = 0.0) -> Path:
    """Write the bracket."""
    bracket_mesh().apply_scale(scale).apply_translation([shift, 0, 0]).export(path)
    return path


def bracket_mesh():  # type: ignore[no-untyped-def]
    """The bracket as a mesh of another library."""
    import trimesh

    lower = trimesh.creation.box(bounds=[[0, 0, 0], [60, 40, 10]])
    upper = trimesh.creation.box(bounds=[[0, 0, 10], [20, 12, 31]])
    vertices = np.concatenate([lower.vertices, upper.vertices])
    faces = np.concatenate([lower.faces, upper.faces + len(lower.vertices)])
    mesh = trimesh.Trimesh(vertices, faces, process=False)
    for _ in range(4):
        mesh = mesh.subdivide()
    return mesh


def turned(vector: tuple[float, float, float], offset: tuple[float, float, float]) -> RigidTransform:
    """A transform from a rotation vector in degrees and an offset."""
    from juxtum.geometry.transform import rotation_from_vector

    return RigidTransform.from_parts(rotation_from_vector(np.radians(vector)), offset)


def top_of(nominal: Nominal, height: float = 10.0) -> int:
    return next(
        f.number
        for f in nominal.faces
        if f.feature is not None and f.centre[2] > height - 0.01 and f.feature.normal[2] > 0.99
    )  # type: ignore[union-attr]


def sheet(spacing: float) -> TriangleMesh:
    """An even mesh over the middle of the top."""
    n = int(60 / spacing) + 1
    u, v = (k.ravel() for k in np.meshgrid(np.arange(n), np.arange(n), indexing="ij"))
    corner = (np.arange(n - 1)[:, None] * n + np.arange(n - 1)).ravel()
    triangles = np.concatenate(
        [np.stack([corner, corner + n, corner + 1], 1), np.stack([corner + 1, corner + n, corner + n + 1], 1)]
    )
    return TriangleMesh(np.stack([u * spacing - 30, v * spacing - 30, np.full(n * n, 10.0)], 1), triangles)


def raised_sheet(mesh: TriangleMesh, heights: Floats) -> TriangleMesh:
    """A sheet whose points are raised by heights (N,)."""
    raised = np.array(mesh.points)
    raised[:, 2] += heights
    return TriangleMesh(raised, mesh.triangles)


def plate(holes: tuple[tuple[float, float], ...] = HOLES, radius: float = 4.0, boss: bool = True) -> Any:
    """A plate with holes, and a boss on it."""
    whole = box((0, 0, 0), (80, 65, 10))
    whole = fused(whole, [cylinder((40, 32, 10), (0, 0, 1), 8, 6)]) if boss else whole
    return cut(whole, [cylinder((x, y, -1), (0, 0, 1), radius, 12) for x, y in holes])


def hole_at(nominal: Nominal, x: float, y: float) -> int:
    found = [
        f
        for f in nominal.faces
        if f.kind == "cylinder" and np.hypot(f.feature.point[0] - x, f.feature.point[1] - y) < 1
    ]  # type: ignore[union-attr]
    return found[0].number


def bracket() -> TriangleMesh:
    mesh = bracket_mesh()
    return TriangleMesh(np.array(mesh.vertices), np.array(mesh.faces))


def apart(found: RigidTransform, true: RigidTransform, nominal: Nominal) -> tuple[float, float]:
    """Distance at the part's centre in mm and angle in degrees between two poses."""
    motion = found @ true
    return float(np.linalg.norm(motion.apply(nominal.centre[None])[0] - nominal.centre)), motion.angle


def rms_of_touches(session: Any) -> float:
    """How well the targets of what was touched lie on those that the job's capture found, mm."""
    (held,) = touches_in(session.job)
    document = read_touches(session.files.locate(held.file))
    known = np.array([target.place for target in session.job.capture.targets])
    match = match_targets(np.array(document.targets), known, 0.25)
    return float("inf") if document.frame != "targets" or match is None else match.rms
