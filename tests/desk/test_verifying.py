"""A model read anew scores the same to the last bit, and one that keeps a temperature answers by it, whoever asks."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.cli.running import command, last_object

import attentive_lens as al
from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.verifying import Verify
from attentive_lens.desk.tasks import carry_out, verifying
from attentive_lens.desk.tasks.verifying import AS_TRAINED, cooled, temperature_of
from attentive_lens.desk.training.cautions import cautions_of
from attentive_lens.formats.reading import read_model
from attentive_lens.scoring.measures import calibration_error
from attentive_lens.scoring.scores import Scores
from attentive_lens.workspace import Correction, Workspace


def scores_of(place: Workspace, on: str = "validation") -> Scores:
    return finish(carry_out(Score(str(place.folder), 1, on)))


def test_a_model_read_anew_gives_the_same_to_the_last_bit(station: Workspace) -> None:
    stored = scores_of(station)
    result = last_object(command("verify", station.folder, 1, "--json"))
    assert (result["same"], result["compared"], result["differ"], result["most"]) == (True, True, 0, 0)
    assert (result["accuracy"], result["loss"]) == (stored.accuracy, stored.loss)
    assert repr(stored.loss) in command("verify", station.folder, 1)
    assert "no scores" not in command("verify", station.folder, 1)
    station.run(1).scores_file("test").unlink(missing_ok=True)
    assert not last_object(command("verify", station.folder, 1, "--on", "test", "--json"))["compared"]
    assert last_object(command("verify", station.folder, 1, "--on", "test", "--json"))["compared"]


def test_scores_that_are_not_the_model_s_are_told(station: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    stored = scores_of(station)
    file = station.run(1).model
    cooled(read_model(file), 1.5).write(file)
    monkeypatch.setattr(verifying, "stored_scores", lambda *_: stored)
    result = finish(carry_out(Verify(str(station.folder), 1)))
    assert not result.same
    assert result.differ == result.images
    assert result.most > 0.001
    assert result.kept_accuracy == result.accuracy == stored.accuracy
    refused = last_object(command("verify", station.folder, 1, "--json", code=1))["error"]
    assert f"{result.differ} of {result.images} answers" in refused["why"]


def test_a_temperature_kept_in_the_model_is_everybody_s(station: Workspace) -> None:
    folder, run = station.folder, station.run(1)
    before, whole = scores_of(station), run.model.read_bytes()
    result = last_object(command("calibrate", folder, 1, "--json"))
    assert result["temperature"] == pytest.approx(before.temperature)
    assert (result["error_before"], result["loss_before"]) == (calibration_error(before), before.loss)
    assert result["loss"] <= before.loss + 1e-6
    now = scores_of(station)
    raw = np.log(np.maximum(before.probabilities.astype(np.float64), 1e-30)) / result["temperature"]
    wanted = np.exp(raw - raw.max(axis=1, keepdims=True))
    wanted /= wanted.sum(axis=1, keepdims=True)
    assert now.probabilities == pytest.approx(wanted, abs=2e-5)
    assert np.array_equal(now.predicted, before.predicted)
    assert now.temperature == pytest.approx(1, abs=0.02), "what is left fits"
    assert temperature_of(read_model(run.model)) == result["temperature"]
    number = int(now.numbers[0])
    row = next(row for row in station.catalogue.images() if row.number == number)
    answers = al.open_model(run.model).predict(station.path_of(row))[0]
    assert list(answers.values()) == pytest.approx(now.probabilities[0].tolist(), abs=1e-6)
    again = last_object(command("calibrate", folder, 1, "--json"))
    assert again == result, "it is fitted to the model as it was trained, not to itself"
    assert "can be taken out again" in command("calibrate", folder, 1)
    undone = last_object(command("calibrate", folder, 1, "--undo", "--json"))
    assert undone["temperature"] == 1
    assert run.model.read_bytes() == whole
    assert not (run.checkpoints / AS_TRAINED).exists()
    assert scores_of(station) == before
    assert "as it was trained" in command("calibrate", folder, 1, "--undo")


def test_what_cannot_be_calibrated_is_a_sentence(station: Workspace) -> None:
    command("calibrate", station.folder, 1)
    (station.run(1).checkpoints / AS_TRAINED).unlink()
    result = last_object(command("calibrate", station.folder, 1, "--undo", "--json", code=1))
    assert AS_TRAINED in result["error"]["why"]


def test_scores_are_written_with_their_figures(station: Workspace, tmp_path: Path) -> None:
    out = tmp_path / "results"
    result = last_object(command("score", station.folder, 1, "--out", out, "--json"))
    names = {file.name for file in out.iterdir()}
    drawings = ("confusion-matrix", "calibration", "confidence")
    pictures = {f"{name}{kind}" for name in drawings for kind in (".svg", ".png", ".pdf")}
    assert names == {"scores.json", "answers.csv", *pictures}
    assert json.loads((out / "scores.json").read_text("utf-8"))["accuracy"] == result["accuracy"]
    drawn = (out / "confusion-matrix.svg").read_text("utf-8")
    assert all(name in drawn for name in result["classes"]), "words stay words"
    counts = set(re.findall(r">(\d+)</text>", drawn))
    assert {str(count) for row in result["confusion"] for count in row if count} <= counts
    with Image.open(out / "calibration.png") as picture:
        assert np.asarray(picture).std() > 3


def test_several_runs_stand_in_one_table(station: Workspace, tmp_path: Path) -> None:
    folder = station.folder
    station.run(1).folder.rename(tmp_path / "one")
    for number in (1, 2):
        shutil.copytree(tmp_path / "one", folder / "runs" / f"{number:04}")
    table = command("score", folder, 1, 2, "--measure", "macro F1", "--measure", "wrong").splitlines()
    assert table[0].split() == ["run", "images", "macro", "F1", "wrong"]
    assert [line.split()[0] for line in table[1:3]] == ["1", "2"]
    lines = [json.loads(line) for line in command("score", folder, 1, 2, "--json").splitlines()]
    assert [line["run"] for line in lines] == [1, 2]
    assert {file.name for file in tmp_path.iterdir()} >= {"one"}
    refused = last_object(command("score", folder, 1, "--measure", "beauty", "--json", code=2))
    assert "macro F1" in " ".join(refused["error"].values())


def test_scores_of_images_whose_pixels_changed_are_made_anew(station: Workspace) -> None:
    before = scores_of(station)
    rows = station.catalogue.images()
    for number in before.numbers.tolist():
        file = station.path_of(rows[number - 1])
        Image.fromarray(255 - np.asarray(Image.open(file).convert("RGB"))).save(file)
    after = scores_of(station)
    assert not np.array_equal(after.probabilities, before.probabilities)
    station.run(1).scores_file("validation").unlink()
    assert scores_of(station) == after
    result = last_object(command("rescan", station.folder, "--json"))
    assert sorted(result["changed"]) == sorted(before.numbers.tolist())
    assert scores_of(station) == after
    cautions = cautions_of(station, station.run(1), after, [], None)
    assert [words for words in cautions if f"{len(before.numbers)} images have other contents now" in words]


def test_scores_are_not_kept_under_labels_that_came_while_they_were_made(station: Workspace) -> None:
    job = carry_out(Score(str(station.folder), 1, "test"))
    next(job)
    rows = station.catalogue.images()
    of_test = next(row.number for row in rows if row.given_set == "test")
    station.catalogue.correct({of_test: Correction(label=(rows[of_test - 1].label + 1) % 6)})
    finish(job)
    after = scores_of(station, "test")
    assert after.true[after.places[of_test]] == (rows[of_test - 1].label + 1) % 6


def test_figures_are_drawn_where_no_home_can_be_written_without_a_word_of_others(
    station: Workspace, tmp_path: Path
) -> None:
    nowhere = dict.fromkeys(("HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME"), "/proc/none")
    words = [sys.executable, "-m", "attentive_lens", "score", str(station.folder), "1", "--out", str(tmp_path / "out")]
    done = subprocess.run(words, env={**os.environ, **nowhere}, capture_output=True, text=True, timeout=100)
    assert done.returncode == 0, done.stderr
    assert "atplotlib" not in done.stderr
    assert (tmp_path / "out" / "calibration.pdf").exists()
