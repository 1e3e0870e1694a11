"""Runs the benchmarks by name, or all of them, and prints one line for each figure."""

from __future__ import annotations

import os
import sys

from benchmarks import (
    accuracy,
    budgets,
    capture,
    cover,
    discs,
    drawings,
    finishing,
    fits,
    following,
    fuzz,
    joins,
    memory,
    planning,
    promise,
    speed,
    starts,
    walls,
    window,
)

ALL = {
    "nearest": speed.nearest,
    "inspect": speed.inspect,
    "start": window.start,
    "following": following.following,
    "orbit": window.orbit,
    "lag": window.lag,
    "pace": window.pace,
    "truth": accuracy.truth_table,
    "rigid": accuracy.rigid,
    "rough": accuracy.rough,
    "cover": cover.cover,
    "starts": starts.starts,
    "fuzz": fuzz.fuzz,
    "memory": memory.five_million,
    "plan": planning.plan,
    "chance": planning.chance,
    "rays": planning.rays,
    "bundle": planning.bundle,
    "live": capture.live,
    "stream": capture.stream,
    "desk": capture.window,
    "kills": capture.kills,
    "lengths": capture.lengths,
    "filling": capture.filling,
    "promise": promise.promise,
    "budgets": budgets.budgets,
    "joins": joins.joins,
    "twenty": joins.twenty,
    "drawings": drawings.drawings,
    "demo drawing": drawings.demo_drawing,
    "shaft drawing": drawings.shaft_drawing,
    "calibrated drawing": drawings.calibrated_drawing,
    "captured drawing": drawings.captured_drawing,
    "limit drawing": drawings.limit_drawing,
    "surfaces": finishing.surfaces,
    "selections": finishing.selections,
    "walls": walls.walls,
    "fits": fits.fits,
    "discs": discs.discs,
    "perforated": speed.perforated,
}


def main() -> int:
    # What was aligned before would make every search for a pose look quick.
    os.environ["JUXTUM_SHELF"] = "off"
    names = sys.argv[1:] or list(ALL)
    for name in names:
        if name not in ALL:
            print(f"there is no benchmark '{name}'; choose from {', '.join(ALL)}", file=sys.stderr)
            return 2
        for line in ALL[name]():
            print(f"{name:8} {line}", flush=True)
    return 0


raise SystemExit(main())
