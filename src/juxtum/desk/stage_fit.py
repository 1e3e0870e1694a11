"""Looking at the part so that neither legend nor bar covers it."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QWidget

from juxtum.desk.legend import Legend, legend_width
from juxtum.geometry.arrays import Floats
from juxtum.scene.camera import View
from juxtum.scene.stage import Stage


class FittingView(QWidget):
    """What a stage widget knows about presets and framing."""

    stage: Stage
    legend: Legend | None
    right_cover = 0.0
    """Width at the right edge that something else than the legend covers, pixels."""
    top_cover = 0.0
    """Height below the view bar that another bar covers, pixels."""
    bottom_cover = 0.0
    """Height at the lower edge that a card covers, pixels."""

    def redraw(self) -> None:
        """Draw again at the next chance."""
        raise NotImplementedError

    @property
    def aspect(self) -> float:
        """Width over height."""
        return self.width() / max(self.height(), 1)

    def look_from(self, view: View) -> None:
        """A preset view."""
        self.stage.look_from(view, self._free_aspect)
        self._clear_legend()
        self.redraw()

    @property
    def _free_aspect(self) -> float:
        """Of the part of the stage that no legend covers."""
        covered = self._covered
        return max(self.width() - covered, 100) / max(self.height() - self._covered_height, 1)

    @property
    def _covered_height(self) -> float:
        """Height that bars and cards take, pixels."""
        return 40 + self.top_cover + self.bottom_cover

    @property
    def _covered(self) -> float:
        """Width that the legend takes, pixels."""
        return legend_width() if self.legend is not None else self.right_cover

    def _clear_legend(self) -> None:
        """Move what was fitted into the part that neither legend nor bar covers."""
        eye, tall = self.stage.eye, max(self.height(), 1)
        eye.camera.SetParallelScale(eye.camera.GetParallelScale() * tall / max(tall - self._covered_height, 1))
        right = -self._covered / 2 / max(self.width(), 1)
        eye.pan(right, (self.bottom_cover - self.top_cover) / 2 / tall, self.aspect)

    def fit(self) -> None:
        """Show everything from where the eye is."""
        self.stage.eye.fit(self.stage.bounds, self._free_aspect)
        self._clear_legend()
        self.redraw()

    def frame_all(self, bounds: Floats) -> None:
        """Show some bounds from the corner."""
        self.stage.look_from(View.CORNER, self._free_aspect)
        self.stage.eye.fit(bounds, self._free_aspect)
        self._clear_legend()
        self.redraw()

    def frame(self, bounds: Floats, towards: Floats | None = None) -> None:
        """Show some bounds with room about them, optionally from a direction."""
        middle, half = bounds.mean(0), np.maximum(np.ptp(bounds, axis=0), 30.0)
        up = np.array([0.0, 0.0, 1.0])
        if towards is not None:
            towards = towards + np.array([-0.25, -0.35, 0.3])
            towards = towards / np.linalg.norm(towards)
            if abs(towards[2]) > 0.95:
                up = np.array([0.0, 1.0, 0.0])
        self.stage.eye.fit(
            np.stack([middle - half, middle + half]), self._free_aspect, towards, up if towards is not None else None
        )
        self._clear_legend()
        self.redraw()
