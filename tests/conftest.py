"""What all tests share: the demo part, its scan, and places that are thrown away afterwards."""

from __future__ import annotations

import os
import sys
import tempfile
from typing import TYPE_CHECKING

import pytest

os.environ["JUXTUM_DATA"] = tempfile.mkdtemp(prefix="juxtum-tests-")
if "PYTEST_XDIST_WORKER" in os.environ:
    # Windows of two workers on one display would take the focus from each other.
    from display import own_display

    own_display()

from helpers import STATED, write_bracket
from juxtum.assemble import drop_fragments, find_table, trim
from juxtum.demo.truth import Truth, truth
from juxtum.demo.world import nominal_path, scan_path
from juxtum.exchange.cad import read_cad
from juxtum.exchange.meshes import read_mesh
from juxtum.geometry.mesh import Scan
from juxtum.job import FileStore, Job, Runner, inputs_of
from juxtum.job.document import Brief, default_procedure
from juxtum.job.steps import AsScanned, Decide
from juxtum.nominal import Nominal
from turns import has_its_turn, is_long, names_gone

WHOLE = 1500
"""With so many tests all were collected."""


def pytest_addoption(parser: pytest.Parser) -> None:
    """`--long` runs everything."""
    parser.addoption(
        "--long", action="store_true", help="run everything: long further cases, and all turns of the heavy tests"
    )


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Leave out the long cases and the heavy tests whose turn it is not, unless they are asked for or named."""
    is_whole = len(items) > WHOLE
    if is_whole and (gone := names_gone([item.nodeid for item in items])):
        raise pytest.UsageError(f"tests/long_cases.py or tests/heavy.txt names what is not there any more: {gone}")
    if config.getoption("--long") or any("::" in word for word in config.args):
        return
    left = [item for item in items if item.get_closest_marker("long") or is_long(item.nodeid)]
    if is_whole:
        left += [item for item in items if not has_its_turn(item.nodeid)]
    config.hook.pytest_deselected(items=left)
    items[:] = [item for item in items if item not in left]


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(
    item: pytest.Item, call: pytest.CallInfo[None]
) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """One failure is one failure: its window does not go on living under the tests behind it."""
    report = yield
    if call.when == "call" and call.excinfo is not None and "hand" in sys.modules:
        sys.modules["hand"].close_left_open()
    return report


@pytest.fixture(scope="session")
def known() -> Truth:
    """What was injected into the demo scan."""
    return truth()


@pytest.fixture(scope="session")
def nominal() -> Nominal:
    """BC-220 with its exact faces."""
    return Nominal.from_shape(read_cad(nominal_path()).shape)


@pytest.fixture(scope="session")
def raw_scan() -> Scan:
    """The demo scan as it came from the device."""
    return read_mesh(scan_path()).scan


@pytest.fixture(scope="session")
def clean_scan(raw_scan: Scan) -> Scan:
    """Without table and loose pieces."""
    table = find_table(raw_scan)
    assert table is not None
    return drop_fragments(trim(raw_scan, table, 0.5), None)


@pytest.fixture(scope="session")
def demo_files() -> tuple[FileStore, Job]:
    """A job on the demo files with the default procedure."""
    files = FileStore()
    job = Job(
        inputs=inputs_of(files.adopt(nominal_path()), files.adopt(scan_path())),
        procedure=default_procedure(),
        circumstances=STATED,
    )
    return files, job


@pytest.fixture(scope="session")
def demo_runner(demo_files: tuple[FileStore, Job]) -> Runner:
    """A runner that keeps the demo's results for all tests."""
    return Runner(demo_files[0])


if TYPE_CHECKING:
    from collections.abc import Generator, Iterator
    from pathlib import Path

    from PyQt6.QtWidgets import QApplication

    from hand import Hand, Walk


@pytest.fixture(scope="session")
def application() -> QApplication:
    """The application, dressed as for users."""
    from PyQt6.QtWidgets import QApplication

    from juxtum.desk import style

    made = QApplication.instance() or QApplication(["test"])
    assert isinstance(made, QApplication)
    style.load_fonts()
    style.apply(made)
    return made


@pytest.fixture(scope="module")
def walk(
    application: QApplication, request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Walk]:
    """The window that a module's tests walk through; its `begun` opens it."""
    from hand import Walk

    made = Walk(request.module.begun, tmp_path_factory)
    yield made
    made.end()


@pytest.fixture(scope="session")
def beam() -> Nominal:
    """HB-36 with its exact faces."""
    return Nominal.from_shape(read_cad(nominal_path("HB-36")).shape)


@pytest.fixture
def small_desk(application: QApplication, tmp_path: Path) -> Iterator[Hand]:
    """A window with a small job whose map is there."""
    from hand import Hand, close, opened

    window = opened(tmp_path)
    files = window.session.files
    nominal, scan = write_bracket(tmp_path / "n.stl"), write_bracket(tmp_path / "s.stl")
    job = Job(
        brief=Brief(part="A"), inputs=inputs_of(files.adopt(nominal), files.adopt(scan)), procedure=default_procedure()
    )
    window.session.start(job.with_step(AsScanned(name="a")).with_step(Decide(alignment="a")))
    hand = Hand(window)
    hand.wait(lambda: window.session.derived.evaluation is not None)
    yield hand
    close(window)


@pytest.fixture
def capturing(application: QApplication, tmp_path: Path) -> Iterator[Hand]:
    """A window with the demo at Capture, nothing captured yet."""
    from hand import close, opened_demo
    from juxtum.guide.findings import Key

    made = opened_demo(tmp_path)
    made.window.session.edit("nothing captured", lambda job: job.model_copy(update={"capture": None}))
    made.wait()
    made.go(Key.CAPTURE)
    yield made
    close(made.window)
