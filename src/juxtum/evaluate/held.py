"""Other maps than that of the scan: the nominal held against the scan, and one scan against another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.evaluate.deviation import SearchRule
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Bools, Floats, frozen
from juxtum.nominal import Nominal
from juxtum.progress import Progress, silent

CHUNK = 100_000
NEARER = 1e-6
"""mm."""
OPPOSITE = -0.8
"""Cosine between the directions of two sides of a wall, at most."""
ONE_WAY = 0.85
"""And between a point's direction and those of the triangles about it, at least."""


@dataclass(frozen=True, eq=False)
class HeldMap:
    """A surface and how far another one lies from it.

    Parameters
    ----------
    mesh : TriangleMesh
        Whose places are coloured, part coordinates.
    values : array (N,)
        At its points, mm; NaN where the other does not show anything.
    """

    mesh: TriangleMesh
    values: Floats

    @property
    def known(self) -> Bools:
        """Where there is a value (N,)."""
        return np.isfinite(self.values)

    @property
    def numbers(self) -> dict[str, float]:
        """Least, largest, mean and standard deviation by area, mm, and the share of the area that has a value."""
        areas, known = self.mesh.point_areas, self.known
        if not known.any():
            return {"least": np.nan, "largest": np.nan, "mean": np.nan, "sd": np.nan, "seen": 0.0}
        values, weights = self.values[known], areas[known]
        mean = float(np.average(values, weights=weights))
        return {
            "least": float(values.min()), "largest": float(values.max()), "mean": mean,
            "sd": float(np.sqrt(np.average((values - mean) ** 2, weights=weights))),
            "seen": float(weights.sum() / areas.sum()),
        }  # fmt: skip


def nominal_against(
    nominal: Nominal, scan: TriangleMesh, rule: SearchRule | None = None, progress: Progress | None = None
) -> HeldMap:
    """The drawn surface, coloured by how far out of the material the scan lies at each of its places.

    Unlike the map of the scan it shows what the scan lacks: those places have no value.

    Parameters
    ----------
    scan : TriangleMesh
        In part coordinates.

    Examples
    --------
    >>> from juxtum.demo import solids
    >>> from juxtum.geometry import RigidTransform
    >>> drawn = Nominal.from_shape(solids.box((0, 0, 0), (20, 20, 10)))
    >>> raised = drawn.mesh.moved(RigidTransform.translation([0, 0, 0.2]))
    >>> found = nominal_against(drawn, raised).numbers
    >>> round(found["least"], 3), round(found["largest"], 3)
    (-0.2, 0.2)
    """
    samples = nominal.samples
    # A value for each small triangle: its corners are its own, and an edge does not mix two faces.
    corners = samples.mesh.corners.reshape(-1, 3)
    mesh = TriangleMesh(corners, np.arange(len(corners)).reshape(-1, 3))
    ahead = _ahead(samples.centres, samples.mesh.triangle_normals, scan, rule or SearchRule(), progress)
    return HeldMap(mesh, frozen(np.repeat(ahead, 3)))


def scan_against(
    one: TriangleMesh, other: TriangleMesh, rule: SearchRule | None = None, progress: Progress | None = None
) -> HeldMap:
    """One scan, coloured by how far it stands out of another: what was put on is above zero, what was worn off below.

    Parameters
    ----------
    one, other : TriangleMesh
        Both in part coordinates.
    """
    ahead = _ahead(one.points, one.normals, other, rule or SearchRule(), progress)
    return HeldMap(one, frozen(np.where(on_faces(one), -ahead, np.nan)))


def on_faces(mesh: TriangleMesh) -> Bools:
    """Points (N,) about which the surface looks one way; one on an edge looks along none of its faces."""
    corners = mesh.triangles.ravel()
    alike = np.einsum("ij,ij->i", np.repeat(mesh.triangle_normals, 3, axis=0), mesh.normals[corners])
    least = np.ones(len(mesh.points))
    np.minimum.at(least, corners, alike)
    return np.asarray(least > ONE_WAY)


def _ahead(places: Floats, facing: Floats, other: TriangleMesh, rule: SearchRule, progress: Progress | None) -> Floats:
    """How far (N,) another surface lies ahead of places along their directions, mm; NaN where it does not lie over them.

    A foot beside a place, on the rim of a hole or of the scan, is no surface over it; nor is one that looks the same way but
    lies farther off than an edge between both, whose faces look elsewhere: on edges there is no value.
    """
    progress = progress or silent()
    found, beside = np.full(len(places), np.nan), max(other.spacing, 1e-6)
    for start in range(0, len(places), CHUNK):
        progress.phase("holding one surface against the other", start / len(places))
        progress.check()
        part = slice(start, start + CHUNK)
        near = other.tree.query(places[part], facing[part], limit=rule.limit, angle=rule.angle)
        rows = np.flatnonzero(near.found)
        feet = np.einsum("ij,ijk->ik", near.weights[rows], other.corners[near.triangles[rows]])
        away = feet - places[part][rows]
        ahead = np.einsum("ij,ij->i", away, facing[part][rows])
        across = np.linalg.norm(away - ahead[:, None] * facing[part][rows], axis=1)
        good = (across <= beside + 0.5 * np.abs(ahead)) & ~_over_an_edge(
            places[part][rows], facing[part][rows], other, near.distances[rows]
        )
        mine = np.full(len(near.found), np.nan)
        mine[rows[good]] = ahead[good]
        found[part] = mine
    return found


def _over_an_edge(places: Floats, facing: Floats, other: TriangleMesh, distances: Floats) -> Bools:
    """Where (N,) the surface that is nearest of all lies nearer than what was found, and goes round an edge from it.

    The other side of a thin wall is nearer too, but looks the opposite way.
    """
    nearest = other.tree.query(places)
    alike = np.einsum("ij,ij->i", other.triangle_normals[nearest.triangles], facing)
    return np.asarray((nearest.distances < distances - NEARER) & (alike > OPPOSITE))
