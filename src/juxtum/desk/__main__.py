"""`python -m juxtum.desk`: opens the window, or takes pictures of the stations."""

from __future__ import annotations

import argparse
from pathlib import Path


def main() -> int:
    """Run the desk."""
    parser = argparse.ArgumentParser(prog="juxtum open")
    parser.add_argument("files", type=Path, nargs="*")
    parser.add_argument("--demo", action="store_true")
    parser.add_argument("--shots", type=Path)
    options = parser.parse_args()
    if options.shots is not None:
        from juxtum.desk.shots import take_shots

        return take_shots(options.shots)
    from juxtum.desk.app import run

    return run(options.files, options.demo)


if __name__ == "__main__":
    raise SystemExit(main())
