"""The rules of the house: who loads what, where colours are, how long things get."""

from __future__ import annotations

import ast
import itertools
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from juxtum.look import DARK, LIGHT, Look, rgb
from juxtum.scene.cards import Box, place_cards
from juxtum.scene.palette import MapScale, colours
from turns import HEAVY, TURNS, has_its_turn

SOURCE = Path(__file__).parents[1] / "src" / "juxtum"
MODULES = sorted(SOURCE.rglob("*.py"))
CORE = (
    "geometry", "exchange", "nominal", "associate", "align", "assemble", "instruments", "evaluate", "plan", "devices", "capture", "job",
    "logbook", "guide", "demo",
)  # fmt: skip
TOO_LARGE = {
    "CaptureSession",
    "Session",
    "AlignStation",
    "BriefStation",
    "ReadyStation",
    "MainWindow",
    "Planner",
    "Stage",
    "Desk",
}
"""Classes that are still over 250 lines or 20 public methods; none may join them."""


@pytest.mark.parametrize("package", [*CORE, "report", "cli", "scene"])
def test_core_packages_load_neither_qt_nor_rendering(package: str) -> None:
    modules = [
        ".".join(p.relative_to(SOURCE.parent).with_suffix("").parts)
        for p in (SOURCE / package).rglob("*.py")
        if "migrations" not in p.parts
    ]
    names = [m.removesuffix(".__init__") for m in modules]
    program = (
        f"import importlib, sys\nfor name in {names}: importlib.import_module(name)\nprint('\\n'.join(sys.modules))"
    )
    loaded = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True).stdout.split()
    assert not [m for m in loaded if m.startswith(("PyQt6", "vtkmodules.vtkRendering"))]


def test_classes_stay_small() -> None:
    for path in MODULES:
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.ClassDef):
                public = [n for n in node.body if isinstance(n, ast.FunctionDef) and not n.name.startswith("_")]
                assert (node.end_lineno or 0) - node.lineno < 250 and len(public) <= 20, f"{path}: {node.name}"


def test_modules_and_functions_stay_short() -> None:
    for path in (*MODULES, *Path(__file__).parent.glob("*.py")):
        assert len(path.read_text("utf-8").splitlines()) <= 400, path
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                length = (node.end_lineno or 0) - node.lineno
                assert length <= 90 or path.name.startswith("_"), f"{path}: {node.name} has {length} lines"


def test_colours_are_only_in_the_look() -> None:
    literal = re.compile(r"""["']#[0-9A-Fa-f]{6}["']""")
    found = [str(p) for p in MODULES if p.name != "look.py" and literal.search(p.read_text("utf-8"))]
    assert not found


def luminance(colour: str) -> float:
    parts = [c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in rgb(colour)]
    return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]


def contrast(a: str, b: str) -> float:
    high, low = sorted((luminance(a), luminance(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("look", [LIGHT, DARK])
def test_words_can_be_read(look: Look) -> None:
    assert contrast(look.ink, look.panel) >= 7 and contrast(look.ink, look.paper) >= 7
    for token in (look.ink_soft, look.conforms, look.not_conforming, look.undecided):
        assert contrast(token, look.panel) >= 4.5
    assert contrast(look.on_accent, look.accent) >= 4.5


# Machado, Oliveira and Fernandes 2009, full severity, linear RGB.
DEFICIENCIES = {
    "protan": [[0.152286, 1.052583, -0.204868], [0.114503, 0.786281, 0.099216], [-0.003882, -0.048116, 1.051998]],
    "deutan": [[0.367322, 0.860646, -0.227968], [0.280085, 0.672501, 0.047413], [-0.011820, 0.042940, 0.968881]],
    "tritan": [[1.255528, -0.076749, -0.178779], [-0.078411, 0.930809, 0.147602], [0.004733, 0.691367, 0.303900]],
}


@pytest.mark.parametrize("kind", DEFICIENCIES)
def test_proud_and_shy_differ_for_every_eye(kind: str) -> None:
    scale = MapScale(-0.2, 0.2)
    steps = np.array([-0.55, -0.4, -0.25, 0.0, 0.25, 0.4, 0.55])
    linear = colours(steps, scale) ** 2.2
    seen = np.clip(linear @ np.array(DEFICIENCIES[kind]).T, 0, 1) ** (1 / 2.2)
    for low in range(3):
        for high in range(4, 7):
            assert np.linalg.norm(seen[low] - seen[high]) > 0.15
    assert all(np.linalg.norm(a - b) > 0.1 for a, b in itertools.pairwise(seen))


def test_limits_themselves_conform_on_the_map() -> None:
    inside = colours([0.0], MapScale(-0.1, 0.3))[0]
    assert np.array_equal(colours([-0.1, 0.3, 0.1], MapScale(-0.1, 0.3)), np.tile(inside, (3, 1)))


def test_cards_never_overlap() -> None:
    rng = np.random.default_rng(4)
    for _ in range(20):
        anchors = rng.uniform(100, 700, (12, 2))
        placed = place_cards(anchors, (118, 50), Box(0, 0, 900, 640), (Box(780, 0, 120, 640),))
        boxes = [b for b in placed if b is not None]
        assert len(boxes) >= 9
        for k, a in enumerate(boxes):
            assert all(not a.overlaps(b) for b in boxes[k + 1 :])
            assert not a.overlaps(Box(780, 0, 120, 640))


def test_a_change_of_any_kernel_compiles_all_anew(tmp_path: Path) -> None:
    """A compiled kernel holds the code of those it calls; so their cache is named by all of them."""
    from juxtum.compiled import kernels_key, numba
    from juxtum.nominal import _foot_kernels

    (tmp_path / "a").mkdir()
    (tmp_path / "a" / "_near_kernels.py").write_text("x = 1")
    (tmp_path / "a" / "_far_kernels.py").write_text("x = 2")
    before = kernels_key(tmp_path)
    (tmp_path / "a" / "_far_kernels.py").write_text("x = 3")
    assert kernels_key(tmp_path) != before
    assert Path(numba.config.CACHE_DIR).name == kernels_key(SOURCE)
    place = Path(_foot_kernels.feet_of_nodes._cache.cache_path)
    assert place == Path(numba.config.CACHE_DIR) / "nominal", "another copy of the program finds them there too"


def imports_of(path: Path, modules: set[str], *, with_types: bool) -> set[str]:
    """Modules of ours that a module imports, also within functions; those for types alone when asked for."""
    found: set[str] = set()

    def visit(node: ast.AST) -> None:
        for child in ast.iter_child_nodes(node):
            if isinstance(child, ast.If) and getattr(child.test, "id", "") == "TYPE_CHECKING" and not with_types:
                continue
            if isinstance(child, ast.ImportFrom) and child.module and child.module.startswith("juxtum"):
                names = {f"{child.module}.{alias.name}" for alias in child.names}
                found.update(names & modules or {child.module} & modules)
            elif isinstance(child, ast.Import):
                found.update({alias.name for alias in child.names} & modules)
            visit(child)

    visit(ast.parse(path.read_text("utf-8")))
    return found


def circles(graph: dict[str, set[str]]) -> list[set[str]]:
    """Sets of modules that import each other in a ring: what is left when all that imports nothing left is taken away, from both ends."""
    left = {name: set(needed) for name, needed in graph.items()}
    while True:
        needed_by_some = set().union(*left.values()) if left else set()
        loose = {name for name, needed in left.items() if not (needed & left.keys()) or name not in needed_by_some}
        if not loose:
            break
        left = {name: needed - loose for name, needed in left.items() if name not in loose}
    return [set(left)] if left else []


@pytest.mark.parametrize("with_types", [False, True])
def test_no_circle_of_imports(with_types: bool) -> None:
    """None at run time. For types alone a station, or the session, and its own parts may know each other, and nothing else."""
    modules = {
        ".".join(p.relative_to(SOURCE.parent).with_suffix("").parts).removesuffix(".__init__"): p
        for p in SOURCE.rglob("*.py")
    }
    graph = {name: imports_of(path, set(modules), with_types=with_types) - {name} for name, path in modules.items()}
    if with_types:
        own = (
            "juxtum.desk.aligning.",
            "juxtum.desk.briefing.",
            "juxtum.desk.capturing.",
            "juxtum.desk.planning.",
            "juxtum.desk.readying.",
            "juxtum.desk.stage_pointer",
            "juxtum.desk.saving",
            "juxtum.desk.slow_edits",
            "juxtum.plan.photos._bundle_rows",
        )
        graph = {
            name: needed if not name.startswith(own) else imports_of(modules[name], set(modules), with_types=False)
            for name, needed in graph.items()
        }
    assert circles(graph) == []


def test_every_heavy_test_has_one_turn(monkeypatch: pytest.MonkeyPatch) -> None:
    def turns_of(name: str) -> int:
        found = 0
        for turn in range(TURNS):
            monkeypatch.setenv("JUXTUM_TURN", str(turn))
            found += has_its_turn(name)
        return found

    for unit in HEAVY:
        cases = (
            [f"tests/{unit}", f"tests/{unit}[one-2]"]
            if "::" in unit
            else [f"tests/{unit}::test_it", f"tests/{unit}::test_it[1]"]
        )
        assert [turns_of(case) for case in cases] == [1, 1], unit
    assert turns_of("tests/test_house.py::test_every_heavy_test_has_one_turn") == TURNS
