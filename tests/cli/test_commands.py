"""The command line as a stranger uses it, on images that are not ours."""

from __future__ import annotations

import csv
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageDraw

from attentive_lens.explaining.saliency import METHODS
from attentive_lens.workspace import Workspace

TINY = ["--set", "network=two blocks", "--set", "preparation.side=24", "--set", "training.epochs=2"]


def command(*words: object, code: int = 0) -> str:
    done = subprocess.run(
        [sys.executable, "-m", "attentive_lens", *map(str, words)], capture_output=True, text=True, timeout=110
    )
    assert done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done.stdout


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
    assert "epoch 2 of 2" in command("watch", folder)
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
    near = last_object(command("neighbours", folder, 1, 2, "--table", tmp_path / "t.csv", "--json"))
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
    ("words", "reason"),
    [
        (["explain", "STATION", "1", "2", "--method", "gradiant"], "gradient"),
        (["try", "STATION", "1", "2", "--change", "cover row=a"], "row, column, side"),
        (["try", "STATION", "1", "2", "--change", "cover 3"], "not understood"),
        (["try", "STATION", "1", "2", "--change", "covr"], "cover"),
        (["try", "STATION", "1", "2", "--change", "scale factor=0"], "factor"),
        (["layer", "STATION", "1", "convolution 9"], "convolution 2"),
        (["channel", "STATION", "1", "2", "relu 2", "99"], "channels 0 to 15"),
        (["layer", "STATION", "1", "fully connected 1"], "one row of values"),
        (["neighbours", "STATION", "1", "2", "--layer", "relu 99"], "relu"),
        (["train", "STATION", "--resume", "1"], "trained all its epochs"),
        (["measure", "--kernels", "fast"], "auto"),
    ],
)
def test_what_cannot_be_asked_is_said(words: list[str], reason: str, station_once: Path) -> None:
    told = last_object(command(*[str(station_once) if w == "STATION" else w for w in words], "--json", code=1))
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
        (["train", "STATION", "--set", "training.rate=fast"], "a number is needed"),
        (["train", "STATION", "--set", "training.rate"], "has no «=»"),
        (["train", "STATION", "--plan", "none.toml"], "no such file"),
        (["train", "STATION", "--set", "preparation.side=5"], "does not fit"),
        (["score", "STATION", "1", "--on", "tests"], "test"),
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


def test_wrong_usage_is_exit_code_2() -> None:
    command("train", code=2)
    command("score", "x", "one", code=2)
    command("demo", "--images", "many", code=2)


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
    assert process.returncode == 0
    assert told["state"] == "stopped"
    assert told["epochs"] >= 1
    assert Path(told["model"]).exists()
