"""The command line as a stranger uses it, on images that are not ours."""

from __future__ import annotations

import contextlib
import io
import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import typer.main
from PIL import Image
from tests.cli.running import SCHEMA, TINY, command, last_object, leaves, run_words

import attentive_lens
from attentive_lens.cli.entry import COMMANDS, with_commands
from attentive_lens.workspace import Workspace


def test_the_whole_loop_on_images_that_are_not_ours(tmp_path: Path) -> None:
    source, work = leaves(tmp_path / "leaves"), tmp_path / "work"
    (source / "round leaf" / "broken.png").write_bytes(b"not an image")
    made = last_object(command("new", work, source, "--json"))
    assert made["images"] == 28
    assert made["classes"] == {"a long leaf with quite a long name to it": 14, "round leaf": 14}
    assert [Path(s["file"]).name for s in made["skipped"]] == ["broken.png"]
    trained = last_object(command("train", work, *TINY, "--json"))
    assert (trained["run"], trained["state"], trained["epochs"]) == (1, "done", 2)
    assert len(trained["weights_sha256"]) == 64
    scored = last_object(command("score", work, 1, "--json"))
    assert scored["images"] == sum(map(sum, scored["confusion"])) == 6
    assert (scored["relabelled"], scored["judged_by_test"]) == ([], [])
    assert len(scored["wrong"]) == round(6 * (1 - scored["accuracy"]))
    assert trained["validation"]["accuracy"] == pytest.approx(scored["accuracy"])
    result = last_object(command("explain", work, 1, 3, "--json", "--out", tmp_path / "out"))
    assert {entry["key"] for entry in result["maps"]} >= {"predicted", "true"}
    for entry in result["maps"]:
        map_ = np.load(entry["file"])
        assert map_.shape == (24, 24)
        assert map_.dtype == np.float32
        with Image.open(entry["picture"]) as picture:
            assert picture.width == 2 * picture.height
    with Image.open(result["filters_picture"]) as picture:
        assert picture.size == (420, 56)
    answers = command("predict", trained["model"], source, "--json").strip().splitlines()
    lines = [json.loads(line) for line in answers]
    assert len(lines) == 29
    assert [Path(line["file"]).name for line in lines if "error" in line] == ["broken.png"]
    assert all(sum(line["probabilities"].values()) == pytest.approx(1) for line in lines if "error" not in line)
    again = last_object(command("train", work, *TINY, "--json"))
    assert again["weights_sha256"] == trained["weights_sha256"]
    threads = last_object(command("train", work, *TINY, "--set", "training.threads=1", "--json"))
    assert threads["weights_sha256"] == trained["weights_sha256"]


def test_every_command_speaks_to_people_too(station: Workspace, tmp_path: Path) -> None:
    folder = station.folder
    assert "accuracy" in command("train", folder, *TINY)
    watched = command("watch", folder)
    assert "epoch 2 of 2" in watched
    assert "loss: cross-entropy" in watched
    assert len(re.findall(r"^epoch +\d · training .* · learning rate 0.001 · ", watched, re.MULTILINE)) == 2
    assert "true \\ said" in command("score", folder, 1, "--on", "test")
    assert "of what could be reached" in command("explain", folder, 1, 2, "--out", tmp_path / "out")
    assert "unreadable: images/training/netted/tape99-empty.png: it is empty" in command("faults", folder)
    result = last_object(command("faults", folder, "--json"))
    assert len(result["skipped"]) == 4
    assert all(finding["files"] for finding in result["findings"])
    model = station.run(1).model
    assert "(0." in command("predict", model, folder / "images" / "test" / "spiny")
    assert command("--version").strip()


def test_the_demo_runs_the_full_example_once_and_goes_on_with_an_interrupted_one(tmp_path: Path) -> None:
    words = ("demo", tmp_path / "p", "--images", 60, "--no-window", "--epochs", 2, "--json")
    result = last_object(command(*words))
    assert result["train"]["epochs"] == 2
    assert result["scores"].keys() == {"validation", "test"}
    assert 1 <= len(result["explained"]) <= 5
    pictures = list(Path(result["results"]).glob("*-predicted.png"))
    assert len(pictures) == len(result["explained"])
    again = last_object(command(*words))
    assert again == {**result, "train": None}
    runs = tmp_path / "p" / "runs"
    # Cut off after its first epoch, as when the machine goes down.
    journal = runs / "0001" / "journal.jsonl"
    whole = journal.read_text("utf-8").splitlines()
    first = next(k for k, line in enumerate(whole) if '"event": "epoch"' in line)
    journal.write_text("\n".join(whole[: first + 1]) + "\n", "utf-8")
    (runs / "0001" / "checkpoints" / "last.alens").unlink()
    went_on = last_object(command(*words))
    assert went_on["train"]["run"] == 1
    assert went_on["train"]["weights_sha256"] == result["train"]["weights_sha256"]
    assert went_on["scores"] == result["scores"]
    assert [run.name for run in runs.iterdir()] == ["0001"]


@pytest.mark.parametrize(
    ("words", "reason"),
    [
        (["score", "none", "1"], "not a workspace"),
        (["new", "w", "none"], "no such file"),
        (["predict", "none.alens", "STATION"], "no such file"),
        (["train", "STATION", "--plan", "none.toml"], "no such file"),
        (["explain", "STATION", "1", "999"], "numbered 1 to 90"),
        (["watch", "STATION", "8"], "There is no run 8"),
    ],
)
def test_a_failure_is_one_sentence_and_exit_code_1(
    words: list[str], reason: str, station_once: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    ready = [str(station_once) if w == "STATION" else w for w in words]
    result = last_object(command(*ready, "--json", code=1))
    assert result.keys() == {"error"}
    assert reason in " ".join(result["error"].values())


@pytest.mark.parametrize(
    ("words", "reason"),
    [
        (["train", "STATION", "--set", "optimiser.learning_rate=fast"], "a number is needed"),
        (["train", "STATION", "--set", "optimiser.learning_rate"], "has no «=»"),
        (["train", "STATION", "--set", "training.epoch=3"], "training.epochs"),
        (["train", "STATION", "--set", "preprocessing.input_size=5"], "does not fit"),
        (["train", "STATION", "--set", "network={a=1}"], "three blocks"),
        (["train", "STATION", "--set", "base.run=x", "--set", "base.until=relu 1"], "whole number"),
        (["train", "STATION", "--resume", "1", "--set", "training.epochs=3"], "never changes"),
        (["try", "STATION", "1", "2", "--change", ""], "not understood"),
        (["try", "STATION", "1", "2", "--change", "rotate degrees=inf"], "degrees"),
        (["score", "STATION", "1", "--on", "tests"], "test"),
        (["causes", "STATION", "1", "--on", "tests"], "test"),
        (["explain", "STATION", "1"], "at least one image"),
        (["explain", "STATION", "1", "two"], "no number"),
        (["new", "w", "STATION", "--read", "layout=XYZ"], "layout"),
        (["label", "STATION"], "neither a table nor --out"),
        (["plan", "new", "--set", "training.epoch=3"], "training.epochs"),
        (["train"], "Missing argument"),
        (["score", "x", "one"], "RUN"),
        (["demo", "--images", "many"], "--images"),
        (["predict", "model.alens", "--nothing"], "--nothing"),
        (["trian", "STATION"], "train"),
        (["trian"], "train"),
        (["STATION", "score"], "one folder"),
        (["xyzzy"], "neither a command nor a folder"),
    ],
)
def test_wrong_words_and_keys_are_exit_code_2(
    words: list[str], reason: str, station_once: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    ready = [str(station_once) if w == "STATION" else w for w in words]
    result = last_object(command(*ready, "--json", code=2))
    assert result.keys() == {"error"}
    assert result["error"].keys() == {"what", "why", "remedy"}
    assert reason in " ".join(result["error"].values())
    assert list(tmp_path.iterdir()) == []


def test_ctrl_c_stops_after_the_step_and_keeps_everything(station: Workspace) -> None:
    words = [
        "train",
        str(station.folder),
        "--set",
        "network=two blocks",
        "--set",
        "preprocessing.input_size=24",
        "--json",
    ]
    process = subprocess.Popen(
        [sys.executable, "-m", "attentive_lens", *words, "--set", "training.epochs=9999"],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    journal = station.folder / "runs" / "0002" / "journal.jsonl"
    end = time.monotonic() + 60
    while not (journal.exists() and '"epoch", ' in journal.read_text()):
        assert time.monotonic() < end
        time.sleep(0.05)
    os.kill(process.pid, signal.SIGINT)
    out, _ = process.communicate(timeout=30)
    result = last_object(out)
    assert process.returncode == 3
    assert result["state"] == "stopped"
    assert result["epochs"] >= 1
    assert Path(result["model"]).exists()


def test_every_command_has_its_schema_its_words_and_its_place_in_the_manual() -> None:
    names = {name for name in SCHEMA["$defs"] if name != "error"}
    assert {name.split(" ")[0] for name in names} == set(COMMANDS)
    manual = (Path(attentive_lens.__file__).parent / "desktop" / "data" / "attentive-lens.1").read_text("utf-8")
    for name in names:
        assert f".SS {name}".replace("-", "\\-") in manual, name
    group = typer.main.get_command(with_commands())
    commands = dict(group.commands)  # type: ignore[attr-defined]
    commands |= {f"plan {name}": own for name, own in commands.pop("plan").commands.items()}
    assert commands.keys() == names
    for name, own in commands.items():
        options = {word for parameter in own.params for word in parameter.opts}
        assert "--json" in options, name
        for parameter in own.params:
            assert parameter.help or parameter.hidden, (name, parameter.name)
            metavar = parameter.metavar or "X"
            assert metavar.strip("[]") == metavar.strip("[]").upper(), (name, metavar)
            if "--out" in parameter.opts:
                assert metavar in ("FILE", "FOLDER"), name
            if "--plan" in parameter.opts:
                assert "read" in parameter.help.lower(), name


def test_pages_made_from_the_program_are_as_it_is_now() -> None:
    script = Path(__file__).parents[2] / "scripts" / "reference.py"
    done = subprocess.run([sys.executable, script, "--check"], capture_output=True, text=True, timeout=60)
    assert done.returncode == 0, done.stderr


def test_a_shell_is_told_how_a_command_goes_on(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("_ATTENTIVE_LENS_COMPLETE", "complete_bash")
    monkeypatch.setenv("COMP_WORDS", "attentive-lens neigh")
    monkeypatch.setenv("COMP_CWORD", "1")
    assert command().split() == ["neighbours"]
    monkeypatch.delenv("_ATTENTIVE_LENS_COMPLETE")
    assert "--install-completion" in command("--help")


@pytest.mark.parametrize(
    "words",
    [
        ["new", "LONG", "STATION/images"],
        ["new", "work", "LONG"],
        ["score", "LONG", "1"],
        ["predict", "LONG", "STATION"],
        ["predict", "STATION/runs/0001/checkpoints/best.alens", "LONG"],
        ["plan", "check", "LONG"],
        ["plan", "new", "--out", "LONG"],
        ["label", "STATION", "LONG"],
        ["label", "STATION", "--out", "LONG"],
        ["source", "STATION", "LONG"],
        ["explain", "STATION", "1", "2", "--out", "/dev/null/x"],
        ["layer", "STATION", "1", "relu 1", "--out", "/dev/null/x"],
        ["map", "STATION", "1", "--out", "/dev/null/x.csv"],
        ["demo", "/dev/null/x", "--images", "24"],
        ["train", "STATION", "--plan", "/dev"],
    ],
)
def test_paths_that_cannot_be_used_are_a_sentence(
    words: list[str], station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    ready = [w.replace("STATION", str(station.folder)).replace("LONG", "x" * 5000) for w in words]
    result = last_object(command(*ready, "--json", code=1))
    assert "fault" not in result["error"]["what"], result


def test_a_fault_of_the_program_is_json_too_and_says_where_its_trace_is(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("attentive_lens.desk.tasks.carry_out", lambda *_: 1 / 0)
    result = last_object(command("score", station.folder, 1, "--json", code=1))
    assert result["error"]["what"] == "The program has a fault"
    assert "ZeroDivisionError" in result["error"]["why"]
    log = Path(result["error"]["why"].rsplit("its trace is in ", 1)[1])
    assert "ZeroDivisionError" in log.read_text("utf-8")
    err = io.StringIO()
    with contextlib.redirect_stderr(err):
        assert run_words("score", station.folder, 1) == 1
    assert len(err.getvalue().splitlines()) == 1


def test_a_moved_source_and_a_damaged_catalogue_are_mended_by_command(tmp_path: Path) -> None:
    source, work = leaves(tmp_path / "leaves"), tmp_path / "work"
    command("new", work, source)
    source.rename(tmp_path / "elsewhere")
    assert last_object(command("source", work, tmp_path / "elsewhere", "--json"))["present"] == 28
    assert "28 images are there, 0 are not" in command("source", work, tmp_path / "elsewhere")
    same = {"added": [], "changed": [], "gone": [], "back": [], "problems": []}
    assert last_object(command("rescan", work, "--json")) == same
    (work / "catalogue.sqlite").write_bytes(b"nothing")
    for left in work.glob("catalogue.sqlite-*"):
        left.unlink()
    assert (
        "restore"
        in last_object(command("label", work, "--out", tmp_path / "l.csv", "--json", code=1))["error"]["remedy"]
    )
    assert last_object(command("restore", work, "--json"))["images"] == 28
    assert "28 images" in command("restore", work)
    assert last_object(command("label", work, "--out", tmp_path / "l.csv", "--json"))["images"] == 28
