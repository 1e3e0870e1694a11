"""What a probe touched: few places of a feature, each surer than those of a scan, which count in its place."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from juxtum.associate.constrained import Held, fit_held
from juxtum.associate.fit import fit_plane
from juxtum.associate.solve import Fit, gauss
from juxtum.errors import FitError
from juxtum.evaluate.drawn.references import Faces
from juxtum.evaluate.fields import Finite, Title
from juxtum.geometry.arrays import Bools, Floats, Ints, orthonormal_frame
from juxtum.geometry.features import Cylinder, Feature
from juxtum.instruments.stated import Instrument
from juxtum.nominal import Nominal

SHALLOW = 0.5
"""Touches of a bore that reach over less than this share of its radius do not tell which way it points."""
NEAR = 3.0
"""Touches that lie farther than this from the face they are named for, mm, belong to something else."""
SPREAD = 3.0
"""What an instrument may be wrong by is so many standard deviations of its single touches."""
Triple = tuple[Finite, Finite, Finite]
Purpose = Literal["surface", "edge", "plane"]


class Touch(BaseModel):
    """One contact.

    Parameters
    ----------
    middle : triple
        Of the tip, mm.
    normal : triple
        Out of the material, whence the tip came.
    purpose : str
        "edge" on the wall of a hole, "plane" on the face about it, "surface" on any other.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    middle: Triple
    normal: Triple
    purpose: Purpose = "surface"


class TouchedFace(BaseModel):
    """The touches of one feature, and the numbers of the nominal's faces that make it."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    title: Title = "Feature"
    faces: Annotated[tuple[Annotated[int, Field(ge=1)], ...], Field(min_length=1, max_length=1000)]
    touches: Annotated[tuple[Touch, ...], Field(min_length=1, max_length=10_000)]


class Touches(BaseModel):
    """All that was touched in one go, as a document.

    Parameters
    ----------
    frame : str
        What the coordinates belong to: "targets" those listed here, which a capture of this job saw as well; "scan" the
        scan; "part" the part, aligned by whoever touched it.
    placed_u : float
        Standard uncertainty, mm, of where the touches lie in "part".
    targets : tuple
        Reference targets in the same coordinates, mm.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)

    schema_name: Literal["juxtum-touches-1"] = Field("juxtum-touches-1", alias="schema")
    instrument: Instrument
    tip_radius: Annotated[Finite, Field(gt=0, le=50)]
    is_simulated: bool = False
    frame: Literal["targets", "scan", "part"] = "part"
    placed_u: Annotated[Finite, Field(ge=0, le=10)] = 0.0
    targets: Annotated[tuple[Triple, ...], Field(max_length=5000)] = ()
    features: Annotated[tuple[TouchedFace, ...], Field(max_length=1000)] = ()


@dataclass(frozen=True, eq=False)
class Touched:
    """What was touched of a feature, in part coordinates.

    Parameters
    ----------
    points, normals : array (N, 3)
        On the surface, the tip's radius taken off, and out of the material.
    about : array (N,) of bool
        Which lie on the face about a hole, not on its wall.
    placed : float
        Standard uncertainty of where they lie together, mm.
    """

    title: str
    faces: Faces
    points: Floats
    normals: Floats
    about: Bools
    instrument: Instrument
    placed: float
    seen: float

    @property
    def own(self) -> Floats:
        """Those on the feature itself (K, 3)."""
        return np.asarray(self.points[~self.about])

    @property
    def scatter(self) -> float:
        """Standard deviation of a single touch by the instrument alone, mm."""
        return max(self.instrument.a / SPREAD, self.instrument.repeatability)

    def fitted(self, nominal: Feature) -> Fit[Feature]:
        """The feature of least squares through the touches; a bore touched at one depth stands square on the face about it.

        Raises
        ------
        FitError
            When there are too few, or they leave it free.
        """
        points = self.own
        along = points @ nominal.axis if isinstance(nominal, Cylinder) else np.zeros(0)
        is_shallow = len(along) > 0 and isinstance(nominal, Cylinder) and np.ptp(along) < SHALLOW * nominal.radius
        if is_shallow and isinstance(nominal, Cylinder):
            return self._square(nominal, points)
        return self._surer(gauss(nominal, points), points, slice(None))

    def _square(self, nominal: Cylinder, points: Floats) -> Fit[Feature]:
        about, way, tilt = self.points[self.about], nominal.axis, 0.0
        if len(about) >= 3:
            plane = fit_plane(about, way)
            way = plane.feature.normal
            size = max(float(np.linalg.norm(np.ptp(about, axis=0))) / 2, 1e-6)
            tilt = max(self.scatter, plane.rms) / size
        held = fit_held("cylinder", points, Held(way), nominal)
        count = len(held.covariance)
        # A step of a cylinder is two shifts, two tilts and its radius: the tilts are those of the face about it.
        tilts = np.arange(count - 3, count - 1)
        fit = self._surer(held, points, np.delete(np.arange(count), tilts))
        tilted = np.zeros(count)
        tilted[tilts] = tilt**2
        return Fit(fit.feature, fit.count, fit.rms, fit.form, fit.covariance + np.diag(tilted))

    def _surer(self, fit: Fit[Feature], points: Floats, free: slice | Ints) -> Fit[Feature]:
        """With a covariance that few touches are good for: by their scatter over the freedom left, never below the instrument's.

        Parameters
        ----------
        free : array of int
            Which parts of a step the touches themselves tell.
        """
        jacobian = fit.feature.linearised(points)[1][:, free]
        left = max(len(points) - jacobian.shape[1], 0)
        sigma = np.sqrt(fit.rms**2 * len(points) / left) if left > 0 else 0.0
        least = max(float(sigma), self.scatter) ** 2 * np.linalg.pinv(jacobian.T @ jacobian, rcond=1e-9)
        grown = np.diag(fit.covariance).copy()
        grown[free] = np.maximum(np.diag(least), grown[free])
        return Fit(fit.feature, fit.count, fit.rms, fit.form, fit.covariance + np.diag(grown - np.diag(fit.covariance)))


@dataclass(frozen=True, eq=False)
class AllTouched:
    """Everything that was touched, in an alignment.

    Parameters
    ----------
    features : sequence of Touched
        The later one counts where one was touched twice.
    notes : tuple of str
        What has to be told of them.
    """

    features: Sequence[Touched]
    notes: tuple[str, ...] = ()
    taken: dict[Any, Any] = field(default_factory=dict)
    """Features made of them, once asked for."""

    def of(self, faces: Iterable[int]) -> Touched | None:
        """What was touched of the feature that some faces make; nothing where one of them was left out."""
        wanted = set(faces)
        return next((one for one in reversed(self.features) if wanted and wanted <= set(one.faces)), None)


def placed(
    feature: TouchedFace, middles: Floats, normals: Floats, nominal: Nominal, by: tuple[Instrument, float, float]
) -> Touched:
    """The touches of a feature where they lie on the part.

    Parameters
    ----------
    middles, normals : array (N, 3)
        Of the tip, and out of the material, part coordinates, mm.
    by : tuple
        The instrument, the radius of its tip, and the standard uncertainty of where all touches lie, mm.

    Raises
    ------
    FitError
        When they do not lie on the faces they are named for, or there are no such faces.
    """
    instrument, radius, spread = by
    points = middles - radius * normals
    about = np.array([touch.purpose == "plane" for touch in feature.touches])
    own, faces = points[~about], tuple(feature.faces)
    if max(faces) > len(nominal.faces):
        raise FitError(f"the part has no face {max(faces)}", feature.title, "Touch it again on this nominal")
    if len(own) == 0:
        raise FitError("nothing on the feature itself was touched", feature.title, "Touch its wall as well")
    mesh = nominal.face_mesh(faces)
    off = float(np.max(mesh.tree.query(own).distances))
    if off > NEAR:
        what = f"touches named for face {faces[0]} lie up to {off:.1f} mm away from it, and do not count"
        raise FitError(what, feature.title, "Touch it again, or see that they belong to this part and scan")
    return Touched(
        feature.title, faces, points, normals, about, instrument, spread, _share(own, mesh.points, radius, nominal, faces)
    )  # fmt: skip


def _share(own: Floats, drawn: Floats, radius: float, nominal: Nominal, faces: Faces) -> float:
    """How much of a feature the touches reach: about an axis by the largest gap, over a face by both extents of it."""
    feature = nominal.face(faces[0]).feature
    axis = getattr(feature, "axis", None)
    if feature is not None and axis is not None:
        x, y, _ = orthonormal_frame(axis) @ (own - feature.point).T
        angles = np.sort(np.degrees(np.arctan2(y, x)))
        gap = float(np.diff(np.r_[angles, angles[0] + 360]).max())
        return float(np.clip((360 - gap + 360 / len(angles)) / 360, 0, 1))
    ways = np.linalg.svd(drawn - drawn.mean(0), full_matrices=False)[2][:2]
    # The tip keeps clear of edges.
    shares = [(np.ptp(own @ way) + 4 * radius) / max(float(np.ptp(drawn @ way)), 1e-9) for way in ways]
    return float(np.clip(min(shares), 0, 1))
