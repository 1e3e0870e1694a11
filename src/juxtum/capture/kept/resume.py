"""A session that goes on where an earlier capture of the job ended."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from juxtum.capture.kept.document import CaptureRecord
from juxtum.capture.live.patch import Happening, Patch
from juxtum.capture.live.points import PointStore, read_points
from juxtum.capture.live.session import CaptureSession
from juxtum.devices.protocol import DeviceError
from juxtum.exchange.inputfile import InputFile
from juxtum.geometry import RigidTransform

TURNED = "head"
"""The device whose shots are placed by its table, not by targets."""


def take_up(session: CaptureSession, record: CaptureRecord, locate: Callable[[InputFile], Path]) -> None:
    """Bring the patches, targets and events of a record into a new session.

    Raises
    ------
    InputError
        When a patch's file is damaged.
    """
    session.map.targets = {t.handle: np.array(t.place) for t in record.targets}
    session.happenings = [Happening(e.time, e.word, e.why) for e in record.events]
    for kept in record.patches:
        patch = Patch(
            kept.number,
            kept.position,
            kept.mode,
            kept.spacing,
            PointStore(session.budget),
            np.zeros(len(session.coverage.counts)),
        )
        patch.seconds, patch.frames, patch.times_lost = kept.seconds, kept.frames, kept.times_lost
        patch.held = round(kept.held * kept.frames)
        session.restore(patch, read_points(locate(kept.file)))
    session.time = max((e.time for e in record.events), default=0.0)
    if record.to_part is not None:
        session.map.locate(RigidTransform(np.array(record.to_part).reshape(4, 4)))


def check_device(record: CaptureRecord | None, device: str) -> None:
    """Whether a device may go on with a capture: what was placed by a table is not placed by targets.

    Raises
    ------
    DeviceError
    """
    if record is not None and record.patches and (record.device == TURNED) != (device == TURNED):
        what = f"the job holds a capture made with the {record.device} device"
        raise DeviceError(what, "capture", "Start a new capture, then use this one")
