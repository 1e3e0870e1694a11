"""The dial's tone, where the machine has sound."""

from __future__ import annotations

import time
from typing import Any

from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QObject

from juxtum.capture.live.dial import Tone, wave_of

RATE = 22_050
PIECE = 0.18
"""Seconds of one piece of tone."""


class ToneSpeaker(QObject):
    """Plays short pieces, one after another; silent where there is no way to play them."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.is_on = False
        self._sink: Any = None
        self._buffer: QBuffer | None = None
        self._next = 0.0
        self.last: Tone | None = None

    def _ready(self) -> bool:
        if self._sink is None:
            try:
                from PyQt6.QtMultimedia import QAudioFormat, QAudioSink, QMediaDevices
            except ImportError:
                self._sink = False
                return False
            device = QMediaDevices.defaultAudioOutput()
            if device.isNull():
                self._sink = False
                return False
            form = QAudioFormat()
            form.setSampleRate(RATE)
            form.setChannelCount(1)
            form.setSampleFormat(QAudioFormat.SampleFormat.Int16)
            self._sink = QAudioSink(device, form, self)
        return bool(self._sink)

    def play(self, tone: Tone) -> None:
        """Sound a tone until the next one."""
        self.last = tone
        now = time.monotonic()
        if not self.is_on or tone.loudness == 0 or now < self._next or not self._ready():
            return
        self._next = now + PIECE
        self._buffer = QBuffer(self)
        self._buffer.setData(QByteArray(wave_of(tone, PIECE, RATE).tobytes()))
        self._buffer.open(QIODevice.OpenModeFlag.ReadOnly)
        self._sink.start(self._buffer)

    def silence(self) -> None:
        """Stop."""
        if self._sink:
            self._sink.stop()
