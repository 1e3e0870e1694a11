"""Scripted runs of the devices that are not moved by a hand along the surface."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from juxtum.align.targets import match_targets
from juxtum.capture.live.points import write_points
from juxtum.capture.live.targetmap import BY_HAND
from juxtum.capture.ways.photowalk import begin_walk, walk_along
from juxtum.capture.ways.probing import ProbedFeature, ProbeTask, evaluate, task_for
from juxtum.capture.ways.touching import ProbeLie, touched_face, touches_document, write_touches
from juxtum.capture.ways.traying import scan_tray
from juxtum.devices.kinds import DeviceKind, model_for
from juxtum.devices.link import Link, ask
from juxtum.devices.protocol import DeviceError, Message
from juxtum.errors import InputError
from juxtum.exchange.writing import write_atomically
from juxtum.instruments.stated import Instrument
from juxtum.plan.blind import Method
from juxtum.plan.planner import Planner
from juxtum.progress import Progress

PATIENCE = 120.0
TOUCHES = "touches.json"
Answer = tuple[dict[str, Any], list[str], bool]


def photo_run(planner: Planner, link: Link, out: Path, progress: Progress) -> Answer:
    """All planned photos, adjusted; the map of targets."""
    plan = planner.photos(progress=progress.part(0, 0.3))
    walk = begin_walk(plan, link)
    walk_along(walk, link, progress=progress.part(0.3, 0.8))
    progress.phase("adjusting the photos", 0.85)
    adjusted, usable = walk.adjust()
    enough = sum(v.is_enough for v in walk.verdicts)
    rows = [
        {"target": int(t) + 1, "place": [round(float(v), 5) for v in p]}
        for t, p in zip(np.flatnonzero(usable), adjusted.points, strict=True)
    ]
    lines = [
        f"{len(walk.photos)} photos, {enough} of them enough by themselves; {len(rows)} targets, RMS {adjusted.rms:.2f} of the noise"
    ]
    document = {
        "schema": "juxtum-photo-map-1", "photos": [v.words for v in walk.verdicts], "rms": round(adjusted.rms, 4),
        "redundancy": adjusted.redundancy, "focal": round(adjusted.lens.focal, 5), "targets": rows,
    }  # fmt: skip
    return document, lines, bool(usable.all())


def probe_run(planner: Planner, link: Link, out: Path, progress: Progress) -> Answer:
    """Every feature that the plan says is to be probed."""
    about = ask(link, Message("hello", {"version": 1}), "about")
    tip = about.number("tip_radius")
    lie = located(planner, ask(link, Message("targets?"), "targets"))
    faces = [(f, a.title) for spot in planner.blind(progress.part(0, 0.3)) if spot.method is Method.PROBE for f in spot.faces
             for a in planner.task.aims if f in a.faces]  # fmt: skip
    if not faces:
        raise InputError(
            "the plan has nothing to probe", "probing", "Scan it; or name thin or deep features as characteristics"
        )
    features, lines, kept, model = [], [], [], model_for(DeviceKind.PROBE, planner)
    instrument = model.as_instrument(model.chain())
    for face, title in dict(faces).items():
        task = task_for(planner.nominal, face, title)
        middles = []
        for point in task.points:
            request = {"from": [float(v) for v in point.start], "direction": [float(v) for v in -point.normal]}
            contact = ask(link, Message("touch", request), "contact")
            middles.append(lie.to_part.apply(contact.vector("middle")[None])[0])
        kept.append(touched_face(task, middles))
        entry, words = _probed(face, task, evaluate(task, middles, tip), instrument)
        features.append(entry)
        lines.append(words)
    document = touches_document(kept, model, tip, lie, is_captured=False)
    write_touches(out / TOUCHES, document)
    lines.append(f"written for inspect --touches: {TOUCHES}")
    return (
        {"schema": "juxtum-probed-1", "tip_radius": round(tip, 5), "features": features, "file": TOUCHES},
        lines,
        True,
    )


def _probed(face: int, task: ProbeTask, found: ProbedFeature, instrument: Instrument) -> tuple[dict[str, Any], str]:
    """A feature as the document has it, and in words."""
    entry: dict[str, Any] = {
        "feature": task.name, "face": face, "touches": len(found.points), "distances": [round(float(d), 4) for d in found.distances],
    }  # fmt: skip
    if found.circle is None or task.hole is None:
        return entry, f"{task.name}: largest {np.abs(found.distances).max():.3f} mm from the nominal"
    diameter = 2 * found.circle.feature.radius
    entry |= {
        "diameter": round(diameter, 4), "centre": [round(float(v), 4) for v in found.circle.feature.point],
        "diameter_u": round(found.diameter_u(instrument), 4), "nominal_diameter": round(task.hole.diameter, 4),
    }  # fmt: skip
    return entry, f"{task.name}: \u00d8{diameter:.3f} mm, nominal \u00d8{task.hole.diameter:.3f} mm"


def located(planner: Planner, message: Message) -> ProbeLie:
    """Where the part is, from the targets that the probe's tracker sees."""
    planned = np.array([t.place for t in planner.plan.placed]).reshape(-1, 3)
    seen = message.table("targets", 4)[:, 1:]
    match = match_targets(seen, planned, BY_HAND)
    if match is None:
        raise DeviceError("the planned targets are not recognised", "probe", "Plan and stick targets first")
    return ProbeLie(match.transform, seen, match.rms / float(np.sqrt(len(match.pairs))))


def tray_run(planner: Planner, link: Link, out: Path, progress: Progress) -> Answer:
    """One scan of a tray as one cloud."""
    scan = scan_tray(link, progress)
    write_atomically(out / "tray.ply", lambda path: write_points(path, scan.points))
    lines = [f"{scan.parts} parts in one scan, {len(scan.points)} points"]
    return (
        {
            "schema": "juxtum-tray-1",
            "parts": scan.parts,
            "points": len(scan.points),
            "spacing": scan.spacing,
            "file": "tray.ply",
        },
        lines,
        True,
    )


RUNS: dict[DeviceKind, Callable[[Planner, Link, Path, Progress], Answer]] = {
    DeviceKind.CAMERA: photo_run, DeviceKind.PROBE: probe_run, DeviceKind.CABINET: tray_run,
}  # fmt: skip
