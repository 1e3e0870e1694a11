"""Planning on a first rough scan, where there is no nominal yet."""

from __future__ import annotations

import numpy as np

from juxtum.errors import InputError
from juxtum.geometry import TriangleMesh
from juxtum.nominal import Nominal

TRIANGLES = 60_000


def part_from_scan(scan: TriangleMesh, triangles: int = TRIANGLES) -> Nominal:
    """A stand-in for the nominal: the scan, thinned to what planning needs.

    Its faces are the regions between sharp edges, as the scan shows them; it is open where nothing was scanned.

    Raises
    ------
    InputError
        When too little is left of it.
    """
    import fast_simplification

    if len(scan.triangles) > triangles:
        points, kept = fast_simplification.simplify(
            np.array(scan.points, dtype=np.float64), np.array(scan.triangles, dtype=np.int32), target_count=triangles
        )
        if len(kept) < 100:
            raise InputError("the scan cannot be thinned", "plan", "Bring the nominal instead")
        scan = TriangleMesh(points, kept)
    return Nominal.from_mesh(scan)
