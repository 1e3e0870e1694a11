"""The result as a document for other programs; its schema is in docs/result-format.md."""

from __future__ import annotations

import json
import math
from dataclasses import asdict
from typing import Any

from juxtum.evaluate import CharacteristicResult, Deviation, Reading, Verdict
from juxtum.job import Evaluation, Job

SCHEMA = "juxtum-result-1"


def result_document(job: Job, evaluation: Evaluation) -> dict[str, Any]:
    """Numbers, frames and verdicts of a job; NaN becomes null."""
    alignment = evaluation.alignment
    document = {
        "schema": SCHEMA,
        "units": {"length": "mm", "angle": "degree", "temperature": "degree Celsius"},
        "part": job.brief.part,
        "serial": job.brief.serial,
        "readiness": json.loads(job.readiness.model_dump_json()),
        "nominal": job.nominal.name if job.nominal else None,
        "scan": job.scan.name if job.scan else None,
        "scan_sha256": job.scan.sha256 if job.scan else None,
        "notes": list(evaluation.doubts.notes),
        "alignment": {
            "method": alignment.method,
            "frame": evaluation.frame,
            "matrix": alignment.transform.matrix.tolist(),
            "rms": alignment.rms,
            "used": alignment.used,
            "locked": alignment.locked,
            "notes": list(alignment.notes),
        },
        "deviation": asdict(evaluation.statistics) | _patches(evaluation.deviation),
        "decision": {"rule": str(job.procedure.decide.rule), "guard": job.procedure.decide.guard},
        "characteristics": [_characteristic(c) for c in evaluation.ledger],
        "readings": [_reading(r) for r in evaluation.readings],
    }
    return _clean(document)  # type: ignore[no-any-return]


def _patches(deviation: Deviation) -> dict[str, Any]:
    """Surface that is not drawn, and drawn surface that the scan passes by."""
    return {
        "foreign": [
            {"area": p.area, "place": p.place.tolist(), "nearest": p.nearest, "farthest": p.farthest, "faces": list(p.faces), "grown": p.is_grown}
            for p in deviation.foreign
        ],
        "missing": [{"area": p.area, "place": p.place.tolist(), "faces": list(p.faces)} for p in deviation.passed],
    }


def _characteristic(c: CharacteristicResult) -> dict[str, Any]:
    return {
        "id": c.characteristic.id,
        "title": c.characteristic.title,
        "kind": c.characteristic.kind,
        "faces": list(c.characteristic.faces),
        "nominal": 0.0,
        "upper": c.characteristic.upper,
        "lower": c.characteristic.lower,
        "value": c.value,
        "expanded_uncertainty": c.expanded if c.points else None,
        "k": c.k,
        "probability_conforming": c.probability,
        "verdict": str(c.verdict),
        "reason": c.reason,
        "points": c.points,
        "area_seen": c.area_seen,
        "place": None if c.place is None else c.place.tolist(),
        "budget": [{"source": line.source, "standard_uncertainty": line.standard} for line in c.budget.contributions],
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
    }


def _clean(value: Any) -> Any:
    """Plain numbers, with null for what is not a number."""
    if isinstance(value, dict):
        return {str(k): _clean(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_clean(v) for v in value]
    if isinstance(value, bool | int | str) or value is None:
        return value
    number = float(value)
    return number if math.isfinite(number) else None


def counts(evaluation: Evaluation) -> dict[Verdict, int]:
    """How many characteristics have which verdict."""
    return {v: sum(c.verdict is v for c in evaluation.ledger) for v in Verdict}


def headline(evaluation: Evaluation) -> str:
    """The ledger in one line."""
    number = counts(evaluation)
    total = len(evaluation.ledger)
    if total == 0:
        return "no characteristics yet"
    if number[Verdict.CONFORMS] == total:
        return "all conform" if total > 1 else "conforms"
    parts = []
    if number[Verdict.DOES_NOT_CONFORM]:
        parts.append(f"{number[Verdict.DOES_NOT_CONFORM]} of {total} do not conform")
    if number[Verdict.NOT_DECIDED]:
        parts.append(f"{number[Verdict.NOT_DECIDED]} not decided")
    return ", ".join(parts)
