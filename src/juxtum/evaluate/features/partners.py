"""What of the nominal a measured feature is held against: the feature of a face, or the opening that several make."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from juxtum.associate.solve import gauss
from juxtum.errors import FitError, InputError
from juxtum.evaluate.deviation import Deviation
from juxtum.evaluate.features.beginnings import opening_about
from juxtum.evaluate.features.free_form import FreeForm
from juxtum.geometry.arrays import Ints, areas_of
from juxtum.geometry.features import OPENINGS, Feature, Opening
from juxtum.geometry.features.openings import begun_opening
from juxtum.nominal.model import FaceKind, Nominal

CHORDS = 0.02
"""Corners of triangles of drawn walls lie on these to within so many mm."""
NEAR, SQUARE = 0.08, 0.03
"""About a drawn opening that is only begun its walls lie within this share of its width, and look across its axis by less than this cosine."""
WHOLE = 0.6
"""Of a wall all round, by its depth, so much is there; the rest may be cut by others."""
SIDES = 0.03
"""A face with this share of the points of an opening is a wall of it."""


@dataclass(frozen=True, eq=False)
class Partner:
    """The partner in the drawing: the number of the face that most points lie on, 0 for none, and its feature."""

    face: int
    feature: Feature | None = None


def partner_of(deviation: Deviation, rows: Ints, feature: Feature, faces: Sequence[int]) -> Partner:
    """The partner of a feature with points in these rows of the scan, on these faces where they are named."""
    face = faces[0] if faces else _most(deviation, rows, 0.0 if isinstance(feature, Opening) else 0.5)
    if face == 0:
        return Partner(0)
    if isinstance(feature, FreeForm):
        return Partner(face)
    if not isinstance(feature, Opening):
        drawn = deviation.nominal.face(face).feature
        return Partner(face, drawn if drawn is not None and drawn.name == feature.name else None)
    try:
        return Partner(face, drawn_opening(deviation.nominal, faces or _walls(deviation, rows), feature.name))
    except (FitError, InputError):
        return Partner(face)


def _most(deviation: Deviation, rows: Ints, least: float) -> int:
    """The face of the nominal on which most of the points lie; 0 where none has the least share of them."""
    faces = deviation.faces[rows]
    faces = faces[faces >= 0]
    if len(faces) == 0:
        return 0
    counts = np.bincount(faces)
    return int(counts.argmax()) + 1 if counts.max() > least * len(rows) else 0


def _walls(deviation: Deviation, rows: Ints) -> tuple[int, ...]:
    faces = deviation.faces[rows]
    counts = np.bincount(faces[faces >= 0])
    return tuple((np.flatnonzero(counts > SIDES * len(rows)) + 1).tolist())


def drawn_opening(nominal: Nominal, numbers: Sequence[int], kind: str) -> Opening:
    """The slot or rectangle of which faces of the nominal are the walls.

    Raises
    ------
    InputError
        When they are not.
    """
    assert kind in OPENINGS
    named = ", ".join(f"{number}" for number in numbers)
    what = f"{'faces' if len(numbers) > 1 else 'face'} {named} {'are' if len(numbers) > 1 else 'is'} not the walls of a {kind}"
    wrong = InputError(what, "feature", "Name both sides and both ends of it, such as slot 14+15+16+17")
    mesh = nominal.face_mesh(numbers)
    if len(mesh.triangles) < 4:
        raise wrong
    # By area: a flat side has few large triangles, a round end many small ones.
    areas = areas_of(mesh.points, mesh.triangles)
    some = np.repeat(np.arange(len(areas)), np.ceil(200 * areas / areas.max()).astype(int))
    try:
        start = begun_opening(
            kind, mesh.corners[some].reshape(-1, 3), np.repeat(mesh.triangle_normals[some], 3, axis=0)
        )
        # Corners of triangles lie on a round end, and where two walls of a square one meet; places within the other way about.
        inside = (0.4 * mesh.corners + 0.6 * mesh.corners.mean(1, keepdims=True)).reshape(-1, 3)
        fit = gauss(start, mesh.points if kind == "slot" else inside)
    except (FitError, InputError) as problem:
        raise wrong from problem
    # By area, too, all of the wall is there: half a slot is no slot.
    whole = fit.feature.circumference * float(np.ptp(mesh.points @ fit.feature.axis))
    if fit.form > CHORDS or areas.sum() < WHOLE * whole or fit.feature.is_round:
        raise wrong
    return fit.feature.anchored(mesh.points.mean(0))


def walls_about(nominal: Nominal, face: int, kind: str) -> tuple[int, ...]:
    """Numbers of the faces that are the walls of a slot or a rectangle of which one is known.

    Raises
    ------
    FitError, InputError
        When there is no wall all round, or it is none of that kind.
    """
    mesh, owner = nominal.mesh, nominal.triangle_faces
    own = np.flatnonzero(owner == face - 1)
    seed = int(own[np.argmax(areas_of(mesh.points, mesh.triangles[own]))])
    start = opening_about(mesh, seed, kind, lambda triangle: np.asarray(mesh.triangle_normals[triangle]))
    off = np.abs(start.distances(mesh.points))[mesh.triangles].max(1)
    square = np.abs(mesh.triangle_normals @ start.axis) < SQUARE
    amiss = np.bincount(owner, ~((off < NEAR * start.width) & square), len(nominal.faces))
    # Round corners of a pocket lie near its walls and are none.
    flat = [kind == "slot" or f.kind == FaceKind.PLANE for f in nominal.faces]
    numbers = tuple((np.flatnonzero((amiss == 0) & np.array(flat)) + 1).tolist())
    drawn_opening(nominal, numbers or (face,), kind)
    return numbers
