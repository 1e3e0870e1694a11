"""A display of its own for each worker of the tests."""

from __future__ import annotations

import atexit
import os
import subprocess


def own_display() -> None:
    """Start a display that nobody sees, and end it with this process."""
    command = ["Xvfb", "-displayfd", "1", "-screen", "0", "1400x900x24", "-nolisten", "tcp"]
    server = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    atexit.register(server.kill)
    assert server.stdout is not None
    os.environ["DISPLAY"] = f":{server.stdout.readline().strip()}"
