"""What is done to a surface before it is measured or handed out: repair, filling, smoothing, thinning; each says what it did."""

from juxtum.assemble.finishing.craters import NARROWEST, WIDEST, without_targets
from juxtum.assemble.finishing.discs import Disc, Discs, find_discs
from juxtum.assemble.finishing.filling import Filling, closed, fill
from juxtum.assemble.finishing.repairing import repair
from juxtum.assemble.finishing.smoothing import smooth
from juxtum.assemble.finishing.thinning import thin
from juxtum.assemble.finishing.worked import Worked

__all__ = [
    "NARROWEST",
    "WIDEST",
    "Disc",
    "Discs",
    "Filling",
    "Worked",
    "closed",
    "fill",
    "find_discs",
    "repair",
    "smooth",
    "thin",
    "without_targets",
]
