"""Sweeps: the plans of a grid and of random draws, and which are given up."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.desk.many.searching import Axis, better_half, check_judged, grid, read_axis, rungs, sample
from attentive_lens.desk.results.comparing import RunRow
from attentive_lens.errors import BadUsage, BadValue, LensError
from attentive_lens.plan.plan import Plan


@pytest.mark.parametrize(
    ("words", "axis"),
    [
        ("training.epochs=5, 10", Axis("training.epochs", (5, 10))),
        ("optimiser.learning_rate=0.001,1e-2", Axis("optimiser.learning_rate", (0.001, 0.01))),
        ("schedule=cosine, one cycle", Axis("schedule", ("cosine", "one cycle"))),
        ("seed=1,1,2", Axis("seed", (1, 2))),
        ("optimiser.learning_rate=1e-4..0.01", Axis("optimiser.learning_rate", (0.0001, 0.01), True)),
        ("training.batch_size=8 .. 64", Axis("training.batch_size", (8, 64), True)),
    ],
)
def test_an_axis_is_read_from_words(words: str, axis: Axis) -> None:
    assert read_axis(words) == axis


@pytest.mark.parametrize("words", ["training.epochs", "=5", "training.epochs=", "a=5..1", "a=x..y", "a=1..1"])
def test_words_that_are_no_axis_are_refused(words: str) -> None:
    with pytest.raises(BadUsage):
        read_axis(words)


def test_a_grid_is_every_combination_with_a_name_that_tells_it() -> None:
    axes = [read_axis("optimiser.learning_rate=0.001,0.01"), read_axis("training.batch_size=16,32,64")]
    plans = grid(Plan(), axes)
    pairs = [(plan.optimiser.learning_rate, plan.training.batch_size) for plan in plans]
    assert sorted(pairs) == sorted((rate, size) for rate in (0.001, 0.01) for size in (16, 32, 64))
    assert len({plan.name for plan in plans}) == 6
    assert plans[0].name == "three blocks: learning rate 0.001, batch size 16"
    kinds = grid(Plan(), [read_axis("optimiser=adam,sgd"), read_axis("schedule.warmup_epochs=0.0,1.0")])
    assert [plan.optimiser.kind for plan in kinds] == ["adam", "adam", "sgd", "sgd"]


def test_a_grid_over_nothing_too_much_or_what_is_no_setting_is_refused() -> None:
    for axes, error in (
        ([], BadUsage),
        ([Axis("seed", tuple(range(1001)))], BadUsage),
        ([Axis("training.epoch", (1, 2))], BadUsage),
        ([Axis("training.epochs", (0, 5))], BadValue),
        ([Axis("training.epochs", (1, 5), True)], BadUsage),
    ):
        with pytest.raises(error):
            grid(Plan(), axes)


@given(st.integers(1, 12), st.integers(0, 2**31))
def test_random_draws_lie_in_their_range_and_are_the_same_for_the_same_seed(count: int, seed: int) -> None:
    axes = [
        Axis("optimiser.learning_rate", (1e-4, 1e-1), True),
        Axis("training.batch_size", (8, 64), True),
        Axis("schedule", ("constant", "cosine")),
    ]
    plan = replace(Plan(), seed=seed)
    plans = sample(plan, axes, count)
    assert plans == sample(plan, axes, count)
    assert len(set(plans)) == len(plans) == count
    for each in plans:
        assert 1e-4 <= each.optimiser.learning_rate <= 1e-1
        assert 8 <= each.training.batch_size <= 64
        assert each.schedule.kind in ("constant", "cosine")


def test_far_ends_are_drawn_evenly_by_their_logarithm() -> None:
    rates = [
        plan.optimiser.learning_rate
        for plan in sample(Plan(), [Axis("optimiser.learning_rate", (1e-5, 1e-1), True)], 200)
    ]
    logs = sorted(math.log10(rate) for rate in rates)
    assert -3.4 < logs[100] < -2.6
    few = sample(Plan(), [Axis("schedule", ("constant", "cosine"))], 10)
    assert len(few) == 2, "there are no more"


@given(st.integers(1, 400), st.integers(1, 64))
def test_rungs_double_and_end_with_the_whole_run(epochs: int, plans: int) -> None:
    result = rungs(epochs, plans)
    assert result[-1] == epochs
    assert list(result) == sorted(set(result))
    left = plans
    for _ in result[:-1]:
        left = max(1, math.ceil(left / 2))
    assert left <= 2 or len(result) < math.ceil(math.log2(plans)) + 1, "no more is trained to its end than must be"


def row(number: int, accuracy: float | None, loss: float) -> RunRow:
    return RunRow(number, "", "done", 1, 1, 100, accuracy, None, None, loss, 1.0, {}, "")


def test_the_better_half_is_by_accuracy_then_loss_and_never_empty() -> None:
    rows = [row(1, 0.8, 0.5), row(2, 0.9, 0.7), row(3, 0.9, 0.6), row(4, None, 0.1), row(5, 0.2, 0.9)]
    assert [each.run for each in better_half(rows)] == [3, 2, 1]
    assert [each.run for each in better_half(rows[:1])] == [1]


def test_a_sweep_without_validation_images_is_refused() -> None:
    with pytest.raises(LensError, match="nothing tells which plan is better"):
        check_judged(Plan().changed({"split.validation_fraction": 0.0}))
    check_judged(Plan())
