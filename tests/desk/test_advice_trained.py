"""Advice on runs really trained: some made to fail in ways that must be named, sound ones of which nothing grave is.

`benchmarks/advice.py` does the same for every kind on larger collections.
"""

from __future__ import annotations

import contextlib

import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.training.advice import GRAVE
from attentive_lens.workspace import Workspace

BASE = Plan().changed(
    {
        "network": "two blocks",
        "preprocessing.input_size": 32,
        "training.batch_size": 16,
        "training.epochs": 8,
        "seed": 5,
    }
)


@pytest.fixture(scope="module")
def grains(tmp_path_factory: pytest.TempPathFactory) -> Workspace:
    return finish(make_demo(tmp_path_factory.mktemp("grains") / "station", 260, 23)).workspace


def advice_on(workspace: Workspace, settings: dict[str, object]) -> set[str]:
    run = workspace.claim_run(BASE.changed(settings))
    with contextlib.suppress(LensError):
        finish(execute(workspace, run, lambda: False))
    return {finding.kind for finding in advice_of(workspace, run, RunReader(run).view())}


@pytest.mark.parametrize(
    "settings",
    [
        {},
        {"optimiser": "sgd", "optimiser.learning_rate": 0.02},
        {"network": "normalised blocks", "optimiser.learning_rate": 0.003},
        {"schedule": "one cycle", "optimiser.learning_rate": 0.002},
    ],
    ids=["adam", "sgd", "normalised", "one cycle"],
)
def test_nothing_grave_is_said_of_runs_that_learn(settings: dict[str, object], grains: Workspace) -> None:
    assert not advice_on(grains, settings) & GRAVE


@pytest.mark.parametrize(
    ("settings", "kinds"),
    [
        ({"optimiser.learning_rate": 5.0}, {"divergence"}),
        ({"optimiser": "sgd", "optimiser.learning_rate": 8.0}, {"divergence"}),
        ({"optimiser": "sgd", "optimiser.learning_rate": 0.4}, {"rate too high", "divergence"}),
        ({"optimiser.learning_rate": 1e-6}, {"rate too low"}),
        ({"network": "normalised blocks", "optimiser.learning_rate": 1e-7}, {"rate too low"}),
        ({"training.batch_size": 256}, {"batch size"}),
        ({"training.batch_size": 1, "training.epochs": 3}, {"batch size"}),
        ({"initialisation": "normal", "initialisation.std": 1.0}, {"exploding gradients", "divergence"}),
        (
            {"augmentation": "none", "training.epochs": 30, "split.subset_fraction": 0.5},
            {"over-fitting"},
        ),
    ],
    ids=["adam", "sgd", "high", "low", "low normalised", "large", "tiny", "exploding", "over-fits"],
)
def test_runs_made_to_fail_are_named(settings: dict[str, object], kinds: set[str], grains: Workspace) -> None:
    assert advice_on(grains, settings) & kinds
