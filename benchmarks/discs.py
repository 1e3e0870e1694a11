"""Reference targets found by their shape: how many of sixteen, over height of the sticker and noise, flat and bent, whole and with a blank middle."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from itertools import product
from pathlib import Path

import numpy as np

HEIGHTS, NOISES, BENDS, BLANKS = (0.05, 0.1, 0.15), (0.01, 0.02, 0.03), (np.inf, 60.0), (0.0, 4.5)


def discs() -> Iterator[str]:
    """Share of the targets found within half a millimetre, and what else was taken for one."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    import surfaces
    import test_target_discs as cases
    from juxtum.assemble.finishing import find_discs

    for height, noise in product(HEIGHTS, NOISES):
        found = others = 0
        for bend, blank in product(BENDS, BLANKS):
            cases.HEIGHT, surfaces.NOISE = height, noise
            mesh = surfaces.sheet(cases.discs, bend, cases.shiny(blank) if blank else None)
            off = np.linalg.norm(find_discs(mesh, 8.0).places[:, None] - cases.known(bend), axis=2)
            hits = int((off.min(0, initial=np.inf) < 0.5).sum())
            found, others = found + hits, others + len(off) - hits
        yield f"{height:.2f} mm high, noise {noise:.2f}: {100 * found / 64:.0f} % of 64 found, {others} others"
    surfaces.NOISE = 0.01
    taken = [name for name, lift in cases.NONE.items() if find_discs(surfaces.sheet(lift), 8.0).found]
    yield f"of {len(cases.NONE)} things that are no targets {len(taken)} taken for one {' '.join(taken)}"
