"""The off-screen render window."""

from __future__ import annotations

import os
from typing import Any

from juxtum.errors import JuxtumError


class StageError(JuxtumError):
    """The machine cannot draw."""


def make_window() -> Any:
    """An off-screen render window; the first kind that works on this machine."""
    import vtkmodules.vtkRenderingOpenGL2 as backend

    kinds = ["vtkEGLRenderWindow", "vtkOSOpenGLRenderWindow"]
    if os.environ.get("JUXTUM_RENDERER") == "osmesa":
        kinds.reverse()
    for kind in kinds:
        window = getattr(backend, kind)()
        window.SetShowWindow(False)
        window.SetOffScreenRendering(1)
        window.SetMultiSamples(0)
        window.SetSize(16, 16)
        if window.SupportsOpenGL():
            return window
    raise StageError("this machine offers no way to draw in 3D", "stage", "Install libegl1 or libosmesa6")
