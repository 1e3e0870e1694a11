"""Kinds of characteristics: one module each, one row here."""

from juxtum.evaluate.kinds.base import Characteristic, Given, Strokes
from juxtum.evaluate.kinds.flatness import Flatness
from juxtum.evaluate.kinds.profile import Profile

Kind = Profile | Flatness
KINDS: tuple[type[Kind], ...] = (Profile, Flatness)
"""In the order in which people choose between them."""


def kind_of(tag: str) -> type[Kind]:
    """The kind that documents call so."""
    return next(kind for kind in KINDS if kind.tag == tag)


__all__ = ["KINDS", "Characteristic", "Flatness", "Given", "Kind", "Profile", "Strokes", "kind_of"]
