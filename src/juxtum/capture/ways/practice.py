"""Exercises with the stand-ins and their debrief: held against the plan and against what only a stand-in knows."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

import numpy as np

from juxtum.capture.live.coverage import Seen
from juxtum.capture.live.next_view import name_of
from juxtum.capture.live.points import places_of
from juxtum.capture.live.session import CaptureSession
from juxtum.capture.path.loop import SECTORS, Loop, loop_of
from juxtum.devices.body import Body
from juxtum.geometry import RigidTransform
from juxtum.geometry.arrays import Bools
from juxtum.plan.blind import Finish
from juxtum.plan.document import Plan
from juxtum.plan.planner import Planner, expected_coverage

LOOP_LIMIT = 0.15
"""Closing error of a loop that practice asks for, mm."""
HELD_GOAL, COVERED_GOAL = 0.8, 0.9
NEAR_SURFACE = 1.0
"""Points farther from the made part than this, mm, are of the table or hang in the air."""
TECHNIQUE = 3.0
"""A deviation from the made part of so many times the point noise comes from how it was scanned."""


@dataclass(frozen=True)
class Exercise:
    """One exercise.

    Parameters
    ----------
    faces : callable
        The faces it is about, from the planner; all measured ones when it gives none.
    prepare : callable
        The plan that the stand-in's part follows in it.
    aim : str
        What is judged first.
    """

    id: str
    title: str
    text: str
    minutes: float
    aim: str
    faces: Callable[[Planner], tuple[int, ...]] = lambda planner: ()
    prepare: Callable[[Plan], Plan] = lambda plan: plan


def _without_targets(plan: Plan) -> Plan:
    return plan.model_copy(update={"targets": (), "expected": None})


def _dark_gloss(planner: Planner) -> tuple[int, ...]:
    """The largest face that is measured on its own, or the largest of all."""
    own = planner.task.own_faces or tuple(f.number for f in planner.nominal.faces)
    areas = {f.number: f.area for f in planner.nominal.faces}
    return (max(own, key=lambda n: areas[n]),)


def _deep(planner: Planner) -> tuple[int, ...]:
    from juxtum.plan.holes import find_holes

    holes = sorted(find_holes(planner.nominal), key=lambda h: -h.ratio)
    return holes[0].faces if holes else ()


EXERCISES = (
    Exercise("stick", "Stick the targets yourself", "Stick targets where you think they belong, then scan all that is measured.", 12.0, "tracking",
             prepare=_without_targets),
    Exercise("gloss", "A dark, glossy face", "Scan the marked face. Find exposure, mode and direction by yourself.", 4.0, "light", faces=_dark_gloss),
    Exercise("loop", "Close a loop", "Go once round the part and come back to where you began, without losing the targets.", 5.0, "loop"),
    Exercise("deep", "Into a deep hole", "Bring in as much of the marked wall as can be had.", 4.0, "coverage", faces=_deep),
    Exercise("hold", "Keep the stand-off", "Scan for two minutes and keep the needle in the window.", 2.0, "held"),
    Exercise("bars", "Place two bars", "Choose where two scale bars lie; the photos then say how good the lengths become.", 5.0, "bars"),
)  # fmt: skip


def exercise_of(name: str) -> Exercise:
    """The exercise of an id."""
    return next(e for e in EXERCISES if e.id == name)


def body_for_exercise(exercise: Exercise, body: Body, planner: Planner) -> Body:
    """The part as the exercise wants it: dark and glossy where it asks for that."""
    if exercise.id == "gloss":
        faces = exercise.faces(planner)
        return replace(body, finishes={**body.finishes, **dict.fromkeys(faces, Finish.GLOSSY)})
    return body


@dataclass(frozen=True)
class Debrief:
    """What came of an exercise.

    Parameters
    ----------
    score : float
        0 to 100.
    facts : tuple of (str, str)
        Name and value, the plan's or the wanted value beside it.
    advice : tuple of str
        What to do differently; empty when nothing.
    """

    exercise: str
    seconds: float
    score: float
    facts: tuple[tuple[str, str], ...]
    advice: tuple[str, ...] = field(default_factory=tuple)

    @property
    def words(self) -> str:
        """All of it as text, for the record."""
        return "\n".join([*(f"{name}: {value}" for name, value in self.facts), *self.advice])


@dataclass(frozen=True, eq=False)
class _Record:
    """What an exercise is judged by; shares are of frames or of area, 0 to 1."""

    held: float
    tracked: float
    dark: float
    covered: float
    once: float
    wanted: float
    lost: tuple[str, ...]
    jumps: int
    technique: float | None
    """RMS off the made part, mm."""
    stray: float
    """Share of points off the made part."""
    closing: float | None
    loop: Loop | None
    missing: str


def debrief(exercise: Exercise, session: CaptureSession, body: Body | None) -> Debrief:
    """Hold a capture against the plan and, where the made part is known, against the truth.

    Parameters
    ----------
    body : Body, optional
        What really stood before the stand-in.
    """
    r = _record(exercise, session, body)
    facts = [
        ("covered", f"{100 * r.covered:.0f} of {100 * r.wanted:.0f} %, once {100 * r.once:.0f}"), ("in the window", f"{100 * r.held:.0f} %"),
        ("tracking", f"{100 * r.tracked:.0f} %, lost {len(r.lost)}\u00d7"), ("jumps", f"{r.jumps}"),
        ("time", f"{session.seconds:.0f} of {60 * exercise.minutes:.0f} s"),
    ]  # fmt: skip
    facts += [("from technique", f"{1000 * r.technique:.0f} \u00b5m RMS")] if r.technique is not None else []
    facts += [("map's largest error", f"{r.closing:.3f} mm")] if r.closing is not None else []
    if r.loop is not None:
        gap = "they do not meet" if r.loop.gap is None else f"{r.loop.gap:.3f} mm"
        facts += [("gone round", f"{r.loop.sectors} of {SECTORS} parts"), ("end on beginning", gap)]
    return Debrief(exercise.id, session.seconds, _score(exercise, r), tuple(facts), tuple(_advice(r)))


def _record(exercise: Exercise, session: CaptureSession, body: Body | None) -> _Record:
    patches = [p for p in session.patches if p.frames]
    frames = max(sum(p.frames for p in patches), 1)
    faces = exercise.faces(session.planner)
    among = _cells_of(session, faces)
    technique, stray = _technique(session, body)
    lost = tuple(h.why or "too few targets were in view" for h in session.happenings if h.word in ("lost", "hidden"))
    return _Record(
        held=sum(p.held for p in patches) / frames, tracked=sum(p.tracked for p in patches) / frames, dark=sum(p.dark for p in patches) / frames,
        covered=session.coverage.share(Seen.ENOUGH, among), once=session.coverage.share(Seen.ONE_PASS, among), wanted=_wanted(session, faces),
        lost=lost, jumps=sum(h.word == "jump" for h in session.happenings), technique=technique, stray=stray,
        closing=closing_error(session, body), loop=loop_of(session) if exercise.aim == "loop" else None, missing=next(iter(_missing(session, among)), ""),
    )  # fmt: skip


def _wanted(session: CaptureSession, faces: tuple[int, ...]) -> float:
    """Share that the plan expects of some faces, or of all that is measured."""
    planner = session.planner
    if not faces or not planner.plan.is_tracked:
        return max(session.goal, 1e-9)
    return max(expected_coverage(planner.ground(), session.poses.holds, planner.blind(), faces), 1e-9)


def _advice(r: _Record) -> Iterator[str]:
    """What to do differently."""
    if r.held < HELD_GOAL:
        yield "Watch the needle: noise grows with the square of the distance, and outside the window there are no points."
    if r.lost:
        yield f"Tracking was lost because {r.lost[0]}. Stick targets there, or come in from where more are seen."
    if r.jumps:
        yield "A jump spoils a whole patch: never scan on with three targets in view."
    if r.dark > 0.25:
        yield "The light was wrong for a good part of the time: change exposure or mode, or lean the scanner away from the glare."
    if r.covered < COVERED_GOAL * r.wanted:
        where = f", most of it {r.missing}" if r.missing else ""
        yield f"{100 * (1 - r.covered):.0f} % is missing or thin{where}: follow the arrow until it goes away."
    if r.stray > 0.05:
        yield f"{100 * r.stray:.0f} % of the points lie where the made part is not: that is how it was scanned, not the part."
    if r.loop is not None and not r.loop.is_round:
        yield "You did not come back over where you began, all the way round: only then does anyone see whether it closes."
    if max(r.closing or 0.0, (r.loop.gap or 0.0) if r.loop is not None else 0.0) > LOOP_LIMIT:
        yield "The loop does not close: keep more known targets in view while new ones come in, or measure the targets by photos first."


def _cells_of(session: CaptureSession, faces: tuple[int, ...]) -> Bools | None:
    return np.isin(session.cells.faces, faces) if faces else None


def _missing(session: CaptureSession, among: Bools | None) -> list[str]:
    faces = session.coverage.missing_by_face()
    wanted = set(map(int, session.cells.faces[among])) if among is not None else set(faces)
    return [name_of(session.planner, face) for face in faces if face in wanted]


def _technique(session: CaptureSession, body: Body | None) -> tuple[float | None, float]:
    """RMS of the points off the part as it was made, after both are laid onto each other, and the share far off."""
    if body is None or session.map.to_part is None or not session.good:
        return None, 0.0
    points = np.concatenate([places_of(p.store.all())[:: max(1, len(p.store) // 20_000)] for p in session.good])
    moved = truth_motion(session, body)
    places = session.map.to_part.apply(points) if moved is None else moved.apply(points)
    found = body.mesh.tree.query(places, limit=NEAR_SURFACE)
    normals = body.mesh.triangle_normals[np.maximum(found.triangles, 0)]
    feet = np.einsum("nk,nkd->nd", found.weights, body.mesh.corners[np.maximum(found.triangles, 0)])
    lift = body.relief(feet) if body.relief is not None else np.zeros(len(feet))
    off = np.einsum("nd,nd->n", places - feet, normals) - lift
    off = off[found.found]
    if len(off) < 100:
        return None, 0.0
    noise = session.mode.noise
    return float(np.sqrt(np.mean(np.clip(off, -1, 1) ** 2))), float((np.abs(off) > TECHNIQUE * noise * 2).mean())


def truth_motion(session: CaptureSession, body: Body) -> RigidTransform | None:
    """From the map to the made part by the targets' true places, which only a stand-in knows."""
    from juxtum.geometry.registration import rigid_from_pairs

    handles = [k for k in session.map.targets if k < len(body.targets)]
    if len(handles) < 4:
        return None
    return rigid_from_pairs(np.array([session.map.targets[k] for k in handles]), body.target_places[handles])


def closing_error(session: CaptureSession, body: Body | None) -> float | None:
    """How far the map's targets are from their true places at worst, mm: what a loop leaves open."""
    if body is None:
        return None
    motion = truth_motion(session, body)
    if motion is None:
        return None
    handles = [k for k in session.map.targets if k < len(body.targets)]
    moved = motion.apply(np.array([session.map.targets[k] for k in handles]))
    return float(np.linalg.norm(moved - body.target_places[handles], axis=1).max())


def _score(exercise: Exercise, r: _Record) -> float:
    """What the exercise is about counts for half, the rest for the other half; a jump costs twenty."""
    covered = min(r.covered / r.wanted, 1.0)
    shares = {"tracking": r.tracked, "light": (1 - r.dark) * covered, "loop": _closed(r), "held": r.held}
    rest = float(np.mean([covered, r.held, r.tracked, 1 - r.dark]))
    return float(np.clip(100 * (0.5 * shares.get(exercise.aim, covered) + 0.5 * rest) - 20 * r.jumps, 0, 100))


def _closed(r: _Record) -> float:
    """How well the loop closes, 0 to 1: gone round, come back, and both ends one on the other."""
    if r.loop is None or not r.loop.is_round:
        return 0.0 if r.loop is None else 0.3 * r.loop.sectors / SECTORS
    worst = max(r.loop.gap or 0.0, r.closing or 0.0)
    return float(np.clip(2 - worst / LOOP_LIMIT, 0, 1))


def debrief_bars(planner: Planner, ends: tuple[tuple[float, ...], ...], seconds: float) -> Debrief:
    """Two bars as a learner laid them, against those of the plan: direction, span, and what becomes of the lengths.

    Parameters
    ----------
    ends : tuple of six numbers each
        Both ends of each bar, part coordinates.
    """
    from juxtum.plan.photos.bundle import predict
    from juxtum.plan.photos.photos import NetworkWish, network_of

    plan = planner.photos()
    placed = np.array(ends, dtype=np.float64).reshape(-1, 2, 3)
    first = len(plan.points) - 2 * len(plan.bars)
    points = np.array(plan.points)
    for k in range(min(len(placed), len(plan.bars))):
        middle, along = placed[k].mean(0), placed[k][1] - placed[k][0]
        along = along / max(float(np.linalg.norm(along)), 1e-9) * plan.bars[k].length / 2
        points[first + 2 * k], points[first + 2 * k + 1] = middle - along, middle + along
    network = network_of(
        points,
        plan.views,
        plan.seen,
        plan.bars,
        plan.camera,
        NetworkWish(len(plan.bars), planner.plan.self_calibration),
    )
    mine, theirs = predict(network), plan.prediction
    i, j = _farthest(points[:first])
    u, best = 2 * mine.length_uncertainty(i, j), 2 * theirs.length_uncertainty(i, j)
    directions = [(p[1] - p[0]) / max(float(np.linalg.norm(p[1] - p[0])), 1e-9) for p in placed[:2]]
    angle = (
        float(np.degrees(np.arccos(np.clip(abs(directions[0] @ directions[1]), 0, 1)))) if len(directions) > 1 else 0.0
    )
    facts = (
        ("U of the longest", f"{u:.3f}, planned {best:.3f} mm"),
        ("angle between the bars", f"{angle:.0f}\u00b0"),
        ("time", f"{seconds:.0f} s"),
    )
    advice = []
    if angle < 20:
        advice.append("Let the bars point in different directions: two alike say the same thing twice.")
    if u > 1.15 * best:
        advice.append("Lay them along the longest way and at both ends, so that they hold the whole network.")
    score = float(max(0.0, min(100 * best / max(u, 1e-9), 100) - (20 if angle < 20 else 0)))
    return Debrief("bars", seconds, score, facts, tuple(advice))


def _farthest(points: np.ndarray[tuple[int, int], np.dtype[np.float64]]) -> tuple[int, int]:
    start = int(np.argmax(np.linalg.norm(points - points.mean(0), axis=1)))
    return start, int(np.argmax(np.linalg.norm(points - points[start], axis=1)))
