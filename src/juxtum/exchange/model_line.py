"""What a CAD file says of its faces besides their shape."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace
from typing import Any


@dataclass(frozen=True)
class FaceMark:
    """Number of a face in its file, 0 where it has none, and its name, empty where it has none."""

    number: int
    name: str


@dataclass(frozen=True)
class ModelLine:
    """A datum, a size or a tolerance; faces by their number in the file.

    Parameters
    ----------
    kind : str
        As in a drawing's table, also `datum`.
    title : str
        Its name in the file; of a datum its letter.
    first, second : tuple of int
        Faces of its feature; of a distance or an angle those of both. Of a datum of targets there may be none.
    datums : tuple of str
        `A` or `A-B`, in their order.
    value : float or None
        Width of the zone, or the nominal size, mm or degrees.
    upper, lower : str
        Allowed deviations of a size; a code in `upper`.
    words : tuple of str
        Modifiers, as in a drawing's table.
    """

    kind: str
    title: str
    first: tuple[int, ...]
    second: tuple[int, ...] = ()
    datums: tuple[str, ...] = ()
    value: float | None = None
    upper: str = ""
    lower: str = ""
    words: tuple[str, ...] = ()

    @classmethod
    def read(cls, held: dict[str, Any]) -> ModelLine:
        """From what `dataclasses.asdict` and JSON made of it."""
        values: dict[str, Any] = {name: tuple(v) if isinstance(v, list) else v for name, v in held.items()}
        return cls(**values)


def lines_on_faces(
    marks: tuple[FaceMark, ...], lines: tuple[ModelLine, ...], unread: tuple[str, ...]
) -> tuple[tuple[ModelLine, ...], tuple[str, ...]]:
    """Lines with faces by their place among those that can be used, from 1; a sentence for each that misses one.

    Examples
    --------
    >>> lines_on_faces((FaceMark(17, ""), FaceMark(42, "top")), (ModelLine("flatness", "", (42,), value=0.1),), ())[0][0].first
    (2,)
    """
    numbers: dict[int, int] = {}
    several = Counter(mark.number for mark in marks)
    for place, mark in enumerate(marks, 1):
        numbers.setdefault(mark.number, place)
    kept, left = [], list(unread)
    for line in lines:
        if all(face in numbers for face in (*line.first, *line.second)):
            first, second = (tuple(numbers[face] for face in faces) for faces in (line.first, line.second))
            kept.append(replace(line, first=first, second=second))
            if (times := max((several[face] for face in (*line.first, *line.second)), default=1)) > 1:
                left.append(
                    f"{line.kind} {line.title}".strip() + f": its face is there {times} times, and the first one counts"
                )
        else:
            left.append(f"{line.kind} {line.title}".strip() + ": a face of it cannot be used")
    return tuple(kept), tuple(left)
