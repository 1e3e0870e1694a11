"""The demo is made before anybody waits for it."""

from __future__ import annotations

import pytest

from juxtum.cli import preparing
from juxtum.demo.world import scan_path
from juxtum.progress import Progress


def test_the_demo_is_there_even_where_the_process_beside_fails(
    monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    """Nothing of what goes wrong there reaches a person, and the capture is made all the same."""
    made: list[object] = []
    monkeypatch.setattr(preparing, "BESIDE", "raise ValueError('no memory')")
    monkeypatch.setattr(preparing, "make_capture", made.append)
    told: list[str] = []
    assert preparing.prepare_demo(Progress(lambda phase, _: told.append(phase))) == scan_path()
    assert len(made) == 1 and "Traceback" not in capfd.readouterr().err
