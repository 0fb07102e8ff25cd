"""Optimiser steps against the published formulas, worked by hand for two steps of one weight."""

from __future__ import annotations

import numpy as np
import pytest

from attentive_lens.engine.optimisers import OPTIMISERS
from attentive_lens.plan.settings import Training


def steps(name: str, gradients: list[float], **settings: float) -> list[float]:
    optimiser = OPTIMISERS[name](Training(optimiser=name, **settings))
    weights = {"node": {"w": np.array([1.0])}}
    seen = []
    for gradient in gradients:
        optimiser.step(weights, {"node": {"w": np.array([gradient])}})
        seen.append(float(weights["node"]["w"][0]))
    return seen


def test_momentum_adds_nine_tenths_of_the_last_step() -> None:
    # v1 = 2, w1 = 1 - 0.1·2; v2 = 0.9·2 + 1 = 2.8, w2 = 0.8 - 0.28
    assert steps("momentum", [2.0, 1.0], rate=0.1, momentum=0.9) == pytest.approx([0.8, 0.52])


def test_adam_takes_a_whole_step_first_and_then_follows_its_moments() -> None:
    # m1 = 0.2, v1 = 0.004: corrected 2 and 4, step 0.1·2/2. m2 = 0.28 → /0.19, v2 = 0.004996 → /0.001999
    second = 0.9 - 0.1 * (0.28 / 0.19) / np.sqrt(0.004996 / 0.001999)
    assert steps("adam", [2.0, 1.0], rate=0.1) == pytest.approx([0.9, second], rel=1e-6)


def test_every_optimiser_in_the_plan_finds_the_bottom_of_a_bowl() -> None:
    for name in OPTIMISERS:
        optimiser = OPTIMISERS[name](Training(optimiser=name, rate=0.5 if name == "adagrad" else 0.05))
        weights = {"node": {"w": np.array([3.0, -2.0])}}
        for _ in range(400):
            optimiser.step(weights, {"node": {"w": 2 * weights["node"]["w"]}})
        assert np.abs(weights["node"]["w"]).max() < 0.05, name


def test_an_array_without_a_gradient_is_not_touched() -> None:
    optimiser = OPTIMISERS["adam"](Training())
    weights = {"a": {"w": np.ones(2)}, "b": {"w": np.ones(2)}}
    optimiser.step(weights, {"a": {"w": np.ones(2)}})
    assert weights["b"]["w"].tolist() == [1, 1]
    assert weights["a"]["w"].tolist() != [1, 1]
