"""A run whose epochs show every class as often."""

from __future__ import annotations

import numpy as np

from attentive_lens.core.jobs import finish
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.preparing import prepare
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace


def test_a_run_s_epochs_show_classes_as_its_plan_says(station: Workspace) -> None:
    plan = station.run(1).plan()
    for sampling in ("uniform", "class-balanced"):
        own = plan.changed({"training.sampling": sampling, "loss.class_weights": "balanced"})
        setup = finish(prepare(station, station.claim_run(own), None))
        shown = np.sum([batch.targets.sum(axis=0) for batch in setup.feed.batches_of(0)], axis=0)
        assert shown.sum() == len(setup.feed.members)
        assert (np.ptp(shown) <= 1) == (sampling == "class-balanced")


def test_it_learns_other_weights_and_the_same_twice(station: Workspace) -> None:
    def weights(plan: Plan) -> dict[str, np.ndarray]:
        run = finish(execute(station, station.claim_run(plan), lambda: False)).run
        return {f"{n}/{k}": a for n, arrays in read_model(run.model).weights.items() for k, a in arrays.items()}

    plan = station.run(1).plan().changed({"training.epochs": 1})
    balanced = plan.changed({"training.sampling": "class-balanced"})
    plain, one, other = weights(plan), weights(balanced), weights(balanced)
    assert all(np.array_equal(one[name], other[name]) for name in one)
    assert any(not np.array_equal(one[name], plain[name]) for name in one)
