"""The turned demo part: PS-14, its scan with known errors, and a drawing that speaks of the axis of both its journals."""

from __future__ import annotations

import hashlib
import os
from functools import cache
from importlib.resources import files as resources
from pathlib import Path

import numpy as np

from juxtum.assemble.surfacing import make_surface
from juxtum.demo.shaft import COLLAR, CONE, JOURNAL, KEY, SEAT, build_shaft
from juxtum.demo.world import drawing_path, nominal_path
from juxtum.evaluate.drawing import read_drawing
from juxtum.exchange.meshes import write_ply
from juxtum.exchange.solid import TessellationRule
from juxtum.folders import cache_folder
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats, Ints, frozen
from juxtum.geometry.topology import weld
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments import Circumstances, Environment, Instrument
from juxtum.job import Brief, FileStore, Job, Procedure, Runner
from juxtum.job.document import usual_alignment
from juxtum.job.roles import inputs_of
from juxtum.job.steps import Decide, Measure
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from juxtum.progress import Progress, silent

SEED, NOISE = 14, 0.006
DENSE, SPACING = 0.5, 0.7
FINE = TessellationRule(0.003, 0.08)
HELD = 0.6
"""The end below this height is held and not seen, mm."""
POSE = RigidTransform.from_parts(rotation_from_vector([1.3, -0.5, 2.2]), [240.0, -60.0, 310.0])
THINNER = {"drive": 0.018, "paddle": 0.021}
"""How much the radii of the journals are under size, mm."""
SWAY = (0.045, 0.0)
"""How far the journal at the paddle lies off the axis of the other, along X and Y, mm."""
OFF = (0.0, 0.05)
"""And the seat."""
WIDER, LOBES = 0.012, 0.028
"""The seat's radius over size, and how far its three lobes swing, mm."""
TILT = 0.0021
"""Of the shoulder, radians about Y."""
CONED = 0.03
"""How much larger the cone's small end is in radius, mm."""
ASKEW, LONGER = 0.11, 0.13
"""How far the ends of the keyway lie off to either side, and how much farther the far shoulder, mm."""

BRIEF = Brief(
    part="PS-14 paddle shaft",
    serial="0093",
    drawing="TF-141 rev. B",
    customer="Low Meadow Drainage Board",
    operator="Ilse Maartens",
    date="2026-11-27",
    material="stainless steel",
    note="Held at the drive end; that face was not scanned.",
)
CIRCUMSTANCES = Circumstances(
    instrument=Instrument(
        name="Structured-light head WS-1, one field of view", serial="TF-SL-02", a=0.0129, b=0.0215, repeatability=0.0023, certificate="TF-C-1255",
        certificate_u=0.004,
    ),
    environment=Environment(temperature=20.0, temperature_u=0.5, expansion=16.0, expansion_u=1.0),
)  # fmt: skip


def shaft_path(progress: Progress | None = None) -> Path:
    """The simulated scan of the shaft, made on first use."""
    path = cache_folder() / f"PS-14-{_recipe()}" / "PS-14 serial 0093.ply"
    if not path.exists():
        (progress or silent()).phase("making the scan of the shaft")
        path.parent.mkdir(parents=True, exist_ok=True)
        unfinished = path.with_name(f"{os.getpid()}.part.ply")
        write_ply(unfinished, made_shaft().moved(POSE))
        os.replace(unfinished, path)
    return path


def _recipe() -> str:
    folder = resources("juxtum.demo")
    parts = [folder.joinpath(name).read_bytes() for name in ("shaft.py", "shaft_job.py", "solids.py")]
    return hashlib.sha256(b"".join(parts)).hexdigest()[:12]


@cache
def turned_surface() -> tuple[TriangleMesh, Ints]:
    """Fine mesh of the shaft as it was turned and milled, and the face number of each triangle."""
    drawn = Nominal.from_shape(build_shaft(), rule=FINE)
    dense = sample_surface(drawn.mesh, drawn.triangle_faces, DENSE)
    points, triangles = weld(dense.mesh.corners.reshape(-1, 3), 1e-6)
    return TriangleMesh(made_points(points), triangles), frozen(dense.faces + 1, np.int32)


def made_shaft(noise: float = NOISE) -> TriangleMesh:
    """The surface as it was turned and scanned, in part coordinates, with so much noise; what was held is open."""
    drawn = Nominal.from_shape(build_shaft(), rule=FINE)
    dense = sample_surface(drawn.mesh, drawn.triangle_faces, DENSE).mesh
    mesh = make_surface(dense.corners.mean(1), dense.triangle_normals, SPACING, overhang=0.5)
    off = np.random.default_rng(SEED).normal(0, noise, len(mesh.points))
    made = TriangleMesh(made_points(mesh.points) + off[:, None] * mesh.normals, mesh.triangles)
    return made.kept_triangles(made.corners[:, :, 2].min(1) > HELD)


def made_points(points: Floats) -> Floats:
    """Points of the drawn surface (N, 3) as they were turned and milled."""
    made = np.array(points)
    x, y, z = points.T
    radius, angle = np.hypot(x, y), np.arctan2(y, x)
    out = np.column_stack([np.cos(angle), np.sin(angle), np.zeros(len(points))])
    near = 0.35
    in_key = (
        (np.abs(y) < KEY[0] / 2 + near)
        & (z > KEY[1] - near)
        & (z < KEY[2] + near)
        & (x > KEY[3] - near)
        & (radius < SEAT - near)
    )
    drive = (z < 30.2) & (np.abs(radius - JOURNAL) < near)
    paddle = (z > CONE[2] + near) & (np.abs(radius - JOURNAL) < near)
    seat = (z > 46 + near) & (z < CONE[0]) & (np.abs(radius - SEAT) < near)
    cone = (z >= CONE[0]) & (z < CONE[2] - 0.02) & (radius > CONE[3] - near)
    shoulder = (np.abs(z - 46) < 0.2) & (radius > SEAT + 0.1) & (radius < COLLAR + near)
    made[drive] -= THINNER["drive"] * out[drive]
    made[paddle] += [*SWAY, 0.0] - THINNER["paddle"] * out[paddle]
    made[seat] += [*OFF, 0.0] + (WIDER + LOBES * np.cos(3 * angle[seat]))[:, None] * out[seat]
    share = np.clip((z[cone] - CONE[0]) / (CONE[2] - CONE[0]), 0, 1)
    made[cone] += CONED * share[:, None] * out[cone]
    made[shoulder, 2] += TILT * x[shoulder]
    walls = in_key & (np.abs(np.abs(y) - KEY[0] / 2) < 0.2)
    made[walls, 1] += ASKEW * (z[walls] - (KEY[1] + KEY[2]) / 2) / ((KEY[2] - KEY[1]) / 2)
    far = (np.abs(z - CONE[2]) < 0.2) & (radius < CONE[3] - 0.1)
    made[far, 2] += LONGER
    return made


def shaft_job(files: FileStore, progress: Progress | None = None) -> Job:
    """The shaft with its scan, aligned by a best fit, and all lines of its drawing."""
    steps = (*usual_alignment(), Measure(lower=-0.1, upper=0.1), Decide(alignment="best fit"))
    job = Job(
        brief=BRIEF, circumstances=CIRCUMSTANCES,
        inputs=inputs_of(files.adopt(nominal_path("PS-14")), files.adopt(shaft_path(progress))),
        procedure=Procedure(steps=steps),
    )  # fmt: skip
    for line in read_drawing(drawing_path("PS-14"), Runner(files).nominal(job, progress)):
        job = job.with_step(line)
    return job
