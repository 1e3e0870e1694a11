"""What a probe touched, as a document that a job keeps and measures from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from juxtum.capture.ways.probing import ProbeTask, Purpose
from juxtum.evaluate.touched import Purpose as Use
from juxtum.evaluate.touched import Touch, TouchedFace, Touches
from juxtum.exchange.writing import write_atomically
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.instruments.models import InstrumentModel

USES: dict[Purpose, Use] = {Purpose.PLANE: "plane", Purpose.EDGE: "edge", Purpose.FACE: "surface"}


@dataclass(frozen=True, eq=False)
class ProbeLie:
    """How a probe's own coordinates lie.

    Parameters
    ----------
    to_part : RigidTransform
    targets : array (N, 3)
        That its tracker sees, in its own coordinates, mm.
    spread : float
        Standard uncertainty, mm, of where the part was taken to lie.
    """

    to_part: RigidTransform
    targets: Floats
    spread: float


def touched_face(task: ProbeTask, middles: Sequence[Floats], lie: ProbeLie | None = None) -> TouchedFace:
    """The touches of a feature.

    Parameters
    ----------
    middles : sequence of array (3,)
        Of the tip at each touch, in the order of the task's points, part coordinates.
    lie : ProbeLie, optional
        Where it is given, the document speaks in the probe's own coordinates.
    """
    back = RigidTransform.identity() if lie is None else lie.to_part.inverse
    places = back.apply(np.array(middles))
    normals = back.turn(np.array([point.normal for point in task.points]))
    touches = tuple(
        Touch(middle=_triple(place, 5), normal=_triple(normal, 9), purpose=USES[point.purpose])
        for place, normal, point in zip(places, normals, task.points, strict=True)
    )
    faces = task.hole.faces if task.hole is not None else (task.face,)
    return TouchedFace(title=task.name, faces=tuple(faces), touches=touches)


def touches_document(
    features: Sequence[TouchedFace], model: InstrumentModel, tip_radius: float, lie: ProbeLie, *, is_captured: bool
) -> Touches:
    """All that a stand-in touched: by its targets where a capture found the same, in part coordinates otherwise.

    Parameters
    ----------
    is_captured : bool
        Whether the features speak in the probe's own coordinates.
    """
    return Touches(
        instrument=model.as_instrument(model.chain()),
        tip_radius=round(tip_radius, 6),
        is_simulated=True,
        frame="targets" if is_captured else "part",
        placed_u=0.0 if is_captured else round(lie.spread, 5),
        targets=tuple(_triple(place, 5) for place in lie.targets) if is_captured else (),
        features=tuple(features),
    )


def write_touches(path: Path, document: Touches) -> None:
    """Write it, whole or not at all."""
    text = document.model_dump_json(by_alias=True, indent=1)
    write_atomically(path, lambda target: target.write_text(text, encoding="utf-8"))


def _triple(values: Floats, digits: int) -> tuple[float, float, float]:
    x, y, z = (round(float(v), digits) for v in values)
    return x, y, z
