"""What «How to add» in docs/developing/developing.md says is done to a copy of the program, and appears everywhere."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

import pytest
from PIL import Image

from attentive_lens.workspace import Workspace

ROOT = Path(__file__).parents[2]
GUIDE = ROOT / "docs" / "developing" / "developing.md"
MOST_FILES = 3


@dataclass(frozen=True)
class Change:
    """A block of code of the guide: in which file, and as what."""

    file: str
    code: str
    table: str = ""
    head: bool = False
    new: bool = False


def changes() -> dict[str, list[Change]]:
    """The guide's changes by what they add."""
    text = GUIDE.read_text("utf-8").split("## How to add", 1)[1]
    result: dict[str, list[Change]] = {}
    for section in text.split("\n### ")[1:]:
        title, *_ = section.splitlines()
        file, rows = "", []
        for predicted, code in re.findall(r"\n\n((?:[^`]|`[^`\n]+`)*?)```python\n(.*?)```", section, re.DOTALL):
            predicted = predicted.strip().split("\n\n")[-1]
            named = re.search(r"[Ii]n (the new file )?`([a-z_/]+\.py)`", predicted)
            if named:
                file = named.group(2)
            table = re.search(r"`([A-Z_]+)`", predicted)
            new = bool(named and named.group(1))
            rows.append(Change(file, code, table.group(1) if table else "", "at its head" in predicted, new))
        if rows:
            result[title] = rows
    return result


def make(change: Change, program: Path) -> None:
    """Make one change, as somebody would with an editor."""
    file = program / change.file
    if change.new:
        assert not file.exists()
        file.write_text(change.code, "utf-8")
        return
    lines = file.read_text("utf-8").splitlines()
    if change.head:
        at = next(k for k, line in enumerate(lines) if re.match(r"(from|import) (?!__future__)", line))
    elif change.table:
        begin = next(k for k, line in enumerate(lines) if re.match(rf"{change.table}\b.*[=]", line))
        outside = len(change.code) - len(change.code.lstrip()) - 4
        at = next(k for k in range(begin + 1, len(lines)) if re.match(rf" {{{outside}}}[)}}]", lines[k]))
    else:  # before the file's table, if it has one
        tables = [k for k, line in enumerate(lines) if re.match(r"[A-Z_]{4,}: (dict|tuple|Parts)\[", line)]
        at = tables[0] if tables else len(lines)
    lines[at:at] = [*change.code.rstrip().splitlines(), *([] if change.table or change.head else ["", ""])]
    file.write_text("\n".join(lines) + "\n", "utf-8")


@pytest.fixture(scope="module")
def planted(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A copy of the program with all of the guide's changes made."""
    folder = tmp_path_factory.mktemp("planted")
    source, ignored = ROOT / "src" / "attentive_lens", shutil.ignore_patterns("__pycache__")
    shutil.copytree(source, folder / "attentive_lens", ignore=ignored)
    for rows in changes().values():
        for change in rows:
            make(change, folder / "attentive_lens")
    share_kernels(source, folder / "attentive_lens")
    return folder


def share_kernels(source: Path, copy: Path) -> None:
    """Compiled kernels are kept by the folder of their source; those of equal files need not be made anew."""
    from numba import config
    from numba.core.caching import _CacheLocator

    for file in source.rglob("*.py"):
        theirs = copy / file.relative_to(source)
        stored, own = (
            Path(config.CACHE_DIR) / _CacheLocator.get_suitable_cache_subpath(str(each)) for each in (file, theirs)
        )
        if config.CACHE_DIR and stored.is_dir() and file.read_bytes() == theirs.read_bytes():
            own.mkdir(exist_ok=True)
            for each in stored.glob(f"{file.stem}.*"):
                shutil.copy2(each, own)


def run(planted: Path, *words: object) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "PYTHONPATH": str(planted), "QT_QPA_PLATFORM": "offscreen"}
    started = [sys.executable, *map(str, words)]
    return subprocess.run(started, env=environment, capture_output=True, text=True, timeout=200, cwd=planted)


def command(planted: Path, *words: object) -> str:
    done = run(planted, "-m", "attentive_lens", *words)
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def test_nothing_takes_more_than_three_files_and_every_kind_is_shown() -> None:
    result = changes()
    assert list(result) == [
        "A layer",
        "An optimiser",
        "A schedule",
        "A map method",
        "A source of images",
        "A page",
        "Something to ask, with its command",
        "A change tried on an image",
        "A panel of evidence",
        "A view of the results",
    ]
    for title, rows in result.items():
        assert 2 <= len({change.file for change in rows}) <= MOST_FILES, title
        assert any(change.table for change in rows), title


def test_settings_are_listed_and_taken_by_every_face(planted: Path) -> None:
    keys = command(planted, "plan", "keys", "--json")
    for own in ("schedule.power", "sign descent", "polynomial"):
        assert own in keys
    plan = planted / "plan.toml"
    command(planted, "plan", "new", "--out", plan, "--set", "optimiser=sign descent", "--set", "schedule=polynomial",
            "--set", "schedule.power=2.0")  # fmt: skip
    text = plan.read_text("utf-8")
    assert 'kind = "sign descent"' in text
    assert "1 falls along a line" in text
    first = text.index('layer = "relu"')
    plan.write_text(text[:first] + 'layer = "softplus"\nbeta = 2.0' + text[first + len('layer = "relu"') :], "utf-8")
    command(planted, "plan", "check", plan)
    assert 'layer = "softplus"' in command(planted, "plan", "new", "--plan", plan)
    wrong = run(planted, "-m", "attentive_lens", "plan", "new", "--set", "schedule=polynomal")
    assert (wrong.returncode, "«polynomial»" in wrong.stderr) == (2, True)


def test_a_run_is_trained_explained_and_told_by_all_that_is_new(planted: Path, tmp_path: Path) -> None:
    source = tmp_path / "grains"
    source.mkdir()
    lines = []
    for k in range(24):
        level = (60, 190)[k % 2] + k
        Image.new("RGB", (20, 20), (level, 255 - level, 100)).save(source / f"{k}.png")
        lines.append(f"{k}.png\t{('dark', 'bright')[k % 2]}")
    (source / "all.pairs").write_text("\n".join([*lines, "nothing here"]), "utf-8")
    work = tmp_path / "work"
    made = json.loads(command(planted, "new", work, source / "all.pairs", "--json"))
    assert (made["images"], len(made["skipped"])) == (24, 1)
    assert json.loads(command(planted, "classes", work, "--json")) == {"classes": {"bright": 12, "dark": 12}}
    assert command(planted, "classes", work).split() == ["12", "bright", "12", "dark"]
    assert json.loads(command(planted, "classes", work, "--fewest", 13, "--json")) == {"classes": {}}
    refused = run(planted, "-m", "attentive_lens", "classes", work, "--fewest", -1)
    assert (refused.returncode, "--fewest" in refused.stderr) == (2, True)
    settings = ["optimiser=sign descent", "schedule=polynomial", "training.epochs=2", "preprocessing.input_size=16"]
    words = [word for own in settings for word in ("--set", own)]
    assert json.loads(command(planted, "train", work, *words, "--json").splitlines()[-1])["state"] == "done"
    summary = json.loads(
        command(planted, "explain", work, 1, 3, "--method", "squared_gradient power=3", "--json").splitlines()[-1]
    )
    assert [own["method"] for own in summary["maps"]] == [{"kind": "squared_gradient", "power": 3.0}] * len(
        summary["maps"]
    )
    fogged = json.loads(command(planted, "try", work, 1, 3, "--change", "fog amount=0.5", "--json"))
    assert fogged["after"][0]["change"] == {"kind": "fog", "amount": 0.5}
    unknown = run(planted, "-m", "attentive_lens", "explain", work, 1, 3, "--method", "squared_gradent")
    assert "squared_gradient" in unknown.stderr


WINDOW = """
import sys
import time
from pathlib import Path
from PyQt6.QtWidgets import QComboBox, QDoubleSpinBox, QLabel, QPushButton
from attentive_lens.window.application import make_application, open_folder
application = make_application()
frame = open_folder(Path(sys.argv[1]))
frame.show()
for stage in ("counts", "network", "training", "results", "explain"):
    frame.show_stage(stage)
until = time.monotonic() + 60
while frame.page("explain").explanation is None and time.monotonic() < until:
    application.processEvents()
box = frame.findChild(QComboBox, "method")
box.setCurrentIndex(box.findData("squared_gradient"))
box.activated.emit(box.currentIndex())
frame.findChild(QDoubleSpinBox, "map power").setValue(3.5)
page = frame.page("explain")
while getattr(page.explanation.method, "power", 0) != 3.5 and time.monotonic() < until:
    application.processEvents()
print(page.explanation.method.words)
frame.findChild(QPushButton, "evidence facts").click()
frame.show_stage("results")
frame.findChild(QPushButton, "losses of scores").click()
print(frame.findChild(QLabel, "facts of image").text(), frame.findChild(QLabel, "greatest loss").text())
words = {box.itemText(k) for box in frame.findChildren(QComboBox) for k in range(box.count())}
print(frame.findChild(QLabel, "counts").text(), frame.rail.buttons.keys(), sorted(words))
frame.close()
"""


def test_the_window_shows_what_is_new(planted: Path, station: Workspace) -> None:
    done = run(planted, "-c", WINDOW, station.folder)
    assert done.returncode == 0, done.stderr
    assert "90 images" in done.stdout
    assert "11 layers answered" in done.stdout
    assert "squared gradient power 3.5" in done.stdout, "a number of a method has its field"
    assert "greatest loss" in done.stdout
    for own in ("'counts'", "'sign descent'", "'polynomial'", "'squared gradient'", "'lay fog over it'"):
        assert own in done.stdout, (own, done.stdout)


GRADIENT = """
import numpy as np
from attentive_lens.engine.layers import LAYERS, Call
from attentive_lens.plan.layers import LAYERS as SETTINGS
layer = LAYERS["softplus"]("one", SETTINGS["softplus"](beta=3.0))
x = np.linspace(-2, 2, 9).reshape(1, 1, 3, 3)
out, saved = layer.forward(x.copy(), {}, Call())
grad, _ = layer.backward(np.ones_like(x), saved, {}, True, False)
h = 1e-6
near = [layer.forward(x + sign * h, {}, Call())[0] for sign in (1, -1)]
print(float(np.abs((near[0] - near[1]) / (2 * h) - grad).max()), float(out.max()))
"""


def test_a_layer_from_outside_has_its_gradient(planted: Path) -> None:
    done = run(planted, "-c", GRADIENT)
    assert done.returncode == 0, done.stderr
    gap, most = map(float, done.stdout.split())
    assert gap < 1e-8
    assert most == pytest.approx(2.0, abs=0.01)


def test_a_copy_without_a_line_in_the_table_lacks_it(tmp_path: Path) -> None:
    source, ignored = ROOT / "src" / "attentive_lens", shutil.ignore_patterns("__pycache__")
    shutil.copytree(source, tmp_path / "attentive_lens", ignore=ignored)
    for change in changes()["A schedule"]:
        if not change.table:
            make(change, tmp_path / "attentive_lens")
    wrong = run(tmp_path, "-m", "attentive_lens", "plan", "new", "--set", "schedule=polynomial")
    assert wrong.returncode == 2
