"""The rules of the house hold, and the checks that guard them can fail."""

from __future__ import annotations

import ast
import importlib
import re
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import get_args, get_type_hints

import pytest

from attentive_lens.desk.requests import requests_by_name

ROOT = Path(__file__).parents[2]
SOURCES = ROOT / "src" / "attentive_lens"
HEAVY = (
    "numba",
    "scipy",
    "sklearn",
    "onnx",
    "matplotlib",
    "pyqtgraph",
    "attentive_lens.engine",
    "attentive_lens.explaining.",
)
LIGHT = tuple(f"attentive_lens.explaining.{name}" for name in ("change_settings", "figures", "methods"))
"""Plain values and descriptions, which compute nothing."""

BREACHES = {
    "engine/network.py": "import attentive_lens.images",
    "images/split.py": "import attentive_lens.workspace",
    "desk/training/runs.py": "import PyQt6.QtCore",
    "training/loop.py": "import sqlite3",
    "window/session.py": "import attentive_lens.engine.network",
    "window/pages/images.py": "import attentive_lens.window.pages.results",
    "explaining/saliency/gradient.py": "import attentive_lens.explaining.saliency.gradient_times_input",
    "desk/remembering.py": "import attentive_lens.desk.cards",
    "window/welcome.py": "import attentive_lens.window.application",
    "core/files.py": "import attentive_lens.plan.plan",
    "predicting/predictor.py": "import attentive_lens.explaining.probe",
    "images/faults/marks.py": "import attentive_lens.images.faults.poor",
}


def lint(folder: Path) -> subprocess.CompletedProcess[str]:
    words = [str(Path(sys.executable).parent / "lint-imports"), "--no-cache"]
    return subprocess.run(words, cwd=folder, capture_output=True, text=True, timeout=100, env={"PYTHONPATH": "src"})


def test_each_breach_of_the_layering_is_caught(tmp_path: Path) -> None:
    shutil.copytree(SOURCES, tmp_path / "src" / "attentive_lens", ignore=shutil.ignore_patterns("__pycache__"))
    shutil.copy(ROOT / "pyproject.toml", tmp_path)
    clean = lint(tmp_path)
    assert clean.returncode == 0, clean.stdout
    for name, line in BREACHES.items():
        file = tmp_path / "src" / "attentive_lens" / name
        whole = file.read_text("utf-8")
        file.write_text(f"{whole}\n{line}\n", "utf-8")
        assert lint(tmp_path).returncode != 0, f"{line} in {name} was not caught"
        file.write_text(whole, "utf-8")


@pytest.mark.parametrize(
    "module", ["attentive_lens.cli.commands", "attentive_lens.window.application", "attentive_lens.desk.training.runs"]
)
def test_the_faces_are_light(module: str) -> None:
    code = f"import sys, {module}; print([m for m in sys.modules if m.startswith({HEAVY!r}) and m not in {LIGHT!r}])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.stdout.strip() == "[]", done.stdout + done.stderr


def test_no_stage_or_view_of_the_window_loads_anything_compiled() -> None:
    code = """
import sys
from attentive_lens.window.pages import STAGES
from attentive_lens.window.results.views import VIEWS
for each in (*STAGES.values(), *VIEWS.values()):
    each.load()
print([m for m in sys.modules if m in ("numba", "scipy", "sklearn", "onnx", "matplotlib")])
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.stdout.strip() == "[]", done.stdout + done.stderr


def test_no_file_is_longer_than_400_lines() -> None:
    long = [str(f) for f in SOURCES.rglob("*.py") if len(f.read_text("utf-8").splitlines()) > 400]
    assert long == []


def test_colours_stand_only_in_the_look() -> None:
    for file in (SOURCES / "window").rglob("*.py"):
        if file.name != "look.py":
            assert not re.search(r"#[0-9A-Fa-f]{6}\b", file.read_text("utf-8")), file


def test_every_pinned_package_has_its_hashes() -> None:
    for name in ("requirements.lock", "requirements-check.lock"):
        text = (ROOT / name).read_text("utf-8")
        packages = re.findall(r"^([A-Za-z0-9_.-]+)==", text, re.MULTILINE)
        assert len(packages) > 10
        assert all(f"{package}==" in text for package in packages)
        for block in re.split(r"\n(?=[A-Za-z0-9])", text.strip()):
            assert "--hash=sha256:" in block, block[:60]
    table = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))
    locked = (ROOT / "requirements.lock").read_text("utf-8").lower()
    for wanted in table["project"]["dependencies"]:
        name = re.split(r"[>=<]", wanted)[0].lower()
        assert re.search(rf"^{re.escape(name)}==", locked, re.MULTILINE), name


def test_every_request_has_a_task_that_takes_it_and_gives_its_result() -> None:
    ours = {name: kind for name, kind in requests_by_name().items() if kind.__module__.startswith("attentive_lens.")}
    assert len(ours) > 30
    for name, request in ours.items():
        module, _, function = request.task.partition(".")
        task = getattr(importlib.import_module(f"attentive_lens.desk.tasks.{module}"), function)  # noqa: TID251
        hints = get_type_hints(task)
        assert hints["request"] is request, name
        assert get_args(hints["return"])[2] is request.result, name


def test_values_are_named_by_what_they_are() -> None:
    """Participles that could name anything name nothing."""
    banned = {"found", "told", "asked", "kept"}
    for folder in (SOURCES, ROOT / "tests"):
        for file in folder.rglob("*.py"):
            tree = ast.parse(file.read_text("utf-8"))
            names = {node.id for node in ast.walk(tree) if isinstance(node, ast.Name)}
            names |= {node.arg for node in ast.walk(tree) if isinstance(node, ast.arg)}
            names |= {node.attr for node in ast.walk(tree) if isinstance(node, ast.Attribute)}
            names |= {node.name for node in ast.walk(tree) if isinstance(node, ast.FunctionDef | ast.ClassDef)}
            assert not names & banned, f"{file.name}: {names & banned}"


def test_the_window_takes_no_measures() -> None:
    """They come with the scores from the worker: of the modules of measures it knows the classes, no function."""
    for file in (SOURCES / "window").rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text("utf-8"))):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("attentive_lens.scoring"):
                assert node.module != "attentive_lens.scoring", file.name
                if node.module in ("attentive_lens.scoring.measures", "attentive_lens.scoring.scores"):
                    functions = [each.name for each in node.names if each.name[0].islower()]
                    assert not functions, f"{file.name}: {functions}"


def test_images_are_counted_in_one_place() -> None:
    """From a number to a place and back goes by `core.numbering`: nowhere a bare one is added or taken."""
    bare = re.compile(r"\b(images?|numbers?|n) - 1\]|\[place \+ 1\]|emit\((self\.)?place \+ 1\)")
    for room in ("window", "desk", "workspace", "cli"):
        for file in (SOURCES / room).rglob("*.py"):
            lines = [line for line in file.read_text("utf-8").splitlines() if bare.search(line)]
            assert lines == [], file
