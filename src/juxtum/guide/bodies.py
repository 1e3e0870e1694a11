"""Words about two bodies beside each other."""

from __future__ import annotations

from juxtum.evaluate.bodies import Clearance, Place
from juxtum.geometry.arrays import Floats
from juxtum.wording import decimals_for

LEAST_SURE = 5e-4
NOTHING = "nothing of it faces the other body"


def gap_facts(found: Clearance) -> list[tuple[str, str]]:
    """Nearest and deepest place with where they are, area and volume; each mean over a small place.

    Examples
    --------
    >>> import numpy as np
    >>> from juxtum.evaluate.bodies import clearance
    >>> from juxtum.geometry import TriangleMesh
    >>> one = TriangleMesh(np.array([[0.0, 0, 0], [9, 0, 0], [0, 9, 0]]), np.array([[0, 2, 1]]))
    >>> other = TriangleMesh(np.array([[-9.0, -9, -0.3], [30, -9, -0.3], [-9, 30, -0.3]]), np.array([[0, 1, 2]]))
    >>> gap_facts(clearance(one, other))[:2]
    [('smallest gap', '0.300 mm'), ('smallest gap at', '0.3, 2.2, 0.0')]
    """
    places = found.places
    if places is None:
        return [("gap", NOTHING)]
    near, far = places
    facts = _place("smallest gap", near) if near.value >= 0 else _place("reaches in by", near)
    facts += _place("largest gap", far) if far.value >= 0 else _place("at least by", far)
    facts.append(("area that faces it", f"{found.facing:.0f} mm\u00b2"))
    if near.value < 0:
        facts += [
            ("area inside it", f"{found.inside:.0f} mm\u00b2"),
            ("volume of both", f"{found.volume:.2f} mm\u00b3"),
        ]
    return [*facts, ("each value", f"mean over {found.patch:.2g} mm"), ("U", "of the data alone")]


def _place(name: str, place: Place) -> list[tuple[str, str]]:
    value, sure = abs(place.value), min(decimals_for(place.expanded), 4)
    # Of bodies without noise it is as good as none.
    words = f"{value:.3f} mm" if place.expanded < LEAST_SURE else f"{value:.{sure}f} \u00b1{place.expanded:.{sure}f} mm"
    return [(name, words), (f"{name.removesuffix(' by')} at", _words(place.where))]


def _words(where: Floats) -> str:
    return ", ".join(f"{x:.1f}" for x in where + 0.0).replace("-", "\u2212")
