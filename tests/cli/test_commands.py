"""The command line as a stranger uses it, on images that are not ours."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import re
import signal
import subprocess
import sys
import time
import unittest.mock
from pathlib import Path

import fastjsonschema
import numpy as np
import pytest
import typer.main
from PIL import Image, ImageDraw

from attentive_lens.__main__ import main
from attentive_lens.cli import collecting, commands, explaining, planning
from attentive_lens.cli.app import app
from attentive_lens.cli.entry import COMMANDS
from attentive_lens.desk.front import reap_children, start_training
from attentive_lens.engine.losses import LOSSES
from attentive_lens.explaining.saliency import METHODS
from attentive_lens.training.journal import read_events
from attentive_lens.workspace import Workspace

del collecting, commands, explaining, planning  # imported for their commands

TINY = ["--set", "network=two blocks", "--set", "preparation.side=24", "--set", "training.epochs=2"]


def command(*words: object, code: int = 0) -> str:
    """What a command prints; run in this process, as its own starts with two seconds of imports."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        ended = run_words(*words)
    assert ended == code, out.getvalue() + err.getvalue()
    if "--json" in words:
        follow_the_schema(words, out.getvalue(), code)
    return out.getvalue()


def run_words(*words: object) -> int:
    with unittest.mock.patch.object(sys, "argv", ["attentive-lens", *map(str, words)]):
        return main()


SCHEMA = json.loads((Path(__file__).parents[2] / "docs" / "json-schema.json").read_text("utf-8"))


def follow_the_schema(words: tuple[object, ...], text: str, code: int) -> None:
    """Every line is an object as docs/json-schema.json says, the errors too."""
    name = "error" if code else f"plan {words[1]}" if words[0] == "plan" else str(words[0])
    check = fastjsonschema.compile({"$defs": SCHEMA["$defs"], "$ref": f"#/$defs/{name}"})
    lines = text.splitlines()
    assert lines
    for line in lines:
        check(json.loads(line, parse_constant=lambda word: pytest.fail(f"{word} is not JSON")))


def last_object(text: str) -> dict:  # type: ignore[type-arg]
    return json.loads(text.strip().splitlines()[-1])


def leaves(root: Path) -> Path:
    """Drawn leaves, round or long: other sizes, modes and shapes than the demo's."""
    random = np.random.default_rng(1)
    for name, squeeze in (("round leaf", 1.0), ("a long leaf with quite a long name to it", 0.35)):
        (root / name).mkdir(parents=True)
        for k in range(14):
            width, height = (int(n) for n in random.integers(40, 90, 2))
            picture = Image.new("RGB", (width, height), tuple(int(n) for n in random.integers(180, 250, 3)))
            half = min(width, height) * 0.4
            box = (width / 2 - half, height / 2 - half * squeeze, width / 2 + half, height / 2 + half * squeeze)
            ImageDraw.Draw(picture).ellipse(box, fill=(30, int(random.integers(90, 150)), 40))
            if k % 5 == 0:
                picture = picture.convert(("L", "P", "RGBA")[k // 5])
            picture.save(root / name / f"leaf {k}.png")
    return root


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
    told = last_object(command("explain", work, 1, 3, "--json", "--out", tmp_path / "out"))
    assert {entry["as"] for entry in told["maps"]} == {"said", "true"}
    for entry in told["maps"]:
        map_ = np.load(entry["file"])
        assert map_.shape == (24, 24)
        assert map_.dtype == np.float32
        with Image.open(entry["picture"]) as picture:
            assert picture.width == 2 * picture.height
    with Image.open(told["filters_picture"]) as picture:
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
    assert "loss: softmax cross-entropy" in watched
    assert len(re.findall(r"^epoch +\d · training .* · learning rate 0.001 · ", watched, re.MULTILINE)) == 2
    assert "true \\ said" in command("score", folder, 1, "--on", "test")
    assert "deleting what it marks" in command("explain", folder, 1, 2, "--out", tmp_path / "out")
    assert "unreadable: images/training/netted/tape99-empty.png: it is empty" in command("faults", folder)
    told = last_object(command("faults", folder, "--json"))
    assert len(told["skipped"]) == 4
    assert all(finding["files"] for finding in told["findings"])
    model = station.run(1).model
    assert "(0." in command("predict", model, folder / "images" / "test" / "spiny")
    assert command("--version").strip()


def test_an_image_is_asked_about_in_every_way(station: Workspace, tmp_path: Path) -> None:
    folder, out = station.folder, tmp_path / "out"
    told = last_object(
        command("explain", folder, 1, 2, "--method", "integrated_gradients", "--trust", "--out", out, "--json")
    )
    assert all(region["gives"].keys() == {"said", "true"} for region in told["regions"])
    assert told["regions"]
    measured = told["measured"]
    assert measured["agreement"].keys() == METHODS.keys() - {"integrated_gradients"}
    assert measured["said_map"]["completeness_error"] < 0.05
    assert {"everything", "limit", "passed"} <= measured["redrawn"].keys()
    assert (station.run(1).folder / "redrawn-integrated_gradients.json").exists()
    words = command("explain", folder, 1, 2, "--trust", "--out", out)
    assert "with all weights drawn anew" in words
    grouped = last_object(command("causes", folder, 1, "--json"))
    assert sum(len(group["images"]) for group in grouped["groups"]) == grouped["mistakes"] > 0
    assert "mistakes in" in command("causes", folder, 1)
    near = last_object(command("neighbours", folder, 1, 2, "--out", tmp_path / "t.csv", "--json"))
    assert [entry["distance"] for entry in near["near"]["true"]] == sorted(
        entry["distance"] for entry in near["near"]["true"]
    )
    with (tmp_path / "t.csv").open(newline="") as stream:
        assert len(list(csv.DictReader(stream))) > 20
    assert "nearest of said" in command("neighbours", folder, 1, 2, "--layer", "max pooling 1")
    tried = last_object(command("try", folder, 1, 2, "--change", "turn degrees=30", "--change", "denoise", "--json"))
    assert [after["change"] for after in tried["after"]] == ["turn", "denoise"]
    assert sum(tried["after"][0]["probabilities"].values()) == pytest.approx(1)
    assert "square" in command("try", folder, 1, 2, "--change", "brighten factor=1.2", "--smallest")
    layer = last_object(command("layer", folder, 1, "convolution 2", "--out", tmp_path / "layer", "--json"))
    patches = np.load(tmp_path / "layer" / "patches.npy")
    assert patches.shape == (16, 9, 8, 8, 3)
    assert len(layer["speaks"]) == 16
    with Image.open(layer["synthetic"]) as picture:
        assert picture.size == (8 * 32 * 3, 32 * 3)
    assert "switched off" in command("channel", folder, 1, 2, "relu 2", 3)
    assert "channel 0:" in command("layer", folder, 1, "convolution 2", "--out", tmp_path / "layer")


@pytest.mark.parametrize(
    ("words", "reason", "code"),
    [
        (["explain", "STATION", "1", "2", "--method", "gradiant"], "gradient", 2),
        (["try", "STATION", "1", "2", "--change", "cover row=a"], "row, column, side", 2),
        (["try", "STATION", "1", "2", "--change", "cover 3"], "not understood", 2),
        (["try", "STATION", "1", "2", "--change", "covr"], "cover", 2),
        (["try", "STATION", "1", "2", "--change", "scale factor=0"], "factor", 2),
        (["layer", "STATION", "1", "convolution 9"], "convolution 2", 2),
        (["channel", "STATION", "1", "2", "relu 2", "99"], "channels 0 to 15", 1),
        (["layer", "STATION", "1", "fully connected 1"], "one row of values", 1),
        (["neighbours", "STATION", "1", "2", "--layer", "relu 99"], "relu", 2),
        (["train", "STATION", "--resume", "1"], "trained all its epochs", 1),
        (["measure", "--kernels", "fast"], "auto", 2),
    ],
)
def test_what_cannot_be_asked_is_said(words: list[str], reason: str, code: int, station_once: Path) -> None:
    told = last_object(command(*[str(station_once) if w == "STATION" else w for w in words], "--json", code=code))
    assert reason in " ".join(told["error"].values())


def test_the_demo_runs_the_full_example_once_and_goes_on_with_an_interrupted_one(tmp_path: Path) -> None:
    words = ("demo", tmp_path / "p", "--images", 60, "--no-window", "--epochs", 2, "--json")
    told = last_object(command(*words))
    assert told["train"]["epochs"] == 2
    assert told["scores"].keys() == {"validation", "test"}
    assert 1 <= len(told["explained"]) <= 5
    pictures = list(Path(told["results"]).glob("*-said.png"))
    assert len(pictures) == len(told["explained"])
    again = last_object(command(*words))
    assert again == {**told, "train": None}
    runs = tmp_path / "p" / "runs"
    # Cut off after its first epoch, as when the machine goes down.
    journal = runs / "0001" / "journal.jsonl"
    whole = journal.read_text("utf-8").splitlines()
    first = next(k for k, line in enumerate(whole) if '"event": "epoch"' in line)
    journal.write_text("\n".join(whole[: first + 1]) + "\n", "utf-8")
    (runs / "0001" / "checkpoints" / "last.alens").unlink()
    went_on = last_object(command(*words))
    assert went_on["train"]["run"] == 1
    assert went_on["train"]["weights_sha256"] == told["train"]["weights_sha256"]
    assert went_on["scores"] == told["scores"]
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
    told = last_object(command(*ready, "--json", code=1))
    assert told.keys() == {"error"}
    assert reason in " ".join(told["error"].values())


@pytest.mark.parametrize(
    ("words", "reason"),
    [
        (["train", "STATION", "--set", "training.rate=fast"], "a number is needed"),
        (["train", "STATION", "--set", "training.rate"], "has no «=»"),
        (["train", "STATION", "--set", "training.epoch=3"], "training.epochs"),
        (["train", "STATION", "--set", "preparation.side=5"], "does not fit"),
        (["train", "STATION", "--set", "network={a=1}"], "three blocks"),
        (["train", "STATION", "--set", "base.run=x", "--set", "base.until=relu 1"], "whole number"),
        (["train", "STATION", "--resume", "1", "--set", "training.epochs=3"], "never changes"),
        (["try", "STATION", "1", "2", "--change", ""], "not understood"),
        (["try", "STATION", "1", "2", "--change", "turn degrees=inf"], "degrees"),
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
    told = last_object(command(*ready, "--json", code=2))
    assert told.keys() == {"error"}
    assert told["error"].keys() == {"what", "why", "remedy"}
    assert reason in " ".join(told["error"].values())
    assert list(tmp_path.iterdir()) == []


def test_ctrl_c_stops_after_the_step_and_keeps_everything(station: Workspace) -> None:
    words = ["train", str(station.folder), "--set", "network=two blocks", "--set", "preparation.side=24", "--json"]
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
    told = last_object(out)
    assert process.returncode == 3
    assert told["state"] == "stopped"
    assert told["epochs"] >= 1
    assert Path(told["model"]).exists()


def test_every_command_has_its_schema_its_words_and_its_place_in_the_manual() -> None:
    names = {name for name in SCHEMA["$defs"] if name != "error"}
    own = {name.split(" ")[0] for name in names}
    assert own == set(COMMANDS)
    manual = (Path(__file__).parents[2] / "docs" / "attentive-lens.1").read_text("utf-8")
    for name in names:
        assert f".SS {name}" in manual, name
    group = typer.main.get_command(app)
    commands = dict(group.commands)  # type: ignore[attr-defined]
    commands |= {f"plan {name}": command for name, command in commands.pop("plan").commands.items()}
    assert commands.keys() == names
    for name, command in commands.items():
        options = {word for parameter in command.params for word in parameter.opts}
        assert "--json" in options, name
        for parameter in command.params:
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


def test_images_no_workspace_knows_are_explained_by_a_model_file_alone(station: Workspace, tmp_path: Path) -> None:
    model, place = tmp_path / "grains.alens", leaves(tmp_path / "leaves")
    station.run(1).model.rename(model)
    files = [place / "round leaf" / "leaf 0.png", place / "a long leaf with quite a long name to it" / "leaf 0.png"]
    out = tmp_path / "out"
    text = command("explain", "--model", model, *files, "--for", "spiny", "--out", out, "--json")
    told = [json.loads(line) for line in text.splitlines()]
    assert [entry["file"] for entry in told] == [str(f) for f in files]
    written = [entry["file"] for one in told for entry in one["maps"]]
    assert len(set(written)) == len(written) == 4
    for one in told:
        assert (one["image"], one["true"]) == (None, None)
        assert [entry["as"] for entry in one["maps"]] == ["said", "for"]
        assert all(np.load(entry["file"]).shape == (32, 32) for entry in one["maps"])
    predicted = [json.loads(line) for line in command("predict", model, *files, "--json").splitlines()]
    for one, answer in zip(told, predicted, strict=True):
        assert one["probabilities"] == pytest.approx(answer["probabilities"], abs=1e-5)
    assert "said" in command("explain", "--model", model, place / "round leaf", "--out", out)
    refused = last_object(command("explain", "--model", model, files[0], "--trust", "--json", code=2))
    assert "--trust" in refused["error"]["what"]


def test_all_methods_and_several_images_are_explained_at_once(station: Workspace, tmp_path: Path) -> None:
    wrong = last_object(command("score", station.folder, 1, "--on", "training", "--json"))["wrong"]
    images = [wrong[0]["image"], wrong[1]["image"]]
    out = tmp_path / "out"
    text = command("explain", station.folder, 1, *images, "--method", "all", "--out", out, "--json")
    told = [json.loads(line) for line in text.splitlines()]
    assert [one["image"] for one in told] == images
    for one in told:
        assert {(e["method"], e["as"]) for e in one["maps"]} == {
            (method, key) for method in METHODS for key in ("said", "true", "difference")
        }
        maps = {(e["method"], e["as"]): np.load(e["file"]) for e in one["maps"]}
        for name in ("gradient_times_input", "integrated_gradients", "occlusion"):
            gap = maps[name, "said"] - maps[name, "true"]
            assert maps[name, "difference"] == pytest.approx(gap, abs=1e-3 * float(np.abs(gap).max()) + 1e-5)
        for entry in one["maps"]:
            with Image.open(entry["picture"]) as picture:
                assert picture.size == (2 * 32 * 5, 32 * 5)
        for name in ("contribution", "contribution_alpha_beta", "integrated_gradients"):
            trust = next(e["trust"] for e in one["maps"] if (e["method"], e["as"]) == (name, "said"))
            assert trust["completeness_error"] < (0.05 if name == "integrated_gradients" else 0.01)
    assert "map of said − true" in command("explain", station.folder, 1, images[0], "--out", out)


def test_a_plan_is_written_changed_checked_and_trained(station: Workspace, tmp_path: Path) -> None:
    file = tmp_path / "plan.toml"
    command("plan", "new", "--set", "network=two blocks", "--set", "preparation.side=24", "--out", file)
    text = file.read_text("utf-8")
    assert "# Times every training image is shown." in text
    file.write_text(text.replace("epochs = 20", "epochs = 1"), "utf-8")
    assert command("plan", "new", "--plan", file) == file.read_text("utf-8")
    rows = last_object(command("plan", "check", file, "--classes", 6, "--json"))["layers"]
    assert rows[0]["shape"] == [24, 24, 8]
    assert rows[-1]["shape"] == [6]
    assert "24×24×8" in command("plan", "check", file)
    trained = last_object(command("train", station.folder, "--plan", file, "--json"))
    assert trained["epochs"] == 1
    run = station.run(2)
    assert (run.plan().preparation.side, len(run.plan().recipe)) == (24, 4)
    bare = file.read_text("utf-8").split("# Changes made")[0] + 'network = "two blocks"\n'
    file.write_text('network = "two blocks"\n[training]\nepochs = 1\n[preparation]\nside = 24\n', "utf-8")
    last_object(command("train", station.folder, "--plan", file, "--json"))
    assert station.run(3).plan().recipe == ()
    file.write_text(bare.replace('network = "two blocks"\n', ""), "utf-8")
    refused = last_object(command("train", station.folder, "--plan", file, "--json", code=1))
    assert "no network" in refused["error"]["what"]
    assert "training.epochs" in command("plan", "keys")


def test_an_epoch_is_told_when_it_is_over_and_none_is_left_out(station: Workspace) -> None:
    err = io.StringIO()
    with contextlib.redirect_stderr(err), contextlib.redirect_stdout(io.StringIO()):
        assert run_words("train", station.folder, *TINY, "--set", "training.epochs=3") == 0
    lines = [line for line in err.getvalue().splitlines() if line.startswith("epoch ") and "training" in line]
    assert [int(line.split()[1]) for line in lines] == [1, 2, 3]
    events, _ = read_events(station.run(2).journal)
    for line, event in zip(lines, [e for e in events if e["event"] == "epoch"], strict=True):
        assert f"loss {event['training']['loss']:.3f}" in line
        assert f"validation {event['validation']['accuracy']:.1%} loss {event['validation']['loss']:.3f}" in line
        assert "learning rate 0.001" in line


@pytest.mark.parametrize("loss", LOSSES)
def test_the_loss_is_one_and_the_same_in_the_journal_and_the_score(loss: str, station: Workspace) -> None:
    more = ("--set", f"training.loss={loss}", "--set", "training.smoothing=0.2", "--set", "training.rate=0.0001")
    trained = last_object(command("train", station.folder, *TINY, *more, "--json"))
    scored = last_object(command("score", station.folder, 2, "--json"))
    assert scored["loss_function"] == loss
    assert scored["loss"] == pytest.approx(trained["validation"]["loss"], rel=1e-4)
    events, _ = read_events(station.run(2).journal)
    assert events[0]["loss_function"] == loss
    assert f"loss: {loss}" in command("watch", station.folder, 2)
    assert loss in command("score", station.folder, 2)


def test_watching_follows_a_run_until_it_ends(station: Workspace) -> None:
    plan = station.run(1).plan().changed({"training.epochs": 40})
    run = start_training(station, plan)
    watched = command("watch", station.folder, run.number)
    while reap_children():
        time.sleep(0.02)
    assert len([line for line in watched.splitlines() if line.startswith("epoch ")]) == 40
    assert watched.splitlines()[-1].endswith("done · epoch 40 of 40")


def test_causes_are_looked_for_on_validation_and_the_test_set_counts_as_asked(station: Workspace) -> None:
    assert last_object(command("causes", station.folder, 1, "--json"))["on"] == "validation"
    assert not station.run(1).scores_file("test").exists()
    told = last_object(command("causes", station.folder, 1, "--on", "test", "--json"))
    assert told["judged_by_test"] == [1]
    assert last_object(command("score", station.folder, 1, "--json"))["judged_by_test"] == [1]


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
        ["neighbours", "STATION", "1", "2", "--out", "/dev/null/x"],
        ["demo", "/dev/null/x", "--images", "24"],
        ["train", "STATION", "--plan", "/dev"],
    ],
)
def test_paths_that_cannot_be_used_are_a_sentence(
    words: list[str], station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    ready = [w.replace("STATION", str(station.folder)).replace("LONG", "x" * 5000) for w in words]
    told = last_object(command(*ready, "--json", code=1))
    assert "fault" not in told["error"]["what"], told


def test_a_fault_of_the_program_is_json_too_and_says_where_its_trace_is(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("attentive_lens.desk.tasks.score", lambda *_: 1 / 0)
    told = last_object(command("score", station.folder, 1, "--json", code=1))
    assert told["error"]["what"] == "The program has a fault"
    assert "ZeroDivisionError" in told["error"]["why"]
    log = Path(told["error"]["why"].rsplit("its trace is in ", 1)[1])
    assert "ZeroDivisionError" in log.read_text("utf-8")
    err = io.StringIO()
    with contextlib.redirect_stderr(err):
        assert run_words("score", station.folder, 1) == 1
    assert len(err.getvalue().splitlines()) == 1


def test_a_moved_source_and_a_damaged_catalogue_are_mended_by_command(tmp_path: Path) -> None:
    source, work = leaves(tmp_path / "leaves"), tmp_path / "work"
    command("new", work, source)
    source.rename(tmp_path / "elsewhere")
    assert last_object(command("source", work, tmp_path / "elsewhere", "--json"))["found"] == 28
    assert "28 images are there, 0 are not" in command("source", work, tmp_path / "elsewhere")
    assert last_object(command("rescan", work, "--json")) == {"added": [], "changed": [], "gone": [], "back": []}
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
