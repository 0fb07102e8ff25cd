"""Runs side by side: the settings in which they differ, and what of their difference can be chance."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from tests.conftest import small_plan

from attentive_lens.core.jobs import finish
from attentive_lens.desk.results.comparing import RunRow, alike, compare, free_seed, judged, runs_table, spread
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import LensError
from attentive_lens.plan.difference import Difference
from attentive_lens.workspace import Workspace

SEED = (Difference("seed", "7", "8"),)


def row(run: int, accuracy: float | None, images: int = 100) -> RunRow:
    return RunRow(run, "meadow", "done", 3, 2, images, accuracy, None, None, 0.5, 1.0, {}, "")


def test_runs_are_listed_with_what_they_differ_in_alone(station: Workspace) -> None:
    other = small_plan().changed({"training.epochs": 1, "seed": 8, "optimiser.learning_rate": 0.002})
    finish(execute(station, station.claim_run(other), lambda: False))
    station.claim_run(small_plan().changed({"network": "strided"}))
    table = runs_table(station)
    assert set(table.keys) == {"training.epochs", "seed", "optimiser.learning_rate", "network"}
    first, second, third = table.rows
    assert (first.run, second.run, third.run) == (1, 2, 3)
    assert (first.settings["training.epochs"], second.settings["training.epochs"]) == ("2", "1")
    assert second.settings["optimiser.learning_rate"] == "0.002"
    assert first.settings["network"] == second.settings["network"] != third.settings["network"]
    for each in (first, second):
        assert each.accuracy is not None
        assert each.low is not None
        assert each.high is not None
        assert each.low <= each.accuracy <= each.high
        assert each.images > 0
        assert each.seconds > 0
    assert (third.state, third.epochs, third.accuracy, third.low) == ("broken off", 0, None, None)
    (station.run(1).folder / "plan.toml").write_text("no plan")
    table = runs_table(station)
    assert table.rows[0].settings == {}, "its results are still told"
    assert table.rows[0].accuracy == first.accuracy
    with pytest.raises(LensError, match="plan"):
        compare(station, 1, 2)


def test_two_runs_are_compared_by_what_differs(station: Workspace) -> None:
    finish(execute(station, station.claim_run(small_plan().changed({"seed": 8})), lambda: False))
    result = compare(station, 1, 2)
    assert [each.key for each in result.differences] == ["seed"]
    assert result.one.accuracy is not None
    assert result.other.accuracy is not None
    assert result.points == pytest.approx(result.other.accuracy - result.one.accuracy)
    assert "so far do seeds move this plan" in result.advice
    mirrored = compare(station, 2, 1)
    assert mirrored.points == -result.points
    assert mirrored.chance == result.chance
    station.claim_run(small_plan())
    for pair, why in (((1, 1), "named twice"), ((1, 9), "There is no run 9"), ((1, 3), "not finished an epoch")):
        with pytest.raises(LensError, match=why):
            compare(station, *pair)


@pytest.mark.parametrize(
    ("one", "other", "words"),
    [
        (0.80, 0.90, "Run 2 is 10.0 points ahead, more than the 9.9"),
        (0.90, 0.80, "Run 1 is 10.0 points ahead, more than the 9.9"),
        (0.80, 0.85, "Run 2 is 5.0 points ahead, and chance alone reaches 10.5 points on so few images. Repeat both"),
        (0.80, 0.80, "Both are right equally often"),
        (1.0, 1.0, "Both are right equally often"),
        (None, 0.8, "Without validation images"),
    ],
)
def test_a_difference_is_judged_by_how_far_chance_reaches(one: float | None, other: float, words: str) -> None:
    _, _, advice = judged(row(1, one), row(2, other), ())
    assert advice.startswith(words)


def test_chance_is_that_of_two_shares_and_shrinks_with_the_images() -> None:
    _, chance, _ = judged(row(1, 0.80), row(2, 0.90), SEED)
    assert chance == pytest.approx(1.96 * math.sqrt(0.85 * 0.15 * 2 / 100))
    _, finer, _ = judged(row(1, 0.80, 400), replace(row(2, 0.90), images=400), ())
    assert finer == pytest.approx(chance / 2)


def test_runs_that_differ_in_the_seed_alone_tell_how_far_apart_a_seed_brings_them(station: Workspace) -> None:
    plan = small_plan()
    assert spread(station, plan) is None, "one run has no spread"
    assert free_seed(station, plan) == plan.seed + 1
    for seed in (20, 21):
        finish(execute(station, station.claim_run(replace(plan, seed=seed, name="again")), lambda: False))
    finish(execute(station, station.claim_run(plan.changed({"training.epochs": 1})), lambda: False))
    station.claim_run(replace(plan, seed=22))
    assert [row.run for row in alike(station, plan)] == [1, 2, 3], "neither another plan nor one that is not done"
    assert free_seed(station, replace(plan, seed=20)) == 23
    result = spread(station, plan)
    assert result is not None
    values = np.array([row.accuracy for row in alike(station, plan)])
    assert result.mean == pytest.approx(values.mean())
    assert result.deviation == pytest.approx(values.std(ddof=1))
    half = 4.302653 * values.std(ddof=1) / np.sqrt(3)  # Student's t for two degrees of freedom
    assert result.low == pytest.approx(max(0, values.mean() - half), abs=1e-6)
    assert result.high == pytest.approx(min(1, values.mean() + half), abs=1e-6)
    assert (result.lowest, result.highest) == (values.min(), values.max())
    assert "3 runs that differ in the seed alone" in result.advice


def test_what_is_known_of_runs_is_not_read_again(station: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    table = runs_table(station)
    views = {run.number: RunReader(run).view() for run in station.runs()}
    assert views
    monkeypatch.setattr(RunReader, "view", lambda _: pytest.fail("a journal was read"))
    assert runs_table(station, views) == table
