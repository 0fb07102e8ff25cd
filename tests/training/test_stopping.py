"""Rules that end a run, on courses made up for them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.plan.measures import MEASURES
from attentive_lens.plan.stopping import Stopping
from attentive_lens.training.stopping import Course, ended


def course(*values: float | None, measure: str = "loss", training: float = 1.0, seconds: float = 0.0) -> Course:
    """An epoch a value on the validation set; None where it was not evaluated."""
    history = [
        {"training": {"accuracy": training, "loss": training}} | ({"validation": {measure: v}} if v is not None else {})
        for v in values
    ]
    return Course(10 * len(values), seconds, history)


@pytest.mark.parametrize(
    ("rules", "run", "reason"),
    [
        (Stopping(), course(1, 2, 3, 4, 5, 6), ""),
        (Stopping(patience=2), course(3, 2, 1), ""),
        (Stopping(patience=2), course(3, 2, 2.5), ""),
        (Stopping(patience=2), course(3, 2, 2.5, 2), "early stopping"),
        (Stopping(patience=2), course(3, 2, 2.5, 1.9), ""),
        (Stopping(patience=2, least_gain=0.2), course(3, 2, 2.5, 1.9), "early stopping"),
        (Stopping(patience=3), course(3, None, None, 2), ""),
        (Stopping(patience=3), course(3, None, None, 4), "early stopping"),
        (Stopping(patience=1, patience_measure="accuracy"), course(0.5, 0.6, measure="accuracy"), ""),
        (Stopping(patience=1, patience_measure="accuracy"), course(0.5, 0.4, measure="accuracy"), "early stopping"),
        (Stopping(target=0.9), course(0.89, measure="accuracy"), ""),
        (Stopping(target=0.9), course(0.9, measure="accuracy"), "target reached"),
        (Stopping(target=0.9), course(0.95, 0.85, measure="accuracy"), ""),
        (Stopping(target=0.5, target_measure="loss"), course(0.51), ""),
        (Stopping(target=0.5, target_measure="loss"), course(0.5), "target reached"),
        (Stopping(target=0.9, target_set="training"), course(0.1, training=0.95), "target reached"),
        (Stopping(target=0.9, target_set="training"), course(0.1, training=0.85), ""),
        (Stopping(target=0.9, target_measure="macro_f1"), course(0.95, measure="accuracy"), ""),
        (Stopping(minutes=2), course(1, seconds=119.9), ""),
        (Stopping(minutes=2), course(1, seconds=120), "time limit"),
        (Stopping(batches=20), course(1), ""),
        (Stopping(batches=20), course(1, 1), "batch limit"),
    ],
)
def test_a_rule_ends_a_run_when_it_should(rules: Stopping, run: Course, reason: str) -> None:
    predicted = ended(rules, run)
    assert predicted.startswith(reason)
    assert bool(predicted) == bool(reason)


@given(st.lists(st.floats(0, 1), min_size=1, max_size=12), st.integers(1, 5), st.sampled_from(sorted(MEASURES)))
def test_early_stopping_ends_a_run_as_many_epochs_after_its_best_as_patience_says(
    values: list[float], patience: int, measure: str
) -> None:
    rules = Stopping(patience=patience, patience_measure=measure)
    best = max if MEASURES[measure].higher else min
    since = len(values) - 1 - values.index(best(values))
    assert bool(ended(rules, course(*values, measure=measure))) == (since >= patience)
