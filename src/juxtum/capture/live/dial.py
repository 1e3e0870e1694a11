"""What the person with the scanner in hand sees and hears: one distance, one word, one tone."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from juxtum.instruments.models import Mode

HOLD_SHARE = 0.55
"""Of the window between nearest and farthest that counts as well held, about the best stand-off."""
LOW_TONE, HIGH_TONE, BEST_TONE = 220.0, 880.0, 440.0
"""Hertz: low when too far, high when too near, A in the middle."""


class Word(StrEnum):
    """One word for the hand."""

    CLOSER = "closer"
    HOLD = "hold"
    BACK = "back off"
    NOTHING = "no surface"


@dataclass(frozen=True)
class DialReading:
    """The stand-off dial.

    Parameters
    ----------
    distance : float
        mm; nan where there is nothing.
    share : float
        Of the dial: 0 too near, 0.5 best, 1 too far.
    hold : (float, float)
        Between which shares the hand should hold.
    """

    distance: float
    share: float
    hold: tuple[float, float]
    wanted: float

    @property
    def word(self) -> Word:
        """What to do."""
        if np.isnan(self.distance):
            return Word.NOTHING
        return Word.BACK if self.share < self.hold[0] else Word.CLOSER if self.share > self.hold[1] else Word.HOLD

    @property
    def is_held(self) -> bool:
        """Whether the hand is where it should be."""
        return self.word is Word.HOLD


@dataclass(frozen=True)
class Tone:
    """A tone: frequency in Hz, beats per second (0 is a steady tone), loudness 0 to 1."""

    frequency: float
    beats: float
    loudness: float


def read_dial(mode: Mode, stand_off: float | None) -> DialReading:
    """The dial for a distance.

    Examples
    --------
    >>> from juxtum.instruments.models import Kind, shipped
    >>> mode = shipped(Kind.HANDHELD).modes[0]
    >>> [str(read_dial(mode, d).word) for d in (230, 318, 470, None)]
    ['back off', 'hold', 'closer', 'no surface']
    """
    near, best, far = mode.stand_off
    hold = 0.5 - HOLD_SHARE / 2, 0.5 + HOLD_SHARE / 2
    if stand_off is None or not np.isfinite(stand_off):
        return DialReading(float("nan"), 1.0, hold, best)
    share = (
        0.5 * (stand_off - near) / max(best - near, 1e-9)
        if stand_off < best
        else 0.5 + 0.5 * (stand_off - best) / max(far - best, 1e-9)
    )
    return DialReading(float(stand_off), float(np.clip(share, 0, 1)), hold, best)


def tone_of(reading: DialReading) -> Tone:
    """Pitch falls evenly with distance, in octaves; within the window it is steady, outside it beats the faster the worse.

    Examples
    --------
    >>> from juxtum.instruments.models import Kind, shipped
    >>> mode = shipped(Kind.HANDHELD).modes[0]
    >>> tone_of(read_dial(mode, 320))
    Tone(frequency=440.0, beats=0.0, loudness=0.4)
    """
    if reading.word is Word.NOTHING:
        return Tone(LOW_TONE, 0.0, 0.0)
    octaves = np.log2(HIGH_TONE / LOW_TONE)
    frequency = float(HIGH_TONE * 2 ** (-octaves * reading.share))
    low, high = reading.hold
    beyond = max(low - reading.share, reading.share - high, 0.0) / low
    return Tone(round(frequency, 1), round(8 * beyond, 2), 0.4 if beyond == 0 else 0.7)


FEW_TONE, DONE_TONE = Tone(165.0, 3.0, 0.6), Tone(660.0, 1.0, 0.5)
"""Low and pulsing where too few targets are in view; high and slow once what the plan expected is captured."""


def sound_of(reading: DialReading, targets: tuple[int, int], *, is_done: bool) -> Tone:
    """What is heard: too few targets before the stand-off, since without them no distance helps; done after all else is right.

    Parameters
    ----------
    targets : pair of int
        In view, and needed.

    Examples
    --------
    >>> from juxtum.instruments.models import Kind, shipped
    >>> best = read_dial(shipped(Kind.HANDHELD).modes[0], 320)
    >>> [sound_of(best, (n, 3), is_done=done).frequency for n, done in ((2, False), (5, False), (5, True))]
    [165.0, 440.0, 660.0]
    """
    seen, needed = targets
    if reading.word is not Word.NOTHING and seen < needed:
        return FEW_TONE
    return DONE_TONE if is_done and reading.is_held else tone_of(reading)


def wave_of(tone: Tone, seconds: float, rate: int = 22_050) -> np.ndarray[tuple[int], np.dtype[np.int16]]:
    """Samples of a tone, 16 bits, with soft ends, so that it does not click."""
    t = np.arange(int(seconds * rate)) / rate
    envelope = np.minimum(1, np.minimum(t, seconds - t) / 0.008)
    if tone.beats:
        envelope *= 0.5 * (1 + np.sign(np.sin(2 * np.pi * tone.beats * t)))
    return np.asarray(32_000 * tone.loudness * envelope * np.sin(2 * np.pi * tone.frequency * t), dtype=np.int16)
