"""A display that nobody sees, for pictures on machines without one."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def virtual_display() -> Iterator[dict[str, str]]:
    """An environment with a virtual display: Xvfb where it is installed, otherwise Qt's own off-screen platform."""
    environment = dict(os.environ)
    server = shutil.which("Xvfb")
    if server is None:
        yield environment | {"QT_QPA_PLATFORM": "offscreen"}
        return
    reading, writing = os.pipe()
    command = [server, "-displayfd", str(writing), "-screen", "0", "1400x900x24", "-nolisten", "tcp"]
    process = subprocess.Popen(command, pass_fds=(writing,), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    os.close(writing)
    try:
        number = os.read(reading, 16).decode().strip()
        if number:
            environment["DISPLAY"] = f":{number}"
            environment.pop("WAYLAND_DISPLAY", None)
        else:
            environment["QT_QPA_PLATFORM"] = "offscreen"
        yield environment
    finally:
        os.close(reading)
        process.terminate()
        process.wait(10)
