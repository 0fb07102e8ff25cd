"""Runs are listed, compared and repeated from the terminal."""

from __future__ import annotations

from tests.cli.running import command, last_object

from attentive_lens.desk.results.comparing import alike
from attentive_lens.workspace import Workspace


def test_a_plan_is_repeated_as_often_as_is_missing_and_the_spread_told(station: Workspace) -> None:
    place, plan = station.folder, station.run(1).plan()
    result = last_object(command("repeat", place, "--of", "1", "--times", "3", "--json"))
    assert result["runs"] == [1, 2, 3]
    assert [station.run(number).plan().seed for number in (2, 3)] == [plan.seed + 1, plan.seed + 2]
    assert result["low"] <= result["mean"] <= result["high"]
    words = " ".join(command("repeat", place, "--of", "1", "--times", "3").split())
    assert len(alike(station, plan)) == 3, "they were there already"
    assert "3 runs that differ in the seed alone" in words
    command("repeat", place, "--of", "1", "--set", "seed=4", "--json", code=2)
    command("repeat", place, "--of", "9", "--json", code=1)


def test_runs_are_sorted_and_two_are_compared(station: Workspace) -> None:
    place = station.folder
    assert last_object(command("runs", place, "--json"))["keys"] == []
    command("repeat", place, "--of", "1", "--times", "2")
    table = last_object(command("runs", place, "--sort", "accuracy", "--json"))
    accuracies = [row["accuracy"] for row in table["rows"]]
    assert accuracies == sorted(accuracies, reverse=True)
    assert table["keys"] == ["seed"]
    command("runs", place, "--sort", "colour", "--json", code=2)
    compared = last_object(command("compare", place, "1", "2", "--json"))
    assert [each["key"] for each in compared["differences"]] == ["seed"]
    printed = " ".join(command("compare", place, "1", "2").split())
    assert compared["advice"] in printed
    command("compare", place, "1", "1", "--json", code=2)
    of_training = last_object(command("compare", place, "1", "2", "--on", "training", "--json"))
    assert of_training["on"] == "training"
    for key, run in (("one", 1), ("other", 2)):
        scores = last_object(command("score", place, run, "--on", "training", "--json"))
        figures = [of_training[key][name] for name in ("images", "accuracy", "loss")]
        assert figures == [scores["images"], scores["accuracy"], scores["loss"]]
    assert of_training["points"] == of_training["paired"]["difference"], "of the images in common"
    printed = command("compare", place, "1", "2", "--on", "training")
    assert "training accuracy" in printed
    assert "validation" not in printed, "nothing is told of another set"
