"""Makes a stand-in of any kind for a part and a plan."""

from __future__ import annotations

from dataclasses import replace
from enum import StrEnum

from juxtum.devices.body import Body
from juxtum.devices.cabinet import TomographyCabinet
from juxtum.devices.camera import PhotoCamera, PhotoTargets
from juxtum.devices.handheld import HandheldScanner
from juxtum.devices.head import StructuredLightHead, Turntable
from juxtum.devices.probe import TouchProbe
from juxtum.devices.projector import LaserProjector
from juxtum.devices.standin import StandIn
from juxtum.devices.tracked import TrackedScanner
from juxtum.instruments.models import InstrumentModel, Kind, shipped
from juxtum.plan.planner import Planner
from juxtum.plan.turntable import laid_down
from juxtum.progress import Progress


class DeviceKind(StrEnum):
    """Devices that a desk can be connected to."""

    HANDHELD = "handheld"
    TRACKED = "tracked"
    HEAD = "head"
    TURNTABLE = "turntable"
    CAMERA = "camera"
    PROBE = "probe"
    CABINET = "cabinet"
    PROJECTOR = "projector"


MODELS = {
    DeviceKind.HANDHELD: Kind.HANDHELD, DeviceKind.TRACKED: Kind.TRACKED, DeviceKind.HEAD: Kind.HEAD, DeviceKind.TURNTABLE: Kind.HEAD,
    DeviceKind.CAMERA: Kind.PHOTO, DeviceKind.PROBE: Kind.PROBE, DeviceKind.CABINET: Kind.CABINET, DeviceKind.PROJECTOR: Kind.PROJECTOR,
}  # fmt: skip
PLAIN = {
    DeviceKind.HANDHELD: HandheldScanner, DeviceKind.TRACKED: TrackedScanner, DeviceKind.HEAD: StructuredLightHead,
    DeviceKind.TURNTABLE: Turntable, DeviceKind.PROBE: TouchProbe, DeviceKind.PROJECTOR: LaserProjector,
}  # fmt: skip


def model_for(kind: DeviceKind, planner: Planner) -> InstrumentModel:
    """The plan's own instrument where it is of this kind, or the shipped one."""
    return planner.model if planner.model.kind is MODELS[kind] else shipped(MODELS[kind])


def make_stand_in(
    kind: DeviceKind, body: Body, planner: Planner, seed: int = 0, progress: Progress | None = None
) -> StandIn:
    """A stand-in before a part.

    Parameters
    ----------
    planner : Planner
        Tells instrument, photo network and tray.
    """
    model = model_for(kind, planner)
    if kind is DeviceKind.CAMERA:
        return PhotoCamera(
            body, model, PhotoTargets.of(planner.photos(progress=progress), seed, body.target_places), seed
        )
    if kind is DeviceKind.HEAD:
        # The part is laid on the table as the turns are planned.
        laid = laid_down(planner.nominal, planner.turntable(model, progress).tilts)
        return StructuredLightHead(replace(body, turned=laid), model, seed)
    if kind is DeviceKind.CABINET:
        return TomographyCabinet(body, model, planner.tray(), seed)
    return PLAIN[kind](body, model, seed)
