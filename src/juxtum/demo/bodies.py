"""The demo parts as they were made, for stand-ins to measure: with their faults, and targets stuck by hand."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from dataclasses import replace
from functools import cache
from importlib.resources import files

import numpy as np

from juxtum.demo.scan import bump_height
from juxtum.demo.truth import truth
from juxtum.demo.world import nominal_path
from juxtum.devices.body import Body, Coating
from juxtum.exchange.inputfile import InputFile
from juxtum.exchange.limits import content_hash
from juxtum.exchange.solid import TessellationRule
from juxtum.folders import cache_folder
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Ints, orthonormal_frame
from juxtum.instruments.coats import COATS
from juxtum.nominal import Nominal
from juxtum.plan.blind import Finish
from juxtum.plan.cost.preparing import RUB_MARGIN
from juxtum.plan.document import Plan
from juxtum.plan.targets.gear import gear_of
from juxtum.plan.targets.targets import Target

FINE = TessellationRule(0.006, 0.08)
"""Chords of the made part that no scanner notices."""
BY_HAND = 0.6
"""Standard deviation of where a target is really stuck, mm: it is put there by hand with a ruler."""


@cache
def made_carrier() -> Nominal:
    """BC-220 as it was made, without the shroud's bump."""
    from juxtum.demo.carrier import build_carrier

    return Nominal.from_shape(build_carrier(truth().errors), rule=FINE)


@cache
def made_surface() -> tuple[TriangleMesh, Ints]:
    """Fine mesh of the made BC-220 and the face number of each triangle; made once and kept in the user's cache."""
    names = ("data/truth.json", "carrier.py", "solids.py", "bodies.py")
    recipe = hashlib.sha256(b"".join(files("juxtum.demo").joinpath(name).read_bytes() for name in names)).hexdigest()[
        :12
    ]
    path = cache_folder() / f"BC-220-made-{recipe}.npz"
    if not path.exists():
        made = made_carrier()
        unfinished = path.with_name(f"{os.getpid()}.part.npz")
        np.savez(unfinished, points=made.mesh.points, triangles=made.mesh.triangles, faces=made.triangle_faces + 1)
        os.replace(unfinished, path)
    with np.load(path, allow_pickle=False) as held:
        return TriangleMesh(held["points"], held["triangles"]), held["faces"]


def made_body(part: Nominal, plan: Plan, made: str = "", seed: int = 0) -> Body:
    """A part before the stand-ins: its targets stuck where the plan says, as well as a hand can.

    Parameters
    ----------
    part : Nominal
        As it is drawn.
    made : str
        Which part of the demo world it is, if it was made with known faults; any other is made as drawn.
    """
    body = Body.of(part, plan.stance, (), {n: Finish(f) for n, f in plan.finishes})
    diameter = plan.diameter or min(plan.instrument.targets.diameters if plan.instrument.targets else (6.0,))
    body = replace(body, target_diameter=diameter)
    if made:
        body = MADE[made](body)
    gear = None
    if plan.equipment:
        gear = gear_of(plan.equipment, part, plan.stance).put_down(np.random.default_rng([seed, 11]))
    return replace(body, targets=stuck(body, plan, seed), coating=_coating(body, plan, seed), gear=gear)


def _as_carrier(body: Body) -> Body:
    bump = truth().bump
    mesh, faces = made_surface()
    return replace(body, mesh=mesh, faces=faces, relief=lambda places: bump_height(places, bump), expansion=10.5)


def _as_shaft(body: Body) -> Body:
    from juxtum.demo.shaft_job import turned_surface

    mesh, faces = turned_surface()
    return replace(body, mesh=mesh, faces=faces, expansion=16.0)


MADE: dict[str, Callable[[Body], Body]] = {"BC-220": _as_carrier, "PS-14": _as_shaft}


def _coating(body: Body, plan: Plan, seed: int) -> Coating | None:
    """The plan's coat as a hand sprays it: on the faces that need it, as thick as chance has it, rubbed off where it was held."""
    coat = COATS[plan.coat]
    if coat.thickness == 0:
        return None
    rng = np.random.default_rng([seed, 10])
    faces = {n for n, _ in plan.finishes} or set(map(int, np.unique(body.faces)))
    held = body.mesh.corners[rng.integers(0, len(body.mesh.triangles), 2), 0]
    rubbed = np.column_stack([held, np.full(2, RUB_MARGIN)])
    return Coating(frozenset(faces), coat.thickness + float(rng.uniform(-coat.spread, coat.spread)), coat.lasts, rubbed)


def stuck(body: Body, plan: Plan, seed: int = 0) -> tuple[Target, ...]:
    """The plan's targets on the made surface, a little beside where they should be."""
    planned = plan.placed
    if not planned:
        return ()
    rng = np.random.default_rng([seed, 9])
    places = np.array([t.place for t in planned])
    frames = np.array([orthonormal_frame(t.normal) for t in planned])
    places = places + np.einsum("nk,nkd->nd", rng.normal(0, BY_HAND, (len(planned), 2)), frames[:, :2])
    found = body.mesh.tree.query(places, np.array([t.normal for t in planned]), limit=5.0)
    feet = np.einsum("nk,nkd->nd", found.weights, body.mesh.corners[np.maximum(found.triangles, 0)])
    return tuple(
        Target(foot if ok else place, t.normal, t.face, t.edge, t.is_locked)
        for t, place, foot, ok in zip(planned, places, feet, found.found, strict=True)
    )


def body_for(source: InputFile | None, nominal: Nominal, plan: Plan, seed: int = 0) -> Body:
    """What stands before the stand-ins for a nominal: BC-220 and PS-14 as they were made, any other part as it is drawn.

    Parameters
    ----------
    source : InputFile
        The nominal's file; demo parts are known by its content.
    """
    known = "" if source is None else source.sha256
    return made_body(
        nominal, plan, next((name for name in MADE if known == content_hash(nominal_path(name))), ""), seed
    )
