"""Makes the patterns of the equipment that ships: targets by chance, well apart, no two triangles alike.

`python -m benchmarks.equipment` writes `src/juxtum/instruments/data/equipment/`; the seeds are here, so that it writes the same again.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from juxtum.geometry.arrays import Floats
from juxtum.plan.targets.places import TriangleBook, confusable

FOLDER = Path(__file__).parents[1] / "src" / "juxtum" / "instruments" / "data" / "equipment"
UNLIKE = 0.6
"""Sides of triangles differ by more than this, mm."""
TRIES = 6000


def pattern(half: tuple[float, float], apart: float, seed: int, *, is_round: bool = False) -> Floats:
    """Places (N, 3) in a rectangle or a disc about the origin, mm."""
    rng = np.random.default_rng(seed)
    book = TriangleBook(np.empty((0, 3)), np.empty((1, 0), dtype=bool), UNLIKE)
    places: list[Floats] = []
    for _ in range(TRIES):
        place = np.array([*rng.uniform(-1, 1, 2) * half, 0.0]).round(1)
        if is_round and np.hypot(*place[:2]) > half[0]:
            continue
        if places and np.linalg.norm(np.array(places) - place, axis=1).min() < apart:
            continue
        if not book.clashes(place, np.ones(1, dtype=bool)):
            book.add(place, np.ones(1, dtype=bool))
            places.append(place)
    return np.array(places)


def block_pattern(width: float, height: float, seed: int) -> list[dict[str, Any]]:
    """Targets on the four sides and the top of a block that stands on z = 0; tried until no two triangles are alike."""
    rng = np.random.default_rng(seed)
    while True:
        made = list(_tried(width, height, rng))
        if not confusable(np.array([t["place"] for t in made]), np.ones((1, len(made)), dtype=bool), UNLIKE):
            return made


def _tried(width: float, height: float, rng: np.random.Generator) -> Iterator[dict[str, Any]]:
    for turn in range(4):
        a = turn * np.pi / 2
        normal, along = np.array([np.cos(a), np.sin(a), 0.0]), np.array([-np.sin(a), np.cos(a), 0.0])
        for level in (0.25, 0.55, 0.85):
            place = width / 2 * normal + rng.uniform(-0.3, 0.3) * width * along
            place[2] = height * (level + rng.uniform(-0.06, 0.06))
            yield {"place": place.round(1).tolist(), "normal": normal.round(6).tolist()}
    yield {"place": [*rng.uniform(-8, 8, 2).round(1).tolist(), height], "normal": [0.0, 0.0, 1.0]}


def flat(places: Floats) -> list[dict[str, Any]]:
    """Targets that face up."""
    return [{"place": place.tolist()} for place in places]


def equipment() -> Iterator[dict[str, Any]]:
    """All that ships."""
    yield {"id": "rp-30", "name": "Reference plate RP-30", "kind": "plate", "size": [300, 300, 15], "carries": 25.0,
           "targets": flat(pattern((138, 138), 38, 3))}  # fmt: skip
    yield {"id": "rp-45", "name": "Reference plate RP-45", "kind": "plate", "size": [450, 360, 20], "carries": 60.0,
           "targets": flat(pattern((213, 168), 42, 5))}  # fmt: skip
    yield {"id": "rp-90", "name": "Reference plate RP-90", "kind": "plate", "size": [900, 600, 30], "carries": 180.0,
           "targets": flat(pattern((435, 285), 68, 7))}  # fmt: skip
    yield {"id": "tt-55", "name": "Turning table TT-55", "kind": "turntable", "size": [550, 550, 90], "carries": 90.0,
           "targets": flat(pattern((262, 262), 46, 11, is_round=True))}  # fmt: skip
    for number, letter in enumerate("abcd"):
        yield {"id": f"cb-{letter}", "name": f"Corner block CB-{letter.upper()}", "kind": "block", "size": [50, 50, 130],
               "targets": block_pattern(50, 130, 13 + number)}  # fmt: skip


def write() -> None:
    """Write every document."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    for number, made in enumerate(equipment(), 1):
        document = {"schema": "juxtum-equipment-1", "diameter": 6.0, **made}
        path = FOLDER / f"{number}-{made['id']}.json"
        path.write_text(json.dumps(document) + "\n", "utf-8")
        print(f"{path.name}: {len(made['targets'])} targets")


if __name__ == "__main__":
    write()
