"""How each layer of the stage is dressed: tokens, widths, hatching."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from juxtum.look import Look, rgb


@dataclass(frozen=True)
class Style:
    """Token of the colour, opacity, line width, share of light from everywhere."""

    colour: str
    opacity: float = 1.0
    width: float = 1.0
    ambient: float = 0.25


STYLES = {
    "nominal": Style("nominal"),
    "ghost": Style("nominal"),
    "edges": Style("edge", width=1.0),
    "scan": Style("data"),
    "map": Style("data", ambient=0.45),
    "limits": Style("ink", width=1.3),
    "isolines": Style("ink_soft", width=0.8),
    "unseen": Style("hatch", ambient=0.5),
    "foreign": Style("foreign", ambient=0.35),
    "passed": Style("missing", ambient=0.5),
    "laid": Style("accent", opacity=0.55),
    "rims": Style("accent", width=1.6),
    "target rings": Style("accent", width=2.4),
    "rim": Style("foreign", width=3.2),
    "invented": Style("band_blank", ambient=0.45),
    "moved": Style("data", ambient=0.45),
    "walls": Style("data", ambient=0.45),
    "gaps": Style("data", ambient=0.45),
    "held": Style("data", ambient=0.45),
    "feature": Style("accent", opacity=0.8, ambient=0.4),
    "made": Style("accent", width=2.6),
    "strays": Style("foreign", ambient=0.5),
    "going": Style("missing", opacity=0.8, ambient=0.5),
    "marked": Style("accent", opacity=0.75, ambient=0.5),
    **{
        f"band {name}": Style(f"band_{name}", ambient=0.4)
        for name in ("many", "good", "enough", "three", "two", "none", "blank")
    },
    "cover none": Style("hatch", ambient=0.5),
    "cover once": Style("band_three", ambient=0.4),
    "cover enough": Style("band_good", ambient=0.4),
    "cover other": Style("band_blank", ambient=0.35),
    "shadow": Style("band_none", ambient=0.45),
    "rays": Style("ink_soft", opacity=0.35, width=0.8),
    "gear": Style("accent", width=2.2),
    "section nominal": Style("ink", width=2.0),
    "section scan": Style("accent", width=2.0),
    "cut drawn": Style("ink", width=2.0),
    "cut measured": Style("accent", width=2.4),
}
PIECES = ("data", "band_many", "band_three", "band_two", "band_good", "nominal")
"""Tokens of several scans beside each other, in turn."""
UNDRAWN = ("ghost",)
"""Layers that are only picked: what is drawn in their place has no rays of its own."""
UNCUT = ("section nominal", "section scan")


def piece(number: int) -> str:
    """The layer of one of several scans, counted from 0.

    Examples
    --------
    >>> piece(2)
    'piece 2'
    """
    return f"piece {number}"


def style_of(layer: str) -> Style:
    """How a layer is dressed."""
    kind, _, number = layer.partition(" ")
    if kind == "piece":
        return Style(PIECES[int(number) % len(PIECES)])
    return STYLES.get(layer, Style("data"))


def hatching(look: Look) -> Any:
    """Stripes that repeat along the first texture coordinate."""
    from vtkmodules.util.numpy_support import numpy_to_vtk
    from vtkmodules.vtkCommonCore import VTK_UNSIGNED_CHAR
    from vtkmodules.vtkCommonDataModel import vtkImageData
    from vtkmodules.vtkRenderingCore import vtkTexture

    width = 32
    dark, light = (np.array(rgb(c)) * 255 for c in (look.hatch, look.nominal))
    row = np.where((np.arange(width) < 7)[:, None], dark, 0.5 * light + 0.5 * 255 * np.array(rgb(look.stage_top)))
    image = vtkImageData()
    image.SetDimensions(width, 2, 1)
    pixels = np.ascontiguousarray(np.tile(row, (2, 1)).astype(np.uint8))
    image.GetPointData().SetScalars(numpy_to_vtk(pixels, deep=True, array_type=VTK_UNSIGNED_CHAR))
    texture = vtkTexture()
    texture.SetInputData(image)
    texture.RepeatOn()
    texture.InterpolateOn()
    texture.MipmapOn()
    # Software rendering pays dearly for more: a half-seen part took twice as long to draw.
    texture.SetMaximumAnisotropicFiltering(1.0)
    return texture
