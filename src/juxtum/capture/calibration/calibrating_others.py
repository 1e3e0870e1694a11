"""Calibration of what is not a scanner: the probe's tip on a ball, the turntable's axis by a board on it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from juxtum.capture.calibration.calibrating import (
    SHARE_OF_ERROR,
    CalibrationKind,
    CalibrationResult,
    HandPose,
    poses_for,
    request,
    solve_board,
)
from juxtum.capture.ways.turns import LEAST_OVERLAP, TurnedShots
from juxtum.devices.probe import BALL_RADIUS
from juxtum.devices.protocol import Message
from juxtum.errors import FitError
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Floats
from juxtum.geometry.registration import rigid_from_pairs
from juxtum.geometry.transform import rotation_from_vector
from juxtum.instruments.models import InstrumentModel

TURN = 40.0
"""Degrees of the table from pose to pose."""
STILL = 400.0
SHAPE_LIMIT = 10.0
"""What may be left by shape, in units of a point's noise: the axis only begins what each shot's overlap then says."""


def poses_of(kind: CalibrationKind, model: InstrumentModel) -> tuple[HandPose, ...]:
    """Where the hand is wanted: about the ball for the tip; still, while the table turns."""
    if kind is CalibrationKind.TIP:
        leans = ((0, 0), (75, 0), (-75, 0), (0, 75), (0, -75), (40, 40), (-40, 40), (40, -40), (-40, -40))
        return tuple(HandPose(120.0, float(t), float(n)) for t, n in leans)
    if kind in (CalibrationKind.BOARD, CalibrationKind.SHAPE):
        return tuple(HandPose(STILL, 0.0, 0.0) for _ in range(9))
    return poses_for(model)


def requests_of(kind: CalibrationKind, pose: HandPose, index: int) -> tuple[Message, ...]:
    """What is sent at a pose; the last answer counts."""
    if kind is CalibrationKind.TIP:
        return (Message("ball", {"tilt": pose.tilt, "lean": pose.lean}),)
    if kind is CalibrationKind.BOARD:
        return (Message("table", {"degrees": TURN * index}),)
    if kind is CalibrationKind.SHAPE:
        return Message("turn", {"degrees": TURN * index}), Message("shoot")
    return (request(pose),)


def solve(kind: CalibrationKind, answers: Sequence[Message], model: InstrumentModel) -> CalibrationResult:
    """The result of any kind.

    Raises
    ------
    FitError
        With too few observations.
    """
    if kind is CalibrationKind.TIP:
        return solve_tip(answers, model)
    if kind is CalibrationKind.BOARD:
        return solve_table(answers, model)
    return solve_shape(answers, model) if kind is CalibrationKind.SHAPE else solve_board(kind, answers, model)


def correction_of(found: CalibrationResult) -> Message:
    """What the device is told of a calibration that passed."""
    if found.kind is CalibrationKind.TIP:
        return Message("tip", {"radius": found.scale})
    return Message("correct", {"scale": found.scale})


def solve_tip(answers: Sequence[Message], model: InstrumentModel) -> CalibrationResult:
    """Sphere of least squares through the middles of the tip; its radius less the ball's is the tip's."""
    middles = np.array([message.vector("middle") for message in answers])
    if len(middles) < 5:
        raise FitError(
            f"{len(middles)} touches are too few for a sphere", "probe tip", "Touch the ball from at least five sides"
        )
    rows = np.column_stack([2 * middles, np.ones(len(middles))])
    x, y, z, c = np.linalg.lstsq(rows, (middles**2).sum(1), rcond=None)[0]
    radius = float(np.sqrt(c + x * x + y * y + z * z))
    left = float(np.sqrt(np.mean((np.linalg.norm(middles - [x, y, z], axis=1) - radius) ** 2)))
    limit = SHARE_OF_ERROR * model.chains[0].a
    words = f"tip radius {radius - BALL_RADIUS:.4f} mm, {1000 * left:.1f} \u00b5m left on the ball, {1000 * limit:.0f} \u00b5m allowed"
    return CalibrationResult(CalibrationKind.TIP, radius - BALL_RADIUS, left, limit, words)


def solve_table(answers: Sequence[Message], model: InstrumentModel) -> CalibrationResult:
    """The table's axis from the board at each turn.

    Raises
    ------
    FitError
        With fewer than four turns.
    """
    boards = [message.table("dots", 3) for message in answers]
    moves = [rigid_from_pairs(boards[0], board) for board in boards[1:]]
    return _about_one_axis(CalibrationKind.BOARD, moves, boards[0], SHARE_OF_ERROR * model.chains[0].a)


def solve_shape(answers: Sequence[Message], model: InstrumentModel) -> CalibrationResult:
    """The table's axis from the part itself: each shot is laid onto those before it by its overlap.

    Raises
    ------
    FitError
        With fewer than four turns, or when a shot does not overlap with those before it.
    """
    held = TurnedShots((np.zeros(3), np.array([0.0, 0, 1])), table=-np.inf)
    seen: list[RigidTransform] = []
    for message in answers:
        believed = RigidTransform(message.vector("pose", 16).reshape(4, 4))
        shot = held.take(message, believed)
        if seen and shot.overlap < LEAST_OVERLAP:
            raise FitError(
                f"shot {len(seen) + 1} overlaps with those before it by {100 * shot.overlap:.0f} % only",
                "turntable",
                "Use the board",
            )
        seen.append((shot.move @ believed).inverse)
    points = (
        answers[0].points()["place"][:: max(1, len(answers[0].points()) // 500)].astype(np.float64)
        if answers
        else np.empty((0, 3))
    )
    moves = [now @ seen[0].inverse for now in seen[1:]]
    return _about_one_axis(CalibrationKind.SHAPE, moves, points, SHAPE_LIMIT * model.modes[0].noise)


def _about_one_axis(
    kind: CalibrationKind, moves: Sequence[RigidTransform], points: Floats, limit: float
) -> CalibrationResult:
    """One axis for all turns: its direction from the turns, its place where they leave it still; what is left on points (N, 3)."""
    if len(moves) < 3:
        raise FitError(
            f"{len(moves) + 1} turns are too few for an axis", kind.value, "Turn the table at least four times"
        )
    axes = np.array([move.axis for move in moves if 5 < move.angle < 175])
    axis = (axes * np.sign(axes @ axes[0])[:, None]).mean(0)
    axis /= np.linalg.norm(axis)
    rows = np.concatenate([np.eye(3) - move.rotation for move in moves])
    point = np.linalg.lstsq(rows, np.concatenate([move.offset for move in moves]), rcond=None)[0]
    left = []
    for k, move in enumerate(moves, 1):
        turn = rotation_from_vector(np.radians(TURN * k) * axis)
        left.append(_rms(point + (points - point) @ turn.T - move.apply(points)))
    value = float(np.sqrt(np.mean(np.square(left))))
    return CalibrationResult(
        kind,
        0.0,
        value,
        limit,
        f"{1000 * value:.1f} \u00b5m left of all turns about one axis, {1000 * limit:.1f} \u00b5m allowed",
    )


def _rms(offsets: Floats) -> float:
    return float(np.sqrt((offsets**2).mean()))
