"""Results that are kept by what they depend on, and let go by how much memory they hold."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterable
from typing import Any

import numpy as np

MOST_BYTES = 2_000_000_000
"""What kept results may hold together; the newest stay whatever they hold."""
MOST = 2_000
"""More results are not kept, however small."""
FEWEST = 6
LONG = 10_000
"""Longer lists than this hold numbers, not arrays."""


class Kept:
    """Results under their keys; safe to use from several threads."""

    def __init__(self) -> None:
        self._held: OrderedDict[str, Any] = OrderedDict()
        self._lock = threading.RLock()
        self._bytes = 0
        """No less than the results hold together: what they share may be counted several times."""

    def get(self, key: str) -> Any:
        """The result of a key; None where there is none."""
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
            return self._held.get(key)

    def put(self, key: str, made: Any) -> Any:
        """Keep a result; what is there under its key stays and is given back."""
        with self._lock:
            held = self._held.setdefault(key, made)
            self._held.move_to_end(key)
            self._bytes += held_bytes([made])
            # Counting everything takes a while: only where it may be too much.
            if len(self._held) > MOST or self._bytes > MOST_BYTES:
                self._let_go()
            return held

    def drop(self, key: str) -> None:
        """Let a result go."""
        with self._lock:
            self._held.pop(key, None)

    def clear(self) -> None:
        """Let every result go."""
        with self._lock:
            self._held.clear()
            self._bytes = 0

    def _let_go(self) -> None:
        """Let the oldest results go while they hold too much memory together."""
        while True:
            self._bytes = held_bytes(self._held.values())
            if len(self._held) <= MOST and (len(self._held) <= FEWEST or self._bytes <= MOST_BYTES):
                return
            self._held.popitem(last=False)


def held_bytes(values: Iterable[Any]) -> int:
    """Bytes of all arrays that some objects hold, each array counted once."""
    known: set[int] = set()
    total, left = 0, list(values)
    while left:
        value = left.pop()
        if id(value) in known:
            continue
        known.add(id(value))
        if isinstance(value, np.ndarray):
            base = value if value.base is None else value.base
            if value.base is None or id(base) not in known:
                known.add(id(base))
                total += int(value.nbytes)
        elif isinstance(value, dict):
            left += value.values()
        elif isinstance(value, list | tuple):
            left += value if len(value) < LONG else ()
        elif type(value).__module__.startswith("juxtum"):
            left += getattr(value, "__dict__", {}).values()
    return total
