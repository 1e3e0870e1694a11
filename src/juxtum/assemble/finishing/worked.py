"""What comes of work on a surface: the surface, what is to be told, and how far it moved."""

from __future__ import annotations

from dataclasses import dataclass

from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats


@dataclass(frozen=True, eq=False)
class Worked:
    """A surface after some work.

    Parameters
    ----------
    mesh : TriangleMesh
    notes : tuple of str
        What was found and done, each of them a clause.
    moved : array (N,), optional
        How far each place of it lies from the surface before, mm, along its normal: positive outwards. None where
        nothing that was measured moved.
    largest : float
        The largest displacement of anything measured, mm; it may lie beside the points of the new surface.
    """

    mesh: TriangleMesh
    notes: tuple[str, ...] = ()
    moved: Floats | None = None
    largest: float = 0.0
