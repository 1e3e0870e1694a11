"""How thick the walls of a scanned part are, all over it."""

from juxtum.evaluate.walls.measured import WallLimits, WallMap, measure_walls
from juxtum.evaluate.walls.thickness import by_ball, by_ray, even_places

__all__ = ["WallLimits", "WallMap", "by_ball", "by_ray", "even_places", "measure_walls"]
