"""Geometry without an interface: transforms, primitives, meshes, nearest points and rays."""

from juxtum.geometry.mesh import PointCloud, TriangleMesh
from juxtum.geometry.nearest import Nearest, NearestTree
from juxtum.geometry.primitives import Cylinder, Plane
from juxtum.geometry.transform import RigidTransform

__all__ = ["Cylinder", "Nearest", "NearestTree", "Plane", "PointCloud", "RigidTransform", "TriangleMesh"]
