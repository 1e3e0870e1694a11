"""What route and worksheets say, worked out without a window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from helpers import STATED, bracket_mesh, write_bracket
from juxtum.desk.derived import Derived, Deriver
from juxtum.desk.first_steps import LESSONS, is_done
from juxtum.evaluate import Verdict
from juxtum.evaluate.kinds import Profile
from juxtum.guide.facts import alignment_facts, map_facts, scan_facts, short, thousands
from juxtum.guide.findings import Key, State, finding
from juxtum.guide.next_actions import next_action, worst_result
from juxtum.job import FileStore, Job, Runner
from juxtum.job.steps import BestFit, Decide, Fragments, ReadingStep, Rough, Trim
from juxtum.progress import silent
from juxtum.scene.map_layers import MAP


class Walk:
    """A job that goes along the route, with what is said at each stop."""

    def __init__(self, folder: Path) -> None:
        self.files = FileStore()
        self.deriver = Deriver(Runner(self.files))
        self.job = Job()
        self.folder = folder

    @property
    def derived(self) -> Derived:
        return self.deriver.derive(self.job, silent())

    def says(self, key: Key) -> tuple[str, str]:
        """Finding and next action."""
        d = self.derived
        return finding(key, d).text, next_action(key, d).action

    def bring(self, **files: Path) -> None:
        """Nominal or scan."""
        for name, path in files.items():
            file = self.files.adopt(path)
            self.job = self.job.with_nominal(file) if name == "nominal" else self.job.with_scan(file)


@pytest.fixture
def walk(tmp_path: Path) -> Walk:
    return Walk(tmp_path)


def scan_with_table(folder: Path) -> Path:
    """The bracket on a table, with a scrap in the air."""
    import trimesh

    part = bracket_mesh()
    part = part.submesh([part.triangles_center[:, 2] > 1e-6], append=True)
    table = trimesh.creation.box(bounds=[[-60, -60, -1], [120, 100, 0]])
    for _ in range(6):
        table = table.subdivide()
    table = table.submesh([table.triangles_center[:, 2] > -1e-6], append=True)
    scrap = trimesh.creation.box(bounds=[[20, 20, 45], [24, 24, 45.5]])
    path = folder / "scan.ply"
    trimesh.util.concatenate([part, table, scrap]).export(path)
    return path


def test_the_route_says_what_comes_next(walk: Walk) -> None:
    assert walk.says(Key.BRIEF) == ("no nominal yet", "bring nominal")
    assert walk.says(Key.ASSEMBLE) == ("no scan yet", "bring scan")
    assert walk.says(Key.ALIGN) == ("not aligned yet", "bring nominal")
    assert walk.says(Key.MEASURE) == ("nothing measured yet", "go align")
    assert walk.says(Key.REPORT) == ("nothing to report yet", "go align")
    walk.bring(nominal=write_bracket(walk.folder / "n.stl"))
    assert walk.says(Key.BRIEF)[1] == "add whole profile"
    walk.job = walk.job.with_step(Profile(id="1", title="all"))
    assert walk.says(Key.BRIEF) == ("12 faces, 1 characteristic", "go plan")
    walk.bring(scan=scan_with_table(walk.folder))
    assert walk.says(Key.BRIEF)[1] == "go assemble"
    assert walk.says(Key.ASSEMBLE) == ("the table is still in the scan", "trim table")
    walk.job = walk.job.with_step(Trim(offset=0.2))
    text, action = walk.says(Key.ASSEMBLE)
    assert text.endswith("loose fragments") and action == "drop pieces"
    walk.job = walk.job.with_step(Fragments(smallest=200.0))
    assert walk.says(Key.ALIGN) == ("not aligned yet", "align automatically")
    walk.job = walk.job.with_step(Rough()).with_step(BestFit(start="rough")).with_step(Decide(alignment="best fit"))
    assert walk.says(Key.ALIGN)[0].startswith("best fit, RMS 0.0") and walk.says(Key.ALIGN)[1] == "pick datums"
    assert walk.says(Key.MEASURE)[1] == "go brief", "what it was scanned with is not said yet"
    walk.job = walk.job.model_copy(update={"circumstances": STATED})
    assert walk.says(Key.MEASURE)[1] == "pin worst"
    worst = worst_result(walk.derived)
    assert worst is not None and worst.place is not None
    x, y, z = (float(v) for v in worst.place)
    walk.job = walk.job.with_step(ReadingStep(label="R1", place=(x, y, z)))
    assert walk.says(Key.MEASURE)[1] == "go report"
    assert walk.says(Key.REPORT) == ("no serial and no operator named", "write report")
    assert finding(Key.MEASURE, walk.derived).state is State.DONE
    done = [lesson.action for lesson in LESSONS if is_done(lesson, walk.derived)]
    assert done == ["trim table", "align automatically", "pin worst"]


def test_facts_are_those_of_the_demo(demo_files: tuple[FileStore, Job], demo_runner: Runner) -> None:
    d = Deriver(demo_runner).derive(demo_files[1], silent())
    facts = dict(scan_facts(d))
    assert facts["points"] == thousands(len(d.scan.points)) and facts["spacing"] == "0.62 mm"  # type: ignore[union-attr]
    assert dict(alignment_facts(d))["method"] == "best fit"
    assert dict(map_facts(d))["area seen"] == "68.9 %"
    assert finding(Key.MEASURE, d).verdict is Verdict.DOES_NOT_CONFORM
    assert d.area is not None and d.area.shares.sum() == pytest.approx(1, abs=0.01)
    assert d.table is None and d.comparison is None


def test_nothing_is_computed_twice_for_the_window(demo_files: tuple[FileStore, Job], demo_runner: Runner) -> None:
    deriver = Deriver(demo_runner)
    first, second = (deriver.derive(demo_files[1], silent()) for _ in range(2))
    assert first.layers.keys() == {layer.name for layer in MAP}
    assert all(first.layers[name] is second.layers[name] for name in first.layers)
    shown = deriver.derive(demo_files[1].with_step(ReadingStep(label="R1", place=(0, 0, 140))), silent())
    assert shown.layers["map"] is first.layers["map"], "a reading does not draw the map anew"


@pytest.mark.parametrize(("text", "said"), [("short.stl", "short.stl"), ("x" * 40, "x" * 13 + "\u2026" + "x" * 13)])
def test_long_names_are_cut_in_their_middle(text: str, said: str) -> None:
    assert short(text) == said and np.char.str_len(said) <= 28
