"""Plans as plain documents for other programs: `juxtum-plan-1` (docs/plan-format.md)."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Any

import numpy as np

from juxtum.plan.blind import BlindSpot, methods
from juxtum.plan.cost.spacing import SpacingPrice, spacing_needs
from juxtum.plan.photos.photos import PhotoPlan
from juxtum.plan.photos.walk import check_walk, incidences, target_table
from juxtum.plan.photos.worth import fits_one_field, photo_words
from juxtum.plan.planner import EffortPlan, Planner, tracked_coverage
from juxtum.plan.stations import StationPlan
from juxtum.plan.suitability import ChainChart, SuitabilityTable
from juxtum.plan.targets.assess import Assessment, weakest_place
from juxtum.plan.targets.ways import WayResult, way_of
from juxtum.plan.tray import TrayPlan
from juxtum.plan.turntable import TurntablePlan

SCHEMA = "juxtum-plan-1"


def plan_head(what: str, planner: Planner, part: str) -> dict[str, Any]:
    """What all plan documents begin with."""
    return {
        "schema": SCHEMA,
        "what": what,
        "part": part,
        "instrument": planner.model.name,
        "mode": planner.mode.name,
        "stance": str(planner.plan.stance),
        "notes": list(notes(planner)),
    }


def notes(planner: Planner) -> tuple[str, ...]:
    """What makes the plan less certain: an open nominal lets lines of sight through and has no mass."""
    found = [
        f"{problem}: lines of sight may pass through its gaps, and its mass is not known"
        for problem in planner.nominal.problems
    ]
    if planner.task.material is None and math.isfinite(planner.task.mass(planner.nominal)):
        found.append(f"the material is not chosen: the mass counts {planner.task.density:g} g/cm3")
    return tuple(found)


def suitability_document(table: SuitabilityTable, chart: ChainChart, planner: Planner) -> dict[str, Any]:
    """Every characteristic against every chain, the chart, and the advice on spacing."""
    rows = [
        {
            "characteristic": r.aim.id, "title": r.aim.title, "instrument": r.instrument, "chain": r.chain, "mode": r.mode,
            "length": _n(r.length, 1), "uncertainty": _n(r.expanded), "ratio": _n(r.ratio, 2), "verdict": str(r.verdict),
            "reason": r.reason, "minutes": _n(r.minutes, 1), "cost": _n(r.cost, 1),
            "budget": [{"source": c.source, "standard": _n(c.standard, 5)} for c in r.budget.contributions],
        }
        for r in table.rows
    ]  # fmt: skip
    cheapest = {aim.id: table.cheapest(aim.id) for aim in table.task.aims}
    crossings = [
        {"first": c.first, "second": c.second, "length": _n(c.length, 1), "error": _n(c.error)} for c in chart.crossings
    ]
    return {
        "rows": rows,
        "cheapest": {
            name: {"instrument": r.instrument, "chain": r.chain} if r else None for name, r in cheapest.items()
        },
        "chart": {
            "chains": [
                {"name": n, "a": c.a, "b": c.b, "repeatability": c.repeatability, "longest": c.longest}
                for n, c in zip(chart.names, chart.chains, strict=True)
            ],
            "crossings": crossings,
            "sentences": list(chart.sentences(table)),
        },
        "spacing": [
            {"characteristic": s.aim, "spacing": _n(s.spacing), "reason": s.reason}
            for s in spacing_needs(planner.nominal, planner.task)
        ],
        "prices": [price_document(p) for p in planner.prices()],
    }


def price_document(price: SpacingPrice) -> dict[str, Any]:
    """One way to choose spacings."""
    return {
        "title": price.title, "base": price.base, "fine": price.fine, "refined_faces": list(price.refined),
        "minutes": _n(price.effort.capture, 1), "points": round(price.effort.points), "memory": round(price.effort.peak),
        "serves_every_feature": price.serves, "fits_memory": price.fits,
    }  # fmt: skip


def targets_document(planner: Planner, a: Assessment, ways: Iterable[WayResult]) -> dict[str, Any]:
    """Targets, tracking, weakest zone, ways to go."""
    ground = planner.ground()
    suggestion, place = None, weakest_place(ground, a)
    if a.suggestion is not None:
        t = a.suggestion
        suggestion = {"place": _v(t.place), "normal": _v(t.normal, 4), "face": t.face, "poses_gained": a.gain}
    return {
        "rules": rules_document(planner),
        "targets": target_rows(a),
        "poses": len(a.tracking.counts),
        "share_tracked": _n(a.tracking.share, 4),
        "share_seen": _n(a.share, 4),
        "untied_poses": a.untied,
        "indispensable": list(a.indispensable),
        "coverage_tracked": _n(tracked_coverage(ground, a), 4),
        "worst_pose": a.tracking.worst,
        "weakest_zone": None if place is None else {"place": _v(place), "words": a.weakest_words},
        "patterns": list(a.pattern_problems),
        "suggestion": suggestion,
        "way": str(way_of(ground)),
        "equipment": [{"id": e.id, "name": e.name, "kind": str(e.kind)} for e in planner.plan.equipment],
        "ways": [
            {
                "way": str(s.way), "targets": len(s.targets), "equipment": [e.id for e in s.equipment], "share_seen": _n(s.share, 4),
                "worst_pose": s.worst, "minutes": _n(s.minutes, 1), "expanded_uncertainty": _n(s.expanded, 4),
                "possible": s.is_possible, "words": s.words,
            }
            for s in ways
        ],
    }  # fmt: skip


def rules_document(planner: Planner) -> dict[str, Any]:
    """The rules that targets keep."""
    r = planner.rules()
    return {
        "diameter": r.diameter, "from_edges": r.from_edges * r.diameter, "spacing": list(r.spacing), "flatness": r.flatness,
        "congruence": r.congruence, "keep_clear_faces": list(r.keep_clear),
    }  # fmt: skip


def target_rows(a: Assessment) -> list[dict[str, Any]]:
    """One row a target, in the order of sticking."""
    return [
        {
            "number": k + 1, "place": _v(t.place), "normal": _v(t.normal, 4), "face": t.face, "from_edge": _n(t.edge, 1),
            "to_nearest": _n(f.nearest, 1), "seen_by": f.seen_by, "poses_lost_without": f.lost, "share_lost_without": _n(f.cost, 4),
            "locked": t.is_locked, "problems": list(f.problems),
        }
        for k, (t, f) in enumerate(zip(a.targets, a.facts, strict=True))
    ]  # fmt: skip


def photos_document(planner: Planner, p: PhotoPlan) -> dict[str, Any]:
    """The network."""
    angles = incidences(p.points, p.normals, p.views.eyes)
    walk = check_walk(p.camera, p.seen, p.codes, angles)
    table = target_table(p.points, p.views.eyes, p.seen)
    return {
        "targets": [
            {
                "number": t.number, "place": _v(p.points[t.number - 1]), "coded": t.number <= p.codes, "rays": t.rays,
                "angle": _n(t.angle, 1), "enough": t.is_enough,
            }
            for t in table
        ],
        "bars": [
            {"name": b.bar.name, "ends": [_v(e) for e in b.ends], "length": _n(b.length, 4), "standard_uncertainty": _n(b.uncertainty, 5)}
            for b in p.bars
        ],
        "photos": [
            {
                "number": k + 1, "place": _v(p.views.eyes[k]), "direction": _v(p.views.axes[k], 4), "rolled": bool(p.rolled[k]),
                "targets": w.targets, "codes": w.codes, "words": w.words,
            }
            for k, w in enumerate(walk)
        ],
        "needed": not fits_one_field(planner.nominal, planner.mode),
        "wanted": _n(p.wanted), "reached": p.holds, "words": photo_words(p, planner.nominal, planner.model, planner.mode),
        "minutes": _n(p.minutes, 1),
        "redundancy": p.prediction.redundancy,
        "length_error": {"a": _n(p.a), "b": _n(p.b)},
        "forecasts": [{"characteristic": f.aim, "length": _n(f.length, 1), "uncertainty": _n(f.expanded)} for f in p.forecasts],
        "variants": [{"title": v.title, "uncertainty": _n(v.expanded), "ratio": _n(v.ratio, 2)} for v in p.variants],
    }  # fmt: skip


def stations_document(p: StationPlan) -> dict[str, Any]:
    """Tracker stations."""
    return {
        "stations": [
            {"number": k + 1, "place": _v(s.place), "direction": _v(s.axis, 4), "poses": s.poses}
            for k, s in enumerate(p.stations)
        ],
        "share_served": _n(p.share, 4),
        "fewest_proven": p.is_proven,
        "references": [_v(r) for r in p.references],
        "ties": [{"stations": [a, b], "shared": n} for a, b, n in p.ties],
        "range": [_n(p.nearest, 0), _n(p.farthest, 0)],
        "error": {"usual": _n(p.usual_error), "worst": _n(p.worst_error)},
        "shadowed_patches": int(p.shadows.sum()),
        "part_turned": None if p.turns is None else {
            "place": _v(p.turns.place), "direction": _v(p.turns.axis, 4), "degrees": [_n(a, 0) for a in p.turns.degrees],
            "share_served": _n(p.turns.share, 4), "fewest_proven": p.turns.is_proven, "words": p.turns.words,
        },
    }  # fmt: skip


def blind_document(planner: Planner, spots: tuple[BlindSpot, ...]) -> dict[str, Any]:
    """What scanning will not give."""
    return {
        "spots": [
            {
                "cause": str(s.cause), "faces": list(s.faces), "characteristics": list(s.aims), "share": _n(s.share, 3),
                "reason": s.reason, "instead": s.instead, "method": str(s.method),
            }
            for s in spots
        ],
        "methods": {name: str(method) for name, method in methods(planner.task, spots).items()},
    }  # fmt: skip


def turntable_document(p: TurntablePlan) -> dict[str, Any]:
    """Steps and tilts."""
    return {
        "steps": p.steps, "tilts": [list(t) for t in p.tilts], "shots": p.shots, "coverage": _n(p.coverage, 4), "reachable": _n(p.reachable, 4),
        "overlap": _n(p.overlap, 3), "minutes": _n(p.minutes, 1), "warnings": list(p.warnings),
    }  # fmt: skip


def tray_document(p: TrayPlan) -> dict[str, Any]:
    """Parts in the cylinder."""
    assert p.fineness is not None
    return {
        "parts": p.count, "tilt": p.tilt, "rotation": [_v(row, 6) for row in p.rotation], "places": [_v(x) for x in p.places], "size": _v(p.size, 1),
        "gap": p.gap, "minutes_each": _n(p.minutes_each, 2), "minutes_one_by_one": _n(p.minutes_single, 1),
        "path": _n(p.path, 1), "path_as_steel": _n(p.steel, 1), "seen_through": p.is_seen_through, "words": p.words,
        "diameter": _n(p.fineness.diameter, 1), "voxel": _n(p.fineness.voxel), "uncertainty": _n(p.fineness.expanded),
        "ratio": _n(p.fineness.ratio, 2), "left_out": p.left_out,
    }  # fmt: skip


def effort_document(e: EffortPlan) -> dict[str, Any]:
    """Points, memory, minutes, schedule."""
    return {
        "spacing": e.spacing, "points": round(e.effort.points), "memory": {k: round(v) for k, v in e.effort.memory.items()},
        "minutes": {k: _n(v, 2) for k, v in e.effort.minutes.items()}, "machine_memory": round(e.memory), "finest_that_fits": _n(e.finest),
        "prices": [price_document(p) for p in e.prices],
        "schedule": [{"at": x.clock, "minutes": _n(x.minutes, 1), "what": x.what} for x in e.schedule.entries],
        "warnings": list(e.schedule.warnings),
        "pace": None if e.pace is None else {"ratio": _n(e.pace.ratio, 3), "captures": e.pace.captures},
    }  # fmt: skip


def _n(value: float, digits: int = 4) -> float | None:
    return round(float(value), digits) if math.isfinite(value) else None


def _v(vector: Any, digits: int = 3) -> list[float]:
    return [round(float(x), digits) + 0.0 for x in np.asarray(vector)]
