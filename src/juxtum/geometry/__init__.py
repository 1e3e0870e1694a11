"""Geometry without an interface: transforms, features, meshes, nearest points and rays."""

from juxtum.geometry.mesh import PointCloud, TriangleMesh
from juxtum.geometry.nearest import Nearest, NearestTree
from juxtum.geometry.transform import RigidTransform

from juxtum.geometry.features import Circle, Cone, Cylinder, Feature, Line, Plane, Point, Sphere, Torus  # isort: skip

__all__ = [
    "Circle", "Cone", "Cylinder", "Feature", "Line", "Nearest", "NearestTree", "Plane", "Point", "PointCloud", "RigidTransform",
    "Sphere", "Torus", "TriangleMesh",
]  # fmt: skip
