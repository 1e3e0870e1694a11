"""VC-8: eight moulded clips in one scan, each with errors of its own; one is bent, one has a sink mark in its foot."""

from __future__ import annotations

import hashlib
import os
from dataclasses import dataclass
from importlib.resources import files as resources
from pathlib import Path

import numpy as np

from juxtum.assemble.surfacing import make_surface
from juxtum.demo.clip import build_clip
from juxtum.demo.world import nominal_path
from juxtum.evaluate.kinds import Kind, Profile
from juxtum.evaluate.kinds.between import Distance
from juxtum.evaluate.kinds.flatness import Flatness
from juxtum.evaluate.kinds.size import Diameter
from juxtum.exchange.meshes import write_ply
from juxtum.exchange.solid import TessellationRule
from juxtum.folders import cache_folder
from juxtum.geometry import RigidTransform, TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.instruments import Circumstances, Environment, Instrument
from juxtum.job import Brief, FileStore, Job, Procedure
from juxtum.job.document import usual_alignment
from juxtum.job.lot import with_separation
from juxtum.job.roles import inputs_of
from juxtum.job.steps import Decide, Measure, Step
from juxtum.nominal import Nominal
from juxtum.nominal.model import sample_surface
from juxtum.progress import Progress, silent

SEED = 8
NOISE = 0.004
PITCH = (58.0, 46.0)
DENSE, SPACING = 0.45, 0.6
"""Longest edge between places that are seen, and the spacing of the surface made of them, mm."""


@dataclass(frozen=True)
class ClipErrors:
    """What is wrong with a clip, mm: radius of its ring, how far its hook leans out, depth of a sink mark in its foot."""

    bore: float
    lean: float = 0.0
    sink: float = 0.0


CLIPS = (
    ClipErrors(0.012), ClipErrors(0.025), ClipErrors(-0.008), ClipErrors(0.018, lean=0.32),
    ClipErrors(0.031), ClipErrors(0.004), ClipErrors(0.095), ClipErrors(0.015, sink=0.22),
)  # fmt: skip
"""In rows as they lie. Limits are ±0.1 on the profile and +0.06 on the radius of the bore."""


def tray_path(progress: Progress | None = None) -> Path:
    """The simulated scan of the tray, made on first use."""
    path = cache_folder() / f"VC-8-{_recipe()}" / "VC-8 tray.ply"
    if not path.exists():
        (progress or silent()).phase("making the tray of clips")
        path.parent.mkdir(parents=True, exist_ok=True)
        unfinished = path.with_name(f"{os.getpid()}.part.ply")
        write_ply(unfinished, tray())
        os.replace(unfinished, path)
    return path


def _recipe() -> str:
    folder = resources("juxtum.demo")
    parts = [folder.joinpath(name).read_bytes() for name in ("tray.py", "clip.py", "solids.py")]
    return hashlib.sha256(b"".join(parts)).hexdigest()[:12]


def tray(clips: tuple[ClipErrors, ...] = CLIPS) -> TriangleMesh:
    """All clips in one mesh, four in a row, each turned a little, with noise."""
    rng, drawn = np.random.default_rng(SEED), drawn_clip()
    points, triangles, first = [], [], 0
    for number, errors in enumerate(clips):
        made = made_points(drawn.points, errors) + rng.normal(0, NOISE, drawn.points.shape)
        row, column = divmod(number, 4)
        motion = np.r_[PITCH[0] * column, PITCH[1] * row, 0.0, 0.0, 0.0, rng.normal(0, 0.12)]
        points.append(RigidTransform.about(np.zeros(3), motion).apply(made))
        triangles.append(drawn.triangles + first)
        first += len(made)
    return TriangleMesh(np.concatenate(points), np.concatenate(triangles))


def drawn_clip() -> TriangleMesh:
    """The surface of a clip as drawn, as even as a cabinet gives it, open along its sharp edges; in part coordinates."""
    made = Nominal.from_shape(build_clip(), rule=TessellationRule(0.004, 0.1))
    dense = sample_surface(made.mesh, made.triangle_faces, DENSE).mesh
    return make_surface(dense.corners.mean(1), dense.triangle_normals, SPACING, overhang=0.5)


def made_points(points: Floats, errors: ClipErrors) -> Floats:
    """Points of the drawn surface (N, 3) as they were moulded: the ring wider, the hook leaning out, the foot sunk in."""
    made = np.array(points)
    arms = made[:, [0, 2]] - [0.0, 17.0]
    radii = np.linalg.norm(arms, axis=1)
    in_bore = np.abs(radii - 12.0) < 0.3
    made[np.ix_(in_bore, [0, 2])] += errors.bore * arms[in_bore] / radii[in_bore, None]
    on_hook = (made[:, 0] > 13.9) & (made[:, 2] > 4.0)
    made[on_hook, 0] += errors.lean * np.clip((made[on_hook, 2] - 4.0) / 20.0, 0.0, 1.0)
    on_foot = made[:, 2] < 0.3
    away = (made[on_foot, 0] + 4) ** 2 + made[on_foot, 1] ** 2
    made[on_foot, 2] += errors.sink * np.exp(-away / (2 * 3.5**2))
    return made


BRIEF = Brief(
    part="VC-8 valve clip",
    serial="tray 031",
    drawing="TF-108 rev. A",
    customer="Low Meadow Drainage Board",
    operator="Ilse Maartens",
    date="2026-11-26",
    material="polyamide",
    note="Eight clips of one mould, scanned together.",
)
CIRCUMSTANCES = Circumstances(
    instrument=Instrument(
        name="Cabinet CT-2", serial="TF-CT-01", a=0.009, b=0.05, certificate="TF-C-1240", certificate_u=0.004
    ),
    environment=Environment(temperature=20.0, temperature_u=0.5, expansion=85.0, expansion_u=10.0),
)


def characteristics() -> tuple[Kind, ...]:
    """The lines of the drawing."""
    return (
        Profile(id="1", title="Profile, whole clip", lower=-0.1, upper=0.1),
        Diameter(id="2", title="Ring, inside", nominal=24.0, lower=-0.12, upper=0.12, features=(((9,),),)),
        Flatness(id="3", title="Foot, underside", limit=0.12, faces=(2,)),
        Distance(id="4", title="Foot to back of hook", nominal=36.0, lower=-0.08, upper=0.08, features=(((1,), (4,)),)),
    )


def tray_job(files: FileStore, progress: Progress | None = None) -> Job:
    """The tray with its eight clips told apart and one procedure for all of them."""
    steps: tuple[Step, ...] = (*usual_alignment(), Measure(lower=-0.1, upper=0.1), Decide(alignment="best fit"))
    job = Job(
        brief=BRIEF, circumstances=CIRCUMSTANCES,
        inputs=inputs_of(files.adopt(nominal_path("VC-8")), files.adopt(tray_path(progress))),
        procedure=Procedure(steps=(*steps, *characteristics())),
    )  # fmt: skip
    return with_separation(job, len(CLIPS))
