"""Help > Method: formula and reference for the numbers of each station, and the list of keys."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QTextBrowser, QVBoxLayout, QWidget

from juxtum import __version__
from juxtum.desk.action import MENUS, Action
from juxtum.evaluate.kinds import KINDS
from juxtum.guide.findings import Key

METHODS: dict[Key, list[tuple[str, str]]] = {
    Key.BRIEF: [
        *((kind.name[:1].upper() + kind.name[1:], kind.method) for kind in KINDS),
        ("Temperature", "Lengths measured at T are divided by 1 + \u03b1 (T \u2212 20 \u00b0C). Uncertainty from u(\u03b1) L |T \u2212 20| and \u03b1 L u(T)."),
    ],
    Key.PLAN: [
        ("Is the method good enough?", "Ratio of the tolerance's width to 2U (to U where the value is twice what lies off, as a position is), with the same budget as the measurement will have: 5 and more is good, 3 to 5 usable. The length error a + b L counts as rectangular; how well one place comes back when it is measured anew, the repeatability, is a figure of its own."),
        ("Poses", "A shell of viewpoints at the best stand-off over every patch to be measured, tilted where something is in the way. A target is seen inside the field, under less than 55°, with a clear line of sight."),
        ("Tracking", "A pose tracks with four targets or more whose rigid fit places the spot looked at within the instrument's limit: σ² (I/n + [r]x S⁻¹ [r]xᵀ); targets in one line do not."),
        ("Placing", "Greedy by gain in tracked poses, improved by exchange, without the superfluous. Clear of edges, of measured and of datum faces; no two triangles that a pose may see agree within 0.3 mm."),
        ("Sliding", "Motions that leave the surface on itself: small eigenvalues of the point-to-surface normal matrix (Gelfand and others, 2003)."),
        ("Bars and photos", "Bundle adjustment in a free network, targets eliminated (Schur complement); U of a length from the covariance of its two ends (Triggs and others, 2000)."),
        ("Stations", "Set cover over places round the part, solved as an integer program; error a + b times the range."),
        ("Effort", "Points = area × 1.6 / spacing²; minutes = path / speed or points / rate; memory by stage. Spacing is not accuracy."),
    ],
    Key.READY: [
        ("Soaking", "A lumped body in still air: t = τ ln(ΔT / 0.5 K), τ = m c / (h A) with c = 500 J/(kg K) and h = 9 W/(m² K)."),
        ("A coat", "Corrected by its thickness on each coated surface; u is half its spread divided by √3 (GUM 4.3.7)."),
        ("Calibration", "The board's 35 dots in nine poses. Scale is the ratio of their spreads (Umeyama, 1991); what is left after it, over all poses, is held against twice the scanner's noise."),
        ("Check", "A certified bar in seven places and directions; the largest errors of size and length against the instrument's a + b L and the bar's own U."),
    ],
    Key.CAPTURE: [
        ("Pose", "Weighted rigid registration of the targets in view to the map; covariance 1/Σw for the shift and the inverse of Σw(|d|² I − d dᵀ) for the turn. Below the bare minimum there is no pose and no point."),
        ("Coverage", "The measured surface in cells; a cell is enough when it has nine tenths of the points that the planned spacing asks for, passed once from three tenths."),
        ("Noise", "The mode's noise at the best stand-off, growing with the square of the distance and with 1/cos of the incidence."),
        ("Surface", "Signed distances of the points on a grid (VTK), their zero level, each vertex then put onto the plane of its neighbouring points."),
        ("Probing", "The middle of the tip less its radius along the planned normal; a hole is a circle of least squares in the plane probed first."),
    ],
    Key.ASSEMBLE: [
        ("The table", "The largest flat region that has everything else on one side and reaches beyond the outline of what stands on it. Trimming keeps what lies more than the offset above it."),
        ("Pieces", "Triangles that share points belong to one piece; pieces are ranked by area."),
    ],
    Key.ALIGN: [
        ("Rough", "24 poses from the principal axes, then 140 evenly spread turns if none fits; each drawn in by nearest points, scored by the share of the scan near the nominal."),
        ("Best fit", "Point-to-surface Gauss-Newton on the exact faces, the worst 2 % left out, Huber weights; ends when no point moves by more than 1e-6 mm."),
        ("Datum system", "ISO 5459: each datum locks what earlier ones left free. Datums are associated by least squares to the scan points nearest to their faces, clear of edges."),
        ("Pairs", "Least squares without scale (Kabsch 1976)."),
    ],
    Key.MEASURE: [
        ("Deviation", "Signed distance from the nominal to the point along the outward normal, on the exact CAD face: + is proud, \u2212 is shy. Beyond the search distance, or more than 60\u00b0 off the nominal's normal, there is no deviation."),
        ("Profile value", "Deviations are averaged over patches of 2 mm (less on parts under 40 mm), clear of sharp edges, roundings and the ends of the scan; the value is the extreme of these means on its side."),
        ("Uncertainty", "Instrument (a + b L) / \u221a3, certificate U / k, sampling, alignment (its covariance carried to the place), temperature; root of the sum of squares; k = 2, and more where few data speak (JCGM 100, G.4) or where the value is a short offset of an axis (2.49: it may lie off either way across)."),
        ("Decision", "Simple: on which side of the limit. Guarded: conforms with at least U to spare, does not conform with more than U beyond, otherwise not decided (ISO 14253-1). Probability from the normal distribution (JCGM 106)."),
        ("Statistics", "Weighted by the area that each point stands for."),
    ],
    Key.REPORT: [("Digits", "U to two significant digits, the value to the same place.")],
}  # fmt: skip


def method_text(key: Key) -> str:
    """The page of a station, as HTML."""
    parts = [f"<h2>Method: {key.caption}</h2>"]
    parts += [f"<p><b>{escape(name)}</b><br>{escape(text)}</p>" for name, text in METHODS[key]]
    return "".join(parts)


def keys_text(actions: Sequence[Action]) -> str:
    """All keys, by menu, as HTML."""
    parts = [
        "<h2>Keys</h2>",
        "<p>Left drag turns, right drag or Shift shifts, the wheel zooms, a double click sets the place to turn about.</p>",
    ]
    for menu in MENUS:
        rows = "".join(
            f"<tr><td width='130'><b>{escape(a.key)}</b></td><td>{escape(a.title)}</td></tr>"
            for a in actions
            if a.menu.startswith(menu + "/") and a.key
        )
        parts.append(f"<h3>{menu}</h3><table>{rows}</table>")
    return "".join(parts)


def about_text() -> str:
    """Version, licence and the open works inside."""
    return (
        f"<h2>Juxtum {__version__}</h2><p>Puts a manufactured part beside its drawing.</p>"
        "<p>Free software under the GNU General Public License, version 3 or later.</p>"
        "<p>Words are set in Atkinson Hyperlegible (SIL Open Font License); icons are from Lucide (ISC).</p>"
    )


class Page(QDialog):
    """A page of help."""

    def __init__(self, parent: QWidget, title: str, html: str) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setAccessibleName(title)
        layout = QVBoxLayout(self)
        self.browser = QTextBrowser()
        self.browser.setHtml(html)
        layout.addWidget(self.browser)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.close)
        layout.addWidget(buttons)
        self.resize(560, 520)
