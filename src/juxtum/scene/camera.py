"""Where the stage is seen from: presets, orbiting, panning and zooming about the part."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

import numpy as np
import numpy.typing as npt

from juxtum.geometry.arrays import Floats, box_corners, unit
from juxtum.geometry.transform import rotation_from_vector


class View(StrEnum):
    """Preset directions, named by the side of the part that is seen."""

    CORNER = "corner"
    FRONT = "front"
    BACK = "back"
    LEFT = "left"
    RIGHT = "right"
    TOP = "top"
    BELOW = "below"


_FROM = {
    View.CORNER: ((-0.52, -0.74, 0.55), (0, 0, 1)),
    View.FRONT: ((0, -1, 0), (0, 0, 1)),
    View.BACK: ((0, 1, 0), (0, 0, 1)),
    View.LEFT: ((-1, 0, 0), (0, 0, 1)),
    View.RIGHT: ((1, 0, 0), (0, 0, 1)),
    View.TOP: ((0, 0, 1), (0, 1, 0)),
    View.BELOW: ((0, 0, -1), (0, 1, 0)),
}


def view_direction(view: View) -> Floats:
    """From the part towards the eye (3,)."""
    return unit(np.array(_FROM[view][0], dtype=float))


class Eye:
    """A parallel-projection camera: true proportions, so that what looks level is level."""

    def __init__(self, camera: Any) -> None:
        self.camera = camera
        camera.ParallelProjectionOn()

    def take_perspective(self) -> None:
        """As the eye sees it from three part sizes away, for pictures; measuring views stay parallel."""
        half = float(self.camera.GetParallelScale())
        distance = float(self.camera.GetDistance())
        self.camera.ParallelProjectionOff()
        self.camera.SetViewAngle(2 * np.degrees(np.arctan(half / distance)))

    @property
    def focus(self) -> Floats:
        """The place it turns about (3,)."""
        return np.array(self.camera.GetFocalPoint())

    @property
    def towards(self) -> Floats:
        """From the focus to the eye, unit (3,)."""
        return unit(np.array(self.camera.GetPosition()) - self.focus)

    @property
    def up(self) -> Floats:
        """Up on the screen, unit (3,)."""
        up = np.array(self.camera.GetViewUp())
        return unit(up - (up @ self.towards) * self.towards)

    @property
    def right(self) -> Floats:
        """Right on the screen, unit (3,)."""
        return np.cross(self.up, self.towards)

    @property
    def height(self) -> float:
        """Height of what is seen, mm."""
        return float(2 * self.camera.GetParallelScale())

    def place(self, focus: Floats, towards: Floats, up: Floats, height: float, size: float) -> None:
        """Look at a focus from a direction; `size` keeps the eye outside of the part."""
        position = focus + towards * max(size, 1.0) * 3
        self.camera.SetFocalPoint(*focus)
        self.camera.SetPosition(*position)
        self.camera.SetViewUp(*up)
        self.camera.SetParallelScale(height / 2)

    def preset(self, view: View, bounds: Floats, aspect: float) -> None:
        """Look from a preset so that the bounds (2, 3) fill the picture."""
        self.camera.ParallelProjectionOn()
        towards, up = view_direction(view), np.array(_FROM[view][1], dtype=float)
        self.fit(bounds, aspect, towards, up)

    def fit(self, bounds: Floats, aspect: float, towards: Floats | None = None, up: Floats | None = None) -> None:
        """Show all of the bounds from where it is, or from a direction."""
        towards = self.towards if towards is None else towards
        up = self.up if up is None else up
        size = float(np.linalg.norm(bounds[1] - bounds[0]))
        centre = bounds.mean(0)
        self.place(centre, towards, up, size, size)
        corners = box_corners(bounds)
        tall = float(np.ptp(corners @ self.up))
        wide = float(np.ptp(corners @ self.right))
        self.camera.SetParallelScale(max(tall, wide / max(aspect, 1e-3), 1e-6) * 0.5 * 1.12)

    def orbit(self, right: float, up: float) -> None:
        """Turn by parts of the screen: level about the part's Z, tilt about the screen's horizontal."""
        turn = rotation_from_vector(np.array([0.0, 0.0, -right * 2 * np.pi * 0.9]))
        tilt = rotation_from_vector(self.right * (up * np.pi * 0.9))
        towards = turn @ (tilt @ self.towards)
        new_up = turn @ (tilt @ self.up)
        distance = float(self.camera.GetDistance())
        self.camera.SetPosition(*(self.focus + towards * distance))
        self.camera.SetViewUp(*new_up)

    def pan(self, right: float, up: float, aspect: float) -> None:
        """Shift by parts of the screen."""
        shift = -self.right * right * self.height * aspect - self.up * up * self.height
        self.camera.SetFocalPoint(*(self.focus + shift))
        self.camera.SetPosition(*(np.array(self.camera.GetPosition()) + shift))

    def zoom(self, factor: float, right: float, up: float, aspect: float) -> None:
        """Magnify about a place on the screen (parts of it from its middle, right and up)."""
        before = self.height
        scale = float(np.clip(self.camera.GetParallelScale() / factor, 1e-3, 1e6))
        self.camera.SetParallelScale(scale)
        change = (before - self.height) / before
        offset = self.right * right * before * aspect * change + self.up * up * before * change
        self.camera.SetFocalPoint(*(self.focus + offset))
        self.camera.SetPosition(*(np.array(self.camera.GetPosition()) + offset))

    def matrix(self, aspect: float) -> Floats:
        """From part coordinates to the screen (4, 4): x and y from -1 to 1."""
        m = self.camera.GetCompositeProjectionTransformMatrix(aspect, -1, 1)
        return np.array([[m.GetElement(i, j) for j in range(4)] for i in range(4)])

    def project(self, places: npt.ArrayLike, width: float, height: float) -> Floats:
        """Screen places (N, 2) in pixels from the top left corner."""
        points = np.atleast_2d(np.asarray(places, dtype=np.float64))
        q = np.column_stack([points, np.ones(len(points))]) @ self.matrix(width / max(height, 1)).T
        q = q[:, :2] / q[:, 3:]
        return np.column_stack([(q[:, 0] + 1) / 2 * width, (1 - q[:, 1]) / 2 * height])

    def ray(self, x: float, y: float, width: float, height: float) -> tuple[Floats, Floats]:
        """Two ends of the line of sight through a pixel."""
        inverse = np.linalg.inv(self.matrix(width / max(height, 1)))
        ends = [inverse @ np.array([2 * x / width - 1, 1 - 2 * y / height, z, 1.0]) for z in (-1.0, 1.0)]
        return ends[0][:3] / ends[0][3], ends[1][:3] / ends[1][3]
