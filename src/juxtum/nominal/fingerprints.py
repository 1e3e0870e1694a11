"""What a face is known by when the nominal is replaced by another revision of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Annotated, Any, Protocol, Self, TypeVar

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from juxtum.geometry.arrays import Floats
from juxtum.nominal.model import FaceKind, Nominal, NominalFace

SAME_PLACE = 0.002
"""Of the part's size: a face whose middle lies no farther off, and that has the same size, is the same face."""
SAME_SIZE = 0.002
LIKE_PLACE = 0.15
"""Of the face's own size: a changed face lies no farther off than this."""
LIKE_SIZE = 0.25
"""By which share of its area a changed face may differ."""

Finite = Annotated[float, Field(allow_inf_nan=False)]


class Fingerprint(BaseModel):
    """A face as it was: number, kind, area (mm2), the middle of its area and a point on it (mm)."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    number: Annotated[int, Field(ge=1)]
    kind: FaceKind
    area: Annotated[Finite, Field(ge=0)]
    middle: tuple[Finite, Finite, Finite]
    point: tuple[Finite, Finite, Finite]

    @classmethod
    def of(cls, face: NominalFace, middle: Floats) -> Fingerprint:
        """That of a face."""
        return cls(
            number=face.number, kind=face.kind, area=face.area, middle=_triple(middle), point=_triple(face.centre)
        )

    @property
    def text(self) -> str:
        """For sentences.

        Examples
        --------
        >>> Fingerprint(number=12, kind=FaceKind.PLANE, area=340.2, middle=(1, 2.04, 3), point=(1, 2, 3)).text
        'face 12 (plane, 340 mm², at 1.0, 2.0, 3.0)'
        """
        place = ", ".join(f"{v:.1f}" for v in self.middle)
        return f"face {self.number} ({self.kind}, {self.area:.3g} mm\u00b2, at {place})"


class HoldsFaces(Protocol):
    """A document that names faces."""

    @property
    def faces(self) -> tuple[int, ...]:
        """Numbers of those that are in the nominal."""

    @property
    def lost(self) -> tuple[Fingerprint, ...]:
        """Those of an earlier nominal that are not in this one."""

    def model_copy(self, *, update: Mapping[str, Any] | None = None) -> Self:
        """The same with other fields."""


H = TypeVar("H", bound=HoldsFaces)


@dataclass(frozen=True)
class FoundAgain:
    """Which faces of a revision those of the nominal before it are.

    Parameters
    ----------
    numbers : dict
        The new number of each face that was found, by its old one.
    changed : tuple of Fingerprint
        Those found though they lie on another surface: a hole that is wider, a plane that lies higher.
    lost : dict
        Those that were not found, by their old number.
    """

    numbers: dict[int, int]
    changed: tuple[Fingerprint, ...]
    lost: dict[int, Fingerprint]

    def renumbered(self, faces: Iterable[int]) -> tuple[tuple[int, ...], tuple[Fingerprint, ...]]:
        """The new numbers of those faces that were found, and those that were lost."""
        faces = tuple(faces)
        return tuple(self.numbers[n] for n in faces if n in self.numbers), tuple(
            self.lost[n] for n in faces if n in self.lost
        )

    def on_faces(self, holder: H) -> H:
        """A document with `faces` and `lost` on the new faces; what is lost joins what was lost before."""
        numbers, lost = self.renumbered(holder.faces)
        return holder.model_copy(update={"faces": numbers, "lost": (*holder.lost, *lost)})

    @property
    def notes(self) -> tuple[str, ...]:
        """What has to be told, in sentences."""
        moved = [
            f"{old.text} lies on another surface now; it was taken to be face {self.numbers[old.number]}"
            for old in self.changed
        ]
        return (*moved, *(f"{old.text} is not in the new nominal" for old in self.lost.values()))


def fingerprints(nominal: Nominal, numbers: Iterable[int]) -> tuple[Fingerprint, ...]:
    """Those of the faces of some numbers that exist, each once."""
    wanted, middles = set(numbers), _middles(nominal)
    return tuple(Fingerprint.of(face, middles[face.number - 1]) for face in nominal.faces if face.number in wanted)


def _middles(nominal: Nominal) -> Floats:
    """Middle of the area of each face (F, 3), mm: of a round face it lies on the axis, wherever its seam is."""
    mesh = nominal.mesh
    corners = mesh.points[mesh.triangles]
    areas = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    count = len(nominal.faces)
    whole = np.maximum(np.bincount(nominal.triangle_faces, areas, count), 1e-300)
    sums = [np.bincount(nominal.triangle_faces, areas * corners.mean(1)[:, k], count) for k in range(3)]
    return np.stack(sums, 1) / whole[:, None]


def _triple(values: Floats) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z


def find_again(before: Iterable[Fingerprint], nominal: Nominal) -> FoundAgain:
    """Find faces in another revision of their nominal.

    A face of the same kind, size and place is the same one, whatever its number. What is left is given to the only
    face of its kind nearby with about its size, which is told where it is another surface; where there is none, or there
    are several, it is lost. No face is given twice.
    """
    middles = _middles(nominal)
    free = list(nominal.faces)
    left = {print_.number: print_ for print_ in before}
    numbers: dict[int, int] = {}
    changed: list[Fingerprint] = []
    for old in list(left.values()):
        same = [f for f in free if _is_same(old, f, middles, nominal.diagonal)]
        if same:
            best = min(same, key=lambda face: _apart(old, face, middles))
            numbers[old.number] = best.number
            free.remove(best)
            del left[old.number]
    for is_moved in (False, True):
        near = {old.number: [f for f in free if _is_like(old, f, middles)] for old in left.values()}
        for old in list(left.values()):
            found = [f for f in near[old.number] if is_moved or _is_on(old, f, nominal.diagonal)]
            rivals = [
                other
                for other, faces in near.items()
                if other != old.number and other in left and is_moved and found[:1] == faces[:1]
            ]
            if len(found) == 1 and found[0] in free and not rivals:
                numbers[old.number] = found[0].number
                changed += [old] if is_moved else []
                free.remove(found[0])
                del left[old.number]
    return FoundAgain(numbers, tuple(changed), left)


def _apart(old: Fingerprint, face: NominalFace, middles: Floats) -> float:
    return float(np.linalg.norm(np.array(old.middle) - middles[face.number - 1]))


def _is_same(old: Fingerprint, face: NominalFace, middles: Floats, size: float) -> bool:
    is_place = _apart(old, face, middles) <= SAME_PLACE * size
    return old.kind == face.kind and is_place and abs(face.area - old.area) <= SAME_SIZE * old.area


def _is_on(old: Fingerprint, face: NominalFace, size: float) -> bool:
    """Whether it is the same surface, though it may have lost a corner or got a hole."""
    return face.feature is not None and abs(float(face.feature.distances(np.array([old.point]))[0])) <= 1e-5 * size


def _is_like(old: Fingerprint, face: NominalFace, middles: Floats) -> bool:
    is_near = _apart(old, face, middles) <= LIKE_PLACE * float(np.sqrt(old.area))
    return old.kind == face.kind and is_near and abs(face.area - old.area) <= LIKE_SIZE * old.area
