"""Names and figures of scan, alignment and map, as the worksheets list them."""

from __future__ import annotations

from juxtum.evaluate.foreign import ForeignPatch, PassedPatch
from juxtum.geometry import TriangleMesh
from juxtum.geometry.arrays import Floats
from juxtum.geometry.mesh import Scan
from juxtum.guide.known import Known
from juxtum.wording import percent, signed


def loose_pieces(d: Known) -> int:
    """Pieces of the scan besides the largest."""
    return 0 if d.pieces is None else len(d.pieces.areas) - 1


def alignment_facts(d: Known) -> list[tuple[str, str]]:
    """Numbers of the alignment in force."""
    if d.evaluation is None:
        return []
    a = d.evaluation.alignment
    share = float(d.evaluation.deviation.found.mean())
    return [
        ("method", a.method),
        ("RMS", f"{a.rms:.4f} mm"),
        ("points used", thousands(a.used)),
        ("scan near nominal", percent(share)),
    ]


def scan_facts(d: Known) -> list[tuple[str, str]]:
    """Numbers of the scan as it is now."""
    if d.scan is None:
        return []
    facts = facts_of(d.scan)
    if d.pieces is not None:
        facts.append(("fragments", thousands(len(d.pieces.areas))))
    return facts


def facts_of(scan: Scan) -> list[tuple[str, str]]:
    """Numbers of a scan."""
    facts = [("points", thousands(len(scan.points))), ("spacing", f"{scan.spacing:.2f} mm")]
    if isinstance(scan, TriangleMesh):
        facts += [("triangles", thousands(len(scan.triangles))), ("area", f"{thousands(round(scan.area))} mm\u00b2")]
    return facts


def map_facts(d: Known) -> list[tuple[str, str]]:
    """Statistics of the map."""
    if d.evaluation is None:
        return []
    s = d.evaluation.statistics
    return [
        ("mean", signed(s.mean, 4)), ("standard deviation", f"{s.sd:.4f}"), ("RMS", f"{s.rms:.4f}"),
        ("smallest, largest", f"{signed(s.min)}  {signed(s.max)}"),
        ("95 % of area between", f"{signed(s.percentiles['2.5'])}  {signed(s.percentiles['97.5'])}"),
        ("within the map's limits", percent(s.within_tolerance)), ("area seen", percent(s.area_seen)),
        ("outliers, left out", thousands(s.outliers)),
    ]  # fmt: skip


MOST_NUMBERED = 6
"""So many doubtful places are named on the worksheet and pinned on the stage; the report has them all."""


def doubtful_places(d: Known) -> list[Floats]:
    """Where surface is that is not drawn, or is missing, largest first."""
    if d.evaluation is None:
        return []
    deviation = d.evaluation.deviation
    patches: list[ForeignPatch | PassedPatch] = [*deviation.foreign, *deviation.passed]
    patches.sort(key=lambda p: -p.area)
    return [p.place for p in patches[:MOST_NUMBERED]]


def numbered_warnings(d: Known) -> list[str]:
    """Notes, then the doubtful places with the numbers of their pins."""
    if d.evaluation is None:
        return []
    places = d.evaluation.deviation.doubts_about(())
    words = [_sentence(note) for note in d.evaluation.doubts.notes]
    words += [f"{number}  {_sentence(text)}" for number, text in enumerate(places[:MOST_NUMBERED], 1)]
    left = len(places) - MOST_NUMBERED
    if left > 0:
        words.append(
            "One smaller place is in the report." if left == 1 else f"{left} smaller places are in the report."
        )
    return words


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:] + "."


def short(text: str, longest: int = 28) -> str:
    """A text cut in its middle to a length."""
    half = (longest - 1) // 2
    return text if len(text) <= longest else f"{text[:half]}\u2026{text[-half:]}"


def thousands(number: int) -> str:
    """A count with thin spaces.

    Examples
    --------
    >>> thousands(1234567)
    '1\u202f234\u202f567'
    """
    return f"{number:,}".replace(",", "\u202f")
