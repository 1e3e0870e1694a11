"""OFF in its text form."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from juxtum.errors import InputError
from juxtum.exchange.limits import check_counts
from juxtum.exchange.raw import RawMesh, as_triangles, refuse, text_lines


def read(path: Path) -> RawMesh:
    """Points and triangles; polygons become fans of triangles."""
    lines = [line.split(b"#")[0].split() for line in text_lines(path)]
    lines = [words for words in lines if words]
    if not lines or lines[0][0] not in (b"OFF", b"COFF", b"NOFF"):
        refuse(path, "this is not an OFF file", "Check the file's ending or export it again")
    body = [lines[0][1:], *lines[1:]] if len(lines[0]) > 1 else lines[1:]
    try:
        points, faces = int(body[0][0]), int(body[0][1])
        check_counts(points, faces, path)
        if len(body) < 1 + points + faces:
            refuse(path, "the file ends too early: it holds less than its header names", "Copy it again")
        rows = np.array([[float(x) for x in words[:3]] for words in body[1 : 1 + points]]).reshape(-1, 3)
        polygons = [[int(x) for x in words[1 : 1 + int(words[0])]] for words in body[1 + points : 1 + points + faces]]
    except InputError:
        raise
    except (ValueError, IndexError):
        refuse(path, "a line does not hold the numbers it should")
    return RawMesh(rows, as_triangles(polygons) if polygons else None)
