"""Ideal features: frozen value objects that one solver fits and one datum system takes."""

from juxtum.geometry.features.axes import Cylinder, Line
from juxtum.geometry.features.base import Feature, Held
from juxtum.geometry.features.openings import OPENINGS, Opening, Rectangle, Slot
from juxtum.geometry.features.plane import Plane
from juxtum.geometry.features.points import Contact, Point, Sphere
from juxtum.geometry.features.rounds import Circle, Cone, Torus

FEATURES: tuple[type[Feature], ...] = (
    Point, Line, Plane, Circle, Sphere, Cylinder, Cone, Torus, Slot, Rectangle,
)  # fmt: skip
"""All kinds, simplest first."""

__all__ = [
    "FEATURES", "OPENINGS", "Circle", "Cone", "Contact", "Cylinder", "Feature", "Held", "Line", "Opening", "Plane", "Point", "Rectangle",
    "Slot", "Sphere", "Torus",
]  # fmt: skip
