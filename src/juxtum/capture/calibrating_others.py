"""Calibration of what is not a scanner: the probe's tip on a ball, the turntable's axis by a board on it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from juxtum.align.pairs import rigid_from_pairs
from juxtum.capture.calibrating import CalibrationKind, CalibrationResult, HandPose, poses_for, request, solve_board
from juxtum.devices.probe import BALL_RADIUS
from juxtum.devices.protocol import Message
from juxtum.errors import FitError
from juxtum.geometry.arrays import Floats
from juxtum.geometry.transform import rotation_from_vector
from juxtum.plan.instruments import InstrumentModel

TURN = 40.0
"""Degrees of the table from pose to pose."""
STILL = 400.0


def poses_of(kind: CalibrationKind, model: InstrumentModel) -> tuple[HandPose, ...]:
    """Where the hand is wanted: about the ball for the tip; still, while the table turns."""
    if kind is CalibrationKind.TIP:
        leans = ((0, 0), (75, 0), (-75, 0), (0, 75), (0, -75), (40, 40), (-40, 40), (40, -40), (-40, -40))
        return tuple(HandPose(120.0, float(t), float(n)) for t, n in leans)
    if kind in (CalibrationKind.BOARD, CalibrationKind.SHAPE):
        return tuple(HandPose(STILL, 0.0, 0.0) for _ in range(9))
    return poses_for(model)


def request_of(kind: CalibrationKind, pose: HandPose, index: int) -> Message:
    """What is sent at a pose."""
    if kind is CalibrationKind.TIP:
        return Message("ball", {"tilt": pose.tilt, "lean": pose.lean})
    if kind in (CalibrationKind.BOARD, CalibrationKind.SHAPE):
        return Message("table", {"degrees": TURN * index})
    return request(pose)


def solve(kind: CalibrationKind, answers: Sequence[Message], model: InstrumentModel) -> CalibrationResult:
    """The result of any kind.

    Raises
    ------
    FitError
        With too few observations.
    """
    if kind is CalibrationKind.TIP:
        return solve_tip(answers, model)
    if kind in (CalibrationKind.BOARD, CalibrationKind.SHAPE):
        return solve_table(kind, answers, model)
    return solve_board(kind, answers, model)


def solve_tip(answers: Sequence[Message], model: InstrumentModel) -> CalibrationResult:
    """Sphere of least squares through the middles of the tip; its radius less the ball's is the tip's."""
    middles = np.array([message.vector("middle") for message in answers])
    if len(middles) < 5:
        raise FitError(f"{len(middles)} touches are too few for a sphere", "probe tip", "Touch the ball from at least five sides")
    rows = np.column_stack([2 * middles, np.ones(len(middles))])
    x, y, z, c = np.linalg.lstsq(rows, (middles**2).sum(1), rcond=None)[0]
    radius = float(np.sqrt(c + x * x + y * y + z * z))
    left = float(np.sqrt(np.mean((np.linalg.norm(middles - [x, y, z], axis=1) - radius) ** 2)))
    limit = 1.5 * model.modes[0].noise
    words = f"tip radius {radius - BALL_RADIUS:.4f} mm, {1000 * left:.1f} \u00b5m left on the ball, {1000 * limit:.0f} \u00b5m allowed"
    return CalibrationResult(CalibrationKind.TIP, radius - BALL_RADIUS, left, limit, words)


def solve_table(kind: CalibrationKind, answers: Sequence[Message], model: InstrumentModel) -> CalibrationResult:
    """One axis for all turns of the board: direction from the turns, place where they leave it still."""
    boards = [message.table("dots", 3) for message in answers]
    if len(boards) < 4:
        raise FitError(f"{len(boards)} turns are too few for an axis", kind.value, "Turn the table at least four times")
    moves = [rigid_from_pairs(boards[0], board) for board in boards[1:]]
    axis = np.mean([m.axis * np.sign(m.axis[2] or 1.0) for m in moves if 5 < m.angle < 175], axis=0)
    axis /= np.linalg.norm(axis)
    rows = np.concatenate([np.eye(3) - m.rotation for m in moves])
    point = np.linalg.lstsq(rows, np.concatenate([m.offset for m in moves]), rcond=None)[0]
    left = []
    for k, board in enumerate(boards[1:], 1):
        turn = rotation_from_vector(np.radians(TURN * k) * axis)
        left.append(_rms(point + (boards[0] - point) @ turn.T - board))
    value, limit = float(np.sqrt(np.mean(np.square(left)))), 3.0 * model.modes[0].noise
    words = f"axis {np.degrees(np.arccos(min(1.0, abs(axis[2])))):.3f}\u00b0 off upright, {1000 * value:.0f} \u00b5m left, {1000 * limit:.0f} \u00b5m allowed"
    return CalibrationResult(kind, 0.0, value, limit, words)


def _rms(offsets: Floats) -> float:
    return float(np.sqrt((offsets**2).mean()))
