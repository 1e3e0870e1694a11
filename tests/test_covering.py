"""The fewest rows that serve enough: as few as going through every choice gives, and proven whatever the clock says."""

from __future__ import annotations

from itertools import combinations

import numpy as np
import pytest

from juxtum.plan.covering import fewest_rows

pytestmark = pytest.mark.quick


@pytest.mark.parametrize("seed", range(12))
def test_it_is_as_few_as_every_choice_gives(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("juxtum.plan.covering.SECONDS_TO_SOLVE", 1e-3)
    rng = np.random.default_rng(seed)
    seen = rng.random((9, 60)) < rng.uniform(0.2, 0.6)
    needed = int(rng.uniform(0.5, 0.9) * seen.any(0).sum())
    rows, proven = fewest_rows(seen, needed)
    true = next(
        count for count in range(1, 10)
        if any(seen[list(some)].any(0).sum() >= needed for some in combinations(range(9), count))
    )  # fmt: skip
    assert seen[rows].any(0).sum() >= needed and len(set(rows)) == len(rows)
    assert len(rows) == true or (true > 4 and not proven)
    assert proven or true > 4, "what all choices of three tell needs no clock"
