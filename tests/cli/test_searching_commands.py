"""Sweeps, cross-validation, steering and advice from the terminal, on a station that trains in seconds."""

from __future__ import annotations

import csv
import os
from pathlib import Path

import pytest
from tests.cli.running import command, last_object

from attentive_lens.desk.training.runs import RunReader
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.plan_files import read_plan

SMALL = (
    *("--set", "network=two blocks", "--set", "preprocessing.input_size=32"),
    *("--set", "training.batch_size=16", "--set", "training.epochs=2"),
)
RATES = ("--over", "optimiser.learning_rate=0.0001,0.001,0.003")


def epochs(station: Workspace, number: int) -> int:
    return len(RunReader(station.run(number)).view().epochs)


def test_a_sweep_ranks_its_runs_and_goes_on_where_it_was_interrupted(station: Workspace) -> None:
    place = station.folder
    command("train", place, *SMALL, "--set", "optimiser.learning_rate=0.003")
    result = last_object(command("sweep", place, *RATES, *SMALL, "--json"))
    assert {row["run"] for row in result["ranked"]} == {1, 2, 3}, "the runs that were there count"
    accuracies = [row["accuracy"] for row in result["ranked"]]
    assert accuracies == sorted(accuracies, reverse=True)
    assert result["best"] == result["ranked"][0]["run"]
    printed = command("sweep", place, *RATES, *SMALL)
    assert len(station.runs()) == 3, "all of it was done"
    assert printed.count("run ") >= 3


def test_halving_trains_only_the_better_ones_on(station: Workspace) -> None:
    four = ("--over", "optimiser.learning_rate=0.00001,0.0003,0.001,0.003")
    result = last_object(
        command("sweep", station.folder, *four, *SMALL, "--set", "training.epochs=4", "--halving", "--json")
    )
    numbers = [row["run"] for row in result["ranked"]]
    assert [epochs(station, number) for number in numbers] == [4, 2, 1, 1]
    assert RunReader(station.run(numbers[0])).view().state == "done"
    assert RunReader(station.run(numbers[1])).view().state == "stopped", "it could be trained on"


def test_a_sweep_of_random_combinations_can_be_queued(station: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("attentive_lens.desk.training.queue.start_claimed", lambda workspace, run: None)
    monkeypatch.setattr("attentive_lens.workspace.Run.begin", lambda self: None)
    over = ("--over", "optimiser.learning_rate=0.0001..0.01", "--random", "3")
    result = last_object(command("sweep", station.folder, *over, *SMALL, "--queue", "--json"))
    assert result["queued"] == [2, 3, 4]
    assert all(station.run(number).is_waiting() for number in (2, 3, 4))
    command("sweep", station.folder, *RATES, *SMALL, "--queue", "--halving", "--json", code=2)
    command("sweep", station.folder, "--over", "training.epoch=1,2", *SMALL, "--json", code=2)
    command("sweep", station.folder, *RATES, *SMALL, "--set", "split.validation_fraction=0.0", "--json", code=1)


def test_cross_validation_answers_every_training_image_once(station: Workspace, tmp_path: Path) -> None:
    file = tmp_path / "answers.csv"
    words = (*SMALL, "--set", "training.epochs=1", "--folds", "3", "--out", str(file))
    result = last_object(command("cross-validate", station.folder, *words, "--json"))
    with file.open(newline="") as stream:
        rows = list(csv.DictReader(stream))
    noted = station.run(result["runs"][0]).images()
    assert noted is not None
    members = {k for k, name in enumerate(noted[1]) if name in ("training", "validation")}
    assert len(rows) == result["images"] == len({row["image"] for row in rows}) == len(members)
    right = sum(row["true"] == row["predicted"] for row in rows)
    assert result["accuracy"] == pytest.approx(right / len(rows))
    assert result["low"] <= result["accuracy"] <= result["high"]
    assert {row["fold"] for row in rows} == {"1", "2", "3"}
    assert len(result["by_fold"]) == 3
    for fold, number in enumerate(result["runs"], 1):
        held = station.run(number).images()
        assert held is not None
        assert held[1].count("validation") == sum(row["fold"] == str(fold) for row in rows)
    assert "each answered by a model that never saw it" in command("cross-validate", station.folder, *words)


def test_what_to_do_next_is_printed_with_plans_that_train(station: Workspace, tmp_path: Path) -> None:
    place = station.folder
    command("train", place, *SMALL, "--set", "optimiser.learning_rate=1e-7", "--set", "training.epochs=3")
    result = last_object(command("advise", place, "2", "--plans", str(tmp_path / "plans"), "--json"))
    first = result["steps"][0]
    assert (first["kind"], first["source"]) == ("rate too low", "advice")
    assert [each["key"] for each in first["changes"]] == ["optimiser.learning_rate"]
    assert len(result["plans"]) == sum(step["plan"] is not None for step in result["steps"])
    assert read_plan(Path(result["plans"][0])).optimiser.learning_rate > 1e-7
    assert first["run"] is None
    command("train", place, "--plan", result["plans"][0])
    steps = last_object(command("advise", place, "2", "--json"))["steps"]
    after = next(step for step in steps if step["kind"] == "rate too low")
    assert after["run"] == 3
    assert after["effect"].startswith("Tried in run 3: ")
    printed = " ".join(command("advise", place, "2").split())
    assert "rate too low from epoch 1" in printed
    assert after["effect"] in printed


def test_remedies_are_tried_from_the_terminal_and_forecasts_are_kept(station: Workspace) -> None:
    place = station.folder
    assert "not tried" in command("advise", place, "1")
    tried = last_object(command("advise", place, "1", "--try", "1", "--json"))
    (step,) = [step for step in tried["steps"] if step["tried"]]
    assert step["forecast"]["low"] < step["forecast"]["gain"] < step["forecast"]["high"]
    assert last_object(command("advise", place, "1", "--json")) == tried
    printed = " ".join(command("advise", place, "1").split())
    gain = f"{abs(step['forecast']['gain']) * 100:.1f}"
    assert gain in printed
    assert "--try" in printed
    command("advise", place, "1", "--try", "101", code=2)


def test_only_a_run_that_trains_is_steered(station: Workspace) -> None:
    place = station.folder
    assert "no run of this workspace is training" in command("control", place, "pause", "--json", code=1)
    assert "it is done" in command("control", place, "pause", "1", "--json", code=1)
    command("control", place, "dance", "--json", code=2)
    command("control", place, "rate", "--json", code=2)
    command("control", place, "pause", "--rate", "0.1", "--json", code=2)
    held = station.run(1).hold()
    try:
        result = last_object(command("control", place, "pause", "--json"))
        assert (result["run"], result["action"]) == (1, "pause")
        assert station.run(1).command() == "pause"
        command("control", place, "continue")
        assert station.run(1).command() == ""
        command("control", place, "rate", "--rate", "0.0005")
        assert station.run(1).commanded_rate() == 0.0005
        assert "is not from" in command("control", place, "rate", "--rate", "99", "--json", code=1)
    finally:
        os.close(held)


def test_a_run_that_a_rule_ended_says_so_and_does_not_go_on(station: Workspace) -> None:
    place = station.folder
    result = last_object(command("train", place, *SMALL, "--set", "stopping.batches=3", "--json"))
    assert (result["state"], result["epochs"], result["reason"]) == ("done", 1, "batch limit: 3 batches are done")
    assert "ended by batch limit: 3 batches are done" in command("watch", place, "2")
    assert "it ended as planned (batch limit" in command("train", place, "--resume", "2", "--json", code=1)
