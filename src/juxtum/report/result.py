"""The result as a document for other programs; its schema is in docs/result-format.md."""

from __future__ import annotations

import json
import math
from dataclasses import asdict
from typing import Any

from juxtum.evaluate import Deviation, LineResult, Reading
from juxtum.evaluate.quantity import SideMeasured
from juxtum.evaluate.readings import standing
from juxtum.evaluate.simulated import Simulated
from juxtum.job import Evaluation, Job
from juxtum.job.joins import measured_title
from juxtum.job.touching import touches_in
from juxtum.report.features import feature_document
from juxtum.report.sections import section_document
from juxtum.report.walls import walls_document

SCHEMA = "juxtum-result-2"


def result_document(job: Job, evaluation: Evaluation) -> dict[str, Any]:
    """Numbers, alignment and verdicts of a job; NaN becomes null."""
    alignment = evaluation.alignment
    document = {
        "schema": SCHEMA,
        "units": {"length": "mm", "angle": "degree", "temperature": "degree Celsius"},
        "part": job.brief.part,
        "serial": job.brief.serial,
        "readiness": json.loads(job.readiness.model_dump_json()),
        "nominal": job.nominal.name if job.nominal else None,
        "scan": measured_title(job) or None,
        "scan_sha256": job.scan.sha256 if job.scan else None,
        "scans": [{"file": file.name, "sha256": file.sha256} for file in job.measured],
        "touches": [{"file": held.file.name, "sha256": held.file.sha256} for held in touches_in(job)],
        "notes": list(evaluation.doubts.notes),
        "alignment": {
            "method": alignment.method,
            "name": evaluation.name,
            "frame": evaluation.name,
            "matrix": alignment.transform.matrix.tolist(),
            "rms": alignment.rms,
            "used": alignment.used,
            "locked": alignment.locked,
            "notes": list(alignment.notes),
            "alternatives": [other.matrix.tolist() for other in alignment.alternatives],
        },
        "deviation": asdict(evaluation.statistics) | _patches(evaluation.deviation),
        "decision": {"rule": str(job.procedure.decide.rule), "guard": job.procedure.decide.guard},
        "characteristics": [_characteristic(c) for c in evaluation.ledger],
        "readings": [_reading(r) for r in evaluation.readings],
        "sections": [section_document(s) for s in evaluation.sections],
        "features": [feature_document(f) for f in evaluation.features],
        "walls": walls_document(evaluation.walls),
        "simulated": [_simulated(found) for found in evaluation.simulated],
    }
    return clean(document)  # type: ignore[no-any-return]


def _patches(deviation: Deviation) -> dict[str, Any]:
    """Surface that is not drawn, and drawn surface that the scan passes by."""
    return {
        "foreign": [
            {
                "area": p.area,
                "place": p.place.tolist(),
                "nearest": p.nearest,
                "farthest": p.farthest,
                "faces": list(p.faces),
                "grown": p.is_grown,
            }
            for p in deviation.foreign
        ],
        "missing": [{"area": p.area, "place": p.place.tolist(), "faces": list(p.faces)} for p in deviation.passed],
    }


def _characteristic(c: LineResult) -> dict[str, Any]:
    return {
        "id": c.line.id,
        "title": c.line.title,
        "kind": c.line.kind if c.line.tag == "profile" else c.line.tag,
        "features": c.line.features or "+".join(map(str, c.line.faces)),
        "datums": c.line.datums,
        "faces": list(c.line.faces),
        "nominal": c.line.limits.nominal,
        "upper": None if c.line.limits.upper is None else round(c.line.limits.upper - c.line.limits.nominal, 12),
        "lower": None if c.line.limits.lower is None else round(c.line.limits.lower - c.line.limits.nominal, 12),
        "unit": c.line.limits.unit,
        "value": c.value,
        "deviation": c.value - c.line.limits.nominal,
        "bonus": c.measured.bonus,
        "side": c.side.side,
        "expanded_uncertainty": c.expanded if c.points else None,
        "k": c.k,
        "meaning": c.measured.meaning,
        "sides": [_side(s, c.points) for s in c.measured.sides],
        "least_seen": c.line.least_seen,
        "probability_conforming": c.probability,
        "verdict": str(c.verdict),
        "reason": c.reason,
        "points": c.points,
        "area_seen": c.area_seen,
        "seen": c.area_seen,
        "place": None if c.place is None else c.place.tolist(),
        "budget": [{"source": line.source, "standard_uncertainty": line.standard} for line in c.budget.contributions],
    }


def _simulated(found: Simulated) -> dict[str, Any]:
    return {
        "id": found.line,
        "draws": len(found.values),
        "without_value": found.lost,
        "value": found.value,
        "unit": found.unit,
        "standard_deviation": found.standard,
        "expanded": found.half,
        "budget_expanded": found.budget.expanded,
        "instrument_drawn": found.is_whole,
    }


def _side(s: SideMeasured, points: int) -> dict[str, Any]:
    return {
        "side": s.side,
        "value": s.value,
        "expanded_uncertainty": s.expanded if points else None,
        "place": None if s.place is None else s.place.tolist(),
        "verdict": str(s.verdict),
        "probability_conforming": s.probability,
        "reason": s.reason,
    }


def _reading(r: Reading) -> dict[str, Any]:
    return {
        "label": r.label,
        "place": r.place.tolist(),
        "normal": r.normal.tolist(),
        "face": r.face,
        "deviation": r.deviation,
        "expanded_uncertainty": r.expanded if r.is_seen else None,
        "points": r.count,
        "limits": None if r.limits is None else list(r.limits),
        "verdict": str(standing(r)),
    }


def clean(value: Any) -> Any:
    """Plain numbers, with null for what is not a number."""
    if isinstance(value, dict):
        return {str(k): clean(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [clean(v) for v in value]
    if isinstance(value, bool | int | str) or value is None:
        return value
    number = float(value)
    return number if math.isfinite(number) else None
