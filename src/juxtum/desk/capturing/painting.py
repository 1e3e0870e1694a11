"""The coverage on the stage, painted again now and then while it grows."""

from __future__ import annotations

import time

import numpy as np

from juxtum.capture.live.coverage import Seen
from juxtum.capture.live.promised import held_of
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.live.snapshot import Snapshot
from juxtum.desk.stage_view import StageView
from juxtum.geometry.arrays import Bools
from juxtum.scene.capture_layers import LAYERS, Skin, coverage_surfaces, make_skin

REDRAW_EVERY = 0.35
"""Seconds between two pictures."""


class CoveragePicture:
    """Puts the layers of a coverage on the stage."""

    def __init__(self, view: StageView) -> None:
        self._view = view
        self.skin: Skin | None = None
        self._at = 0.0
        self._seen: np.ndarray | None = None
        self.promised: Bools | None = None
        """Cells (C,) that the plan promised, where the capture is held against it."""

    def draw(self, snapshot: Snapshot) -> None:
        """Paint it if it changed and the last picture is old enough."""
        now = time.monotonic()
        if self.skin is None or now - self._at < REDRAW_EVERY:
            return
        if self._seen is not None and np.array_equal(self._seen, snapshot.seen):
            return
        self._at, self._seen = now, np.asarray(snapshot.seen)
        states = snapshot.seen
        if self.promised is not None and len(self.promised) == len(states):
            states = held_of(self.promised, states >= Seen.ONE_PASS)
        for name, surface in coverage_surfaces(self.skin, states).items():
            self._view.put(name, surface)
        self._view.soften()

    def draw_anew(self, snapshot: Snapshot) -> None:
        """Paint it in any case."""
        self._at, self._seen = 0.0, None
        self.draw(snapshot)

    def clear(self) -> None:
        """Take it off the stage."""
        self._seen = None
        for name in LAYERS:
            self._view.put(name, None)


def skin_of(session: CaptureSession) -> Skin:
    """The skin for a session's cells."""
    cells = session.cells
    return make_skin(session.planner.nominal, cells.places, cells.normals, cells.faces, cells.size)
