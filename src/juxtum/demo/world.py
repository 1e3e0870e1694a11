"""Where the demo's files are; what can be computed is computed once and kept in the user's cache."""

from __future__ import annotations

import hashlib
import os
from importlib.resources import files
from pathlib import Path

from juxtum.demo.scan import simulate_scan
from juxtum.demo.truth import truth
from juxtum.exchange.meshes import write_ply
from juxtum.folders import cache_folder
from juxtum.progress import Progress, silent

PARTS = ("BC-220", "HB-36", "VC-8", "PS-14")


def nominal_path(part: str = "BC-220") -> Path:
    """The shipped STEP file of a demo part."""
    return Path(str(files("juxtum.demo").joinpath(f"data/{part}.step")))


def drawing_path(part: str = "BC-220") -> Path:
    """The shipped drawing of BC-220, or of PS-14, as a table."""
    return Path(str(files("juxtum.demo").joinpath(f"data/{part} drawing.csv")))


def scan_path(progress: Progress | None = None) -> Path:
    """The simulated scan of BC-220, made on first use."""
    path = cache_folder() / f"BC-220-{_recipe()}" / "BC-220 serial 0417.ply"
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        scan = simulate_scan(truth(), progress or silent())
        unfinished = path.with_name(f"{os.getpid()}.part.ply")
        write_ply(unfinished, scan)
        os.replace(unfinished, path)
    return path


def _recipe() -> str:
    """A short key that changes with the truth or with the code that makes the scan."""
    folder = files("juxtum.demo")
    parts = [folder.joinpath(name).read_bytes() for name in ("data/truth.json", "scan.py", "carrier.py", "solids.py")]
    return hashlib.sha256(b"".join(parts)).hexdigest()[:12]


def build_nominal(path: Path, part: str = "BC-220") -> None:
    """Write the STEP file of a demo part, as it ships with the application."""
    from juxtum.demo.beam import build_beam
    from juxtum.demo.carrier import build_carrier
    from juxtum.demo.clip import build_clip
    from juxtum.demo.shaft import build_shaft
    from juxtum.exchange.cad import write_step

    makers = {"BC-220": build_carrier, "HB-36": build_beam, "VC-8": build_clip, "PS-14": build_shaft}
    write_step(makers[part](), path)
