"""What «Bringing your own» says, done in a package beside the program, stands everywhere; the broken is left out."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest
from PIL import Image

from attentive_lens.core.extensions import ALONE, PAIRS, PREFIX, left_out
from attentive_lens.workspace import Workspace

GUIDE = Path(__file__).parents[2] / "docs" / "developing" / "extending.md"
PACKAGE = "grain_tools"


def written(folder: Path, changed: dict[str, str] | None = None) -> Path:
    """The guide's package as it is when it is installed, some of its text changed."""
    text = GUIDE.read_text("utf-8")
    for old, new in (changed or {}).items():
        assert old in text
        text = text.replace(old, new)
    (project,) = re.findall(r"```toml\n(.*?)```", text, re.DOTALL)
    modules = re.findall(rf"`{PACKAGE}/(\w+)\.py`[^`]*(?:`[^`\n]+`[^`]*)*```python\n(.*?)```", text, re.DOTALL)
    assert [name for name, _ in modules] == ["settings", "computing", "slides"]
    (folder / PACKAGE).mkdir(parents=True)
    (folder / PACKAGE / "__init__.py").touch()
    for name, code in modules:
        (folder / PACKAGE / f"{name}.py").write_text(code, "utf-8")
    table = tomllib.loads(project)["project"]
    info = folder / f"{PACKAGE}-{table['version']}.dist-info"
    info.mkdir()
    (info / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {table['name']}\nVersion: {table['version']}\n")
    lines = []
    for group, points in table["entry-points"].items():
        lines += [f"[{group}]", *(f"{name} = {place}" for name, place in points.items())]
    (info / "entry_points.txt").write_text("\n".join(lines) + "\n")
    return folder


@pytest.fixture(scope="module")
def beside(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return written(tmp_path_factory.mktemp("beside"))


def run(beside: Path, *words: object) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "PYTHONPATH": str(beside), "QT_QPA_PLATFORM": "offscreen"}
    started = [sys.executable, *map(str, words)]
    return subprocess.run(started, env=environment, capture_output=True, text=True, timeout=200)


def command(beside: Path, *words: object) -> str:
    done = run(beside, "-m", "attentive_lens", *words)
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def extensions(beside: Path) -> list[dict[str, str]]:
    return json.loads(command(beside, "extensions", "--json"))["extensions"]


def test_the_guide_has_an_example_for_every_table(beside: Path) -> None:
    listed = extensions(beside)
    assert {each["group"] for each in listed} == {*PAIRS, *PAIRS.values(), *ALONE}
    assert [each["problem"] for each in listed] == [""] * len(listed)
    assert {(each["package"], each["version"]) for each in listed} == {("grain-tools", "1.0")}
    text = GUIDE.read_text("utf-8")
    assert all(f"{PREFIX}{group}" in text for group in (*PAIRS, *PAIRS.values(), *ALONE))


def test_they_train_explain_and_come_back_like_ours(beside: Path, station: Workspace, tmp_path: Path) -> None:
    place = station.folder
    keys = command(beside, "plan", "keys", "--json")
    assert all(word in keys for word in ("focal", "inverse root", "sign"))
    plan = tmp_path / "mine.toml"
    command(beside, "plan", "new", "--network", "two blocks", "--classes", 6, "--out", plan)
    text = plan.read_text("utf-8").replace('layer = "relu"', 'layer = "soft plus"\nbeta = 2.0', 1)
    text += '\n[[augmentation]]\nkind = "dust"\nprobability = 1.0\nspecks = 9\n'
    plan.write_text(text, "utf-8")
    ours = ("loss=focal", "schedule=inverse root", "optimiser=sign", "preprocessing.input_size=32", "training.epochs=2")
    words = [word for setting in ours for word in ("--set", setting)]
    result = json.loads(command(beside, "train", place, "--plan", plan, *words, "--json"))
    assert result["state"] == "done"
    number = result["run"]
    stored = (place / "runs" / f"{number:04d}" / "plan.toml").read_text("utf-8")
    assert all(word in stored for word in ("soft plus", "dust", "focal", "inverse root", '"sign"'))
    verified = json.loads(command(beside, "verify", place, number, "--json"))
    assert verified["accuracy"] > 0
    out = tmp_path / "maps"
    explained = command(beside, "explain", place, number, 1, "--method", "gradient_power", "--out", out, "--json")
    assert json.loads(explained.splitlines()[-1])["maps"][0]["method"]["kind"] == "gradient_power"


def test_a_measure_of_theirs_chooses_the_best_epoch_and_a_rule_ends_the_run(
    beside: Path, station: Workspace, tmp_path: Path
) -> None:
    place = station.folder
    small = ("network=two blocks", "preprocessing.input_size=32", "training.epochs=9", "augmentation=none")
    own = ("training.best_by=worst_class", "stopping.rule=level_loss", "stopping.rule_value=0.9")
    words = [word for setting in (*small, *own) for word in ("--set", setting)]
    result = json.loads(command(beside, "train", place, *words, "--json").splitlines()[-1])
    assert result["epochs"] < 9
    assert "level loss" in result["reason"]
    number = result["run"]
    lines = (place / "runs" / f"{number:04d}" / "journal.jsonl").read_text("utf-8").splitlines()
    events = [json.loads(line) for line in lines]
    epochs = [event for event in events if event["event"] == "epoch"]
    values = [epoch["validation"]["more"]["worst_class"] for epoch in epochs]
    assert all(0 <= value <= 1 for value in values)
    assert all("more" not in epoch["training"] for epoch in epochs), "of training images two measures are known"
    best = max(values)
    assert result["validation"]["more"]["worst_class"] == best
    scores = json.loads(command(beside, "score", place, number, "--json"))
    assert dict(scores["overview"]["more"])["worst_class"] == pytest.approx(best)
    assert "worst class" in command(beside, "score", place, number)
    rate = ("--set", "stopping.rule=none", "--set", "stopping.rule_value=0")
    assert "done" in command(beside, "train", place, *words, *rate, "--json")


def test_a_measure_that_fails_is_left_out_but_where_a_run_goes_by_it(station: Workspace, tmp_path: Path) -> None:
    line = "    return min(right[labels == label].mean() for label in np.unique(labels))"
    for wrong, reason in (("    raise ValueError('no class today')", "no class today"), ("    return np.nan", "nan")):
        beside = written(tmp_path / reason.split()[0], {line: wrong})
        small = ("--set", "network=two blocks", "--set", "preprocessing.input_size=32", "--set", "training.epochs=1")
        result = json.loads(command(beside, "train", station.folder, *small, "--json").splitlines()[-1])
        assert result["state"] == "done"
        assert not result["validation"].get("more")
        done = run(
            beside, "-m", "attentive_lens", "train", station.folder, *small, "--set", "training.best_by=worst_class"
        )
        assert done.returncode == 1
        assert "«worst_class» could not be computed" in " ".join(done.stderr.split())
        assert reason in done.stderr
        assert "Traceback" not in done.stderr
    broken = written(tmp_path / "rule", {"    if len(losses) == 2 and": "    if losses[7] and"})
    rules = ("--set", "stopping.rule=level_loss", "--set", "stopping.rule_value=0.1")
    done = run(broken, "-m", "attentive_lens", "train", station.folder, *small, *rules)
    assert done.returncode == 1
    assert "The stop rule «level_loss» failed" in " ".join(done.stderr.split())


def test_a_source_of_theirs_makes_a_workspace(beside: Path, tmp_path: Path) -> None:
    lines = []
    for k in range(8):
        Image.new("RGB", (12, 12), (20 * k, 90, 200)).save(tmp_path / f"{k}.png")
        lines.append(f"{k}.png\t{'light' if k % 2 else 'dark'}")
    (tmp_path / "list.slides").write_text("\n".join(lines) + "\n", "utf-8")
    made = json.loads(command(beside, "new", tmp_path / "place", tmp_path / "list.slides", "--json"))
    assert made["classes"] == {"dark": 4, "light": 4}


def test_without_the_package_its_model_says_what_is_missing(beside: Path, station: Workspace, tmp_path: Path) -> None:
    plan = tmp_path / "mine.toml"
    command(beside, "plan", "new", "--set", "optimiser=sign", "--out", plan)
    done = run(tmp_path, "-m", "attentive_lens", "plan", "check", plan)
    assert done.returncode == 2
    assert "sign" in done.stdout + done.stderr
    assert left_out() == ()


WRONG = {
    "raises": ({"FOCUS = 2.0": "raise RuntimeError('no slides today')"}, "no slides today", "engine.losses"),
    "is no such thing": (
        {'"dust" = "grain_tools.settings:Dust"': '"dust" = "grain_tools.settings:Focal"'},
        "it is no AugmentationStep",
        "plan.augmentation",
    ),
    "has a name that is taken": (
        {"inverse root": "cosine"},
        "there is one of that name already",
        "plan.schedules",
    ),
    "is not there": (
        {'"sign" = "grain_tools.settings:Sign"': '"sign" = "grain_tools.settings:Nothing"'},
        "Nothing",
        "plan.optimisers",
    ),
    "lacks its other half": (
        {'"focal" = "grain_tools.computing:focal"': '"other" = "grain_tools.computing:focal"'},
        "nothing computes by it",
        "plan.losses",
    ),
}


@pytest.mark.parametrize("name", WRONG)
def test_what_is_broken_is_named_and_left_out_and_all_else_goes_on(name: str, tmp_path: Path) -> None:
    changed, reason, group = WRONG[name]
    beside = written(tmp_path / "beside", changed)
    problems = {each["group"]: each["problem"] for each in extensions(beside) if each["problem"]}
    assert reason in problems[group]
    done = run(beside, "-m", "attentive_lens", "extensions")
    assert "grain-tools" in done.stdout
    assert reason in " ".join(done.stdout.split())
    if group.startswith("plan."):
        keys = run(beside, "-m", "attentive_lens", "plan", "keys")
        assert keys.returncode == 0
        assert "is left out" in keys.stderr


def test_settings_without_what_computes_them_fail_in_words_when_they_are_used(
    station: Workspace, tmp_path: Path
) -> None:
    beside = written(tmp_path / "beside", {"FOCUS = 2.0": "raise RuntimeError('no slides today')"})
    small = ("preprocessing.input_size=32", "training.epochs=1")
    for setting in ("loss=focal", "schedule=inverse root", "optimiser=sign"):
        words = [word for each in (setting, *small) for word in ("--set", each)]
        done = run(beside, "-m", "attentive_lens", "train", station.folder, *words)
        assert done.returncode == 1
        assert "cannot be computed" in done.stderr
        assert "Traceback" not in done.stderr


def test_what_several_threads_want_at_once_is_loaded_once_for_all(tmp_path: Path) -> None:
    beside = written(tmp_path / "beside", {"FOCUS = 2.0": "FOCUS = 2.0\nimport time\ntime.sleep(0.5)"})
    code = """
from concurrent.futures import ThreadPoolExecutor
from attentive_lens.engine.losses import LOSSES
with ThreadPoolExecutor(4) as pool:
    losses = list(pool.map(lambda _: LOSSES["focal"], range(4)))
assert len(set(losses)) == 1
assert losses[0].__module__ == "grain_tools.computing", losses[0]
"""
    done = run(beside, "-c", code)
    assert done.returncode == 0, done.stderr
