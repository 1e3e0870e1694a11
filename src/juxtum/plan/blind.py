"""What scanning will not give, why, and what to do instead."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import partial

import numpy as np

from juxtum.instruments.models import InstrumentModel, Mode
from juxtum.nominal import Nominal
from juxtum.plan.holes import Hole, find_holes
from juxtum.plan.targets.ground import Ground
from juxtum.plan.targets.reach import reach_of
from juxtum.plan.task import Task

RIM = 1.0
"""A scanner rounds the rim of a hole: this much of a wall at each end does not count, mm."""
RINGS = 3
HIDDEN_SHARE = 0.35
"""A face of which more than this is hidden from every pose is an undercut."""


class Finish(StrEnum):
    """How a face looks to an instrument."""

    MATT = "matt"
    DARK = "dark"
    GLOSSY = "glossy"
    MIRROR = "mirror-like"
    CLEAR = "clear"


class Cause(StrEnum):
    """Why a face is not scanned well."""

    DEEP = "deep hole"
    THIN = "thin sheet"
    HIDDEN = "undercut"
    FINISH = "finish"


class Method(StrEnum):
    """How a characteristic is measured."""

    SCAN = "scan"
    OTHER_MODE = "scan, other mode"
    COAT = "coat, then scan"
    PROBE = "probe"


@dataclass(frozen=True)
class BlindSpot:
    """Faces that scanning will not give.

    Parameters
    ----------
    aims : tuple of str
        Characteristics that it touches.
    share : float
        Share of the faces' area that is lost, 0 to 1.
    """

    cause: Cause
    faces: tuple[int, ...]
    aims: tuple[str, ...]
    reason: str
    instead: str
    method: Method
    share: float = 1.0


def known_spots(
    nominal: Nominal,
    task: Task,
    model: InstrumentModel,
    mode: Mode,
    spacing: float,
    finishes: dict[int, Finish] | None = None,
) -> list[BlindSpot]:
    """What follows from the drawing alone, without any pose: deep holes, thin sheet, finishes."""
    measured = set(task.measured_faces(nominal))
    holes = [hole for hole in find_holes(nominal) if set(hole.faces) & measured]
    found = [
        spot
        for hole in holes
        if (spot := _deep(hole, model, mode, task) or _thin(hole, model, (mode, spacing), task)) is not None
    ]
    for number, finish in sorted((finishes or {}).items()):
        nominal.face(number)
        if number in measured and finish is not Finish.MATT:
            found += _finish(number, finish, model, mode, task)
    return found


def blind_spots(
    ground: Ground, task: Task, spacing: float, finishes: dict[int, Finish] | None = None
) -> tuple[BlindSpot, ...]:
    """Deep holes, thin sheet, undercuts and difficult finishes, worst first.

    Parameters
    ----------
    spacing : float
        Point spacing that is planned, mm.
    finishes : dict
        Finish of faces that are not matt, by number.
    """
    found = known_spots(ground.nominal, task, ground.model, ground.mode, spacing, finishes)
    told = {face for spot in found if spot.cause is not Cause.FINISH for face in spot.faces}
    found += _hidden(ground, task, told)
    return tuple(sorted(_together(found), key=lambda s: (not s.aims, list(Method).index(s.method) * -1, s.faces)))


def methods(task: Task, spots: Sequence[BlindSpot]) -> dict[str, Method]:
    """How each characteristic is measured: the hardest method that one of its own faces asks for."""
    order = list(Method)
    result = dict.fromkeys((aim.id for aim in task.aims), Method.SCAN)
    for spot in spots:
        for aim in task.aims:
            if (
                aim.faces
                and set(aim.faces) & set(spot.faces)
                and order.index(spot.method) > order.index(result[aim.id])
            ):
                result[aim.id] = spot.method
    return result


def _aims(task: Task, faces: tuple[int, ...]) -> tuple[str, ...]:
    return tuple(aim.id for aim in task.aims if set(aim.faces) & set(faces))


def _deep(hole: Hole, model: InstrumentModel, mode: Mode, task: Task) -> BlindSpot | None:
    reach = reach_of(mode, hole.diameter)
    if hole.ratio <= reach:
        return None
    way = "from each end" if hole.is_through else "from its mouth"
    reason = f"{hole.ratio:.1f} diameters deep {way}; '{mode.name}' sees {reach:.1f} in \u00d8{hole.diameter:.1f}"
    better = max(model.modes, key=lambda m: reach_of(m, hole.diameter))
    lost = 1 - reach / hole.ratio
    if hole.ratio <= reach_of(better, hole.diameter):
        return BlindSpot(
            Cause.DEEP,
            hole.faces,
            _aims(task, hole.faces),
            reason,
            f"use '{better.name}' there",
            Method.OTHER_MODE,
            lost,
        )
    return BlindSpot(Cause.DEEP, hole.faces, _aims(task, hole.faces), reason, "probe it", Method.PROBE, lost)


def _thin(hole: Hole, model: InstrumentModel, planned: tuple[Mode, float], task: Task) -> BlindSpot | None:
    """A wall with too few rings of points: a finer spacing is the cheaper cure, another mode the next, the probe the last."""
    (mode, spacing), wall = planned, hole.depth - 2 * RIM
    if not hole.is_through or wall >= RINGS * spacing:
        return None
    rings, wanted = max(int(wall / spacing), 0), wall / RINGS
    reason = f"the sheet is {hole.depth:.1f} mm thick: {rings} ring{'' if rings == 1 else 's'} of points on its wall, {RINGS} are needed"
    spot = partial(BlindSpot, Cause.THIN, hole.faces, _aims(task, hole.faces), reason)
    if wanted >= mode.spacing[0]:
        return spot(f"scan it finer, every {rounded_down(wanted):g} mm", Method.SCAN)
    finer = min(model.modes, key=lambda m: m.spacing[0])
    if wanted >= finer.spacing[0]:
        return spot(f"use '{finer.name}' there, every {rounded_down(wanted):g} mm", Method.OTHER_MODE)
    return spot("probe the plane first, then the edge", Method.PROBE)


def rounded_down(spacing: float) -> float:
    """A spacing as people set it, not above the one that is wanted.

    Examples
    --------
    >>> rounded_down(0.374), rounded_down(1.23), rounded_down(0.0412)
    (0.35, 1.2, 0.04)
    """
    step = 0.1 if spacing >= 1 else 0.05 if spacing >= 0.1 else 0.01
    return round(float(np.floor(spacing / step + 1e-9) * step), 3)


def _hidden(ground: Ground, task: Task, told: set[int]) -> list[BlindSpot]:
    patches = ground.patches
    unseen = ~ground.reached
    total = np.bincount(patches.faces, patches.areas)
    lost = np.bincount(patches.faces, patches.areas * unseen)
    result = []
    for face in np.flatnonzero(lost > HIDDEN_SHARE * np.maximum(total, 1e-9)):
        if total[face] <= 0 or face + 1 in told:
            continue
        share = float(lost[face] / total[face])
        reason = f"no pose sees {100 * share:.0f} % of its {total[face]:.0f} mm\u00b2"
        faces = (int(face) + 1,)
        result.append(
            BlindSpot(
                Cause.HIDDEN,
                faces,
                _aims(task, faces),
                reason,
                "probe it",
                Method.PROBE,
                share,
            )
        )
    return result


def _finish(number: int, finish: Finish, model: InstrumentModel, mode: Mode, task: Task) -> list[BlindSpot]:
    faces = (number,)
    if finish in (Finish.MIRROR, Finish.CLEAR):
        reason = f"{finish}: the light is not scattered back"
        return [BlindSpot(Cause.FINISH, faces, _aims(task, faces), reason, "coat it thinly, or probe it", Method.COAT)]
    if mode.dark:
        return []
    other = next((m for m in model.modes if m.dark), None)
    reason = f"{finish}: '{mode.name}' gets too little or too much light back"
    if other is not None:
        return [
            BlindSpot(
                Cause.FINISH, faces, _aims(task, faces), reason, f"use '{other.name}', or coat it", Method.OTHER_MODE
            )
        ]
    return [BlindSpot(Cause.FINISH, faces, _aims(task, faces), reason, "coat it thinly", Method.COAT)]


def _together(spots: list[BlindSpot]) -> list[BlindSpot]:
    """Faces with the same story told once."""
    stories: dict[tuple[object, ...], BlindSpot] = {}
    for spot in spots:
        key = (spot.cause, spot.reason, spot.instead, spot.method)
        old = stories.get(key)
        if old is not None:
            faces = tuple(sorted({*old.faces, *spot.faces}))
            aims = tuple(sorted({*old.aims, *spot.aims}, key=lambda a: (len(a), a)))
            spot = BlindSpot(spot.cause, faces, aims, spot.reason, spot.instead, spot.method, spot.share)
        stories[key] = spot
    return list(stories.values())


def finishes_of(nominal: Nominal, texts: dict[str, str]) -> dict[int, Finish]:
    """Finishes as a person writes them: face numbers and words.

    Raises
    ------
    InputError
        For a face or a finish that does not exist.
    """
    from juxtum.errors import InputError

    result = {}
    for name, word in texts.items():
        if not name.isdigit():
            raise InputError(f"'{name}' is not the number of a face", "finish", "Write for example 51=glossy")
        try:
            result[nominal.face(int(name)).number] = Finish(word)
        except ValueError as problem:
            if isinstance(problem, InputError):
                raise
            raise InputError(f"'{word}' is not a finish", "finish", f"Use {', '.join(Finish)}") from problem
    return result
