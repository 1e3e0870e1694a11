"""Kinds of characteristics: one module a family, one row here."""

from juxtum.evaluate.given import Given
from juxtum.evaluate.kinds.angles import Angle, ConeAngle
from juxtum.evaluate.kinds.base import Characteristic, Strokes
from juxtum.evaluate.kinds.between import Distance, Thickness
from juxtum.evaluate.kinds.flatness import Flatness
from juxtum.evaluate.kinds.form import Cylindricity, Roundness, Straightness
from juxtum.evaluate.kinds.location import Coaxiality, Concentricity, Position, Symmetry
from juxtum.evaluate.kinds.not_taken import NotTaken
from juxtum.evaluate.kinds.orientation import Angularity, Parallelism, Perpendicularity
from juxtum.evaluate.kinds.profile import Profile
from juxtum.evaluate.kinds.runout import CircularRunOut, TotalRunOut
from juxtum.evaluate.kinds.size import Diameter, Radius, Width
from juxtum.evaluate.kinds.toleranced import Toleranced
from juxtum.evaluate.kinds.zones import LineProfile, SurfaceProfile

Kind = (
    Profile | Flatness | Straightness | Roundness | Cylindricity | LineProfile | SurfaceProfile | Parallelism | Perpendicularity | Angularity
    | Position | Coaxiality | Concentricity | Symmetry | CircularRunOut | TotalRunOut
    | Diameter | Radius | Width | Distance | Angle | ConeAngle | Thickness | NotTaken
)  # fmt: skip
KINDS: tuple[type[Kind], ...] = (
    Profile, Flatness, Straightness, Roundness, Cylindricity, LineProfile, SurfaceProfile, Parallelism, Perpendicularity, Angularity,
    Position, Coaxiality, Concentricity, Symmetry, CircularRunOut, TotalRunOut,
    Diameter, Radius, Width, Distance, Angle, ConeAngle, Thickness,
)  # fmt: skip
"""In the order in which people choose between them."""
LINES: tuple[type[Kind], ...] = (*KINDS, NotTaken)
"""All that a ledger can have a line of."""


def kind_of(tag: str) -> type[Kind]:
    """The kind that documents call so."""
    return next(kind for kind in LINES if kind.tag == tag)


__all__ = [
    "KINDS", "LINES", "Characteristic", "Flatness", "Given", "Kind", "NotTaken", "Profile", "Strokes", "Toleranced", "kind_of",
]  # fmt: skip
