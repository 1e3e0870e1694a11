"""The nominal part: exact CAD faces, tessellation, projection onto the exact surface."""

from juxtum.nominal.model import FaceKind, Nominal, NominalFace, faces_mask
from juxtum.nominal.projection import Projection

__all__ = ["FaceKind", "Nominal", "NominalFace", "Projection", "faces_mask"]
