"""A tray of parts in a tomography cabinet: one scan, one cloud of all surfaces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from juxtum.devices.link import Link
from juxtum.devices.protocol import DeviceError, Message, Points
from juxtum.progress import Progress, silent

PATIENCE = 120.0


@dataclass(frozen=True, eq=False)
class TrayScan:
    """What a scan of a tray gave: points in tray coordinates, how many parts lay in it, the spacing of the points in mm."""

    points: Points
    parts: int
    spacing: float


def scan_tray(link: Link, progress: Progress | None = None) -> TrayScan:
    """Let the cabinet scan.

    Raises
    ------
    DeviceError
        When the cabinet refuses or gives nothing.
    """
    (progress or silent()).phase("scanning the tray", 0.1)
    link.send(Message("scan"))
    parts, spacing, frames = 0, 0.0, []
    for answer in link.receive(PATIENCE):
        if answer.kind == "error":
            raise DeviceError(answer.text("what"), "cabinet", answer.text("next"))
        if answer.kind == "frame":
            frames.append(answer.points())
        parts = int(answer.number("parts", parts))
        spacing = answer.number("spacing", spacing)
    if not frames:
        raise DeviceError("the cabinet gave no points", "cabinet", "Check it, then scan again")
    return TrayScan(np.concatenate(frames), parts, spacing)
