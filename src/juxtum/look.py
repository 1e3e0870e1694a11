"""The look's tokens: every colour and size that the window, the stage and the report use."""

from __future__ import annotations

from dataclasses import dataclass, replace
from importlib.resources import files
from pathlib import Path


@dataclass(frozen=True)
class Look:
    """One set of tokens; colours as #RRGGBB.

    Parameters
    ----------
    shy, proud : tuple of str
        From the limit outwards.
    """

    name: str = "light"
    paper: str = "#F6F3EC"
    panel: str = "#FCFAF5"
    rule: str = "#D9D2C3"
    field: str = "#EFEADF"
    ink: str = "#1D2733"
    ink_soft: str = "#5A6472"
    accent: str = "#5A3B73"
    accent_wash: str = "#EEE7F1"
    on_accent: str = "#FFFFFF"
    conforms: str = "#1F6F54"
    not_conforming: str = "#A4342B"
    undecided: str = "#8A6A00"
    in_tolerance: str = "#EFE9DA"
    shy: tuple[str, str, str] = ("#8FC1CC", "#2C6E8A", "#16324F")
    proud: tuple[str, str, str] = ("#F0C47C", "#C9701C", "#7A2413")
    stage_top: str = "#FBFAF7"
    stage_bottom: str = "#E4E0D6"
    nominal: str = "#B9C0C8"
    data: str = "#C9BFAF"
    edge: str = "#27303B"
    hatch: str = "#8B93A0"
    foreign: str = "#39424E"
    missing: str = "#6E7681"
    band_many: str = "#7FA6A8"
    band_good: str = "#A9C4C3"
    band_enough: str = "#D6E0D8"
    band_three: str = "#E9D5A4"
    band_two: str = "#CE9058"
    band_none: str = "#8C3A22"
    band_blank: str = "#C3C6C9"
    floor: str = "#1D242D"
    floor_tile: str = "#252F40"
    floor_ring: str = "#3A4553"
    floor_ink: str = "#F3EFE4"
    floor_soft: str = "#A3ABB6"
    floor_alert: str = "#F0C47C"


LIGHT = Look()
DARK = replace(
    LIGHT,
    name="dark",
    paper="#1B1F25",
    panel="#232830",
    rule="#3A424D",
    field="#2C323B",
    ink="#ECE8DF",
    ink_soft="#A9B0BA",
    accent="#B79AD0",
    accent_wash="#372E41",
    on_accent="#1B1F25",
    conforms="#6CC3A2",
    not_conforming="#EE8A80",
    undecided="#DDB64A",
    stage_top="#2A3038",
    stage_bottom="#191D22",
    edge="#14171B",
)
LOOKS = {look.name: look for look in (LIGHT, DARK)}
FAMILY = "Atkinson Hyperlegible"
MONO_FAMILY = "Atkinson Hyperlegible Mono"
BODY, SMALL, LARGE, HEADING = 13, 11, 22, 18
GRID = 8


def rgb(colour: str) -> tuple[float, float, float]:
    """Red, green and blue from 0 to 1.

    Examples
    --------
    >>> rgb("#FF0000")
    (1.0, 0.0, 0.0)
    """
    return int(colour[1:3], 16) / 255, int(colour[3:5], 16) / 255, int(colour[5:7], 16) / 255


def asset(name: str) -> Path:
    """A file that ships with the application, such as a font or an icon."""
    return Path(str(files("juxtum").joinpath("assets", name)))
