"""Small parts that tests are made of."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.instruments import Circumstances, Environment, Instrument

STATED = Circumstances(instrument=Instrument(name="Made-up scanner", a=0.02, b=0.04), environment=Environment(temperature=20.0))
"""A measurement of which everything is known."""


def box_mesh(size: tuple[float, float, float] = (40.0, 30.0, 20.0), cuts: int = 0) -> TriangleMesh:
    """A closed box about the origin; each triangle cut in four `cuts` times."""
    import trimesh

    box = trimesh.creation.box(size)
    for _ in range(cuts):
        box = box.subdivide()
    return TriangleMesh(np.array(box.vertices), np.array(box.faces))


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
