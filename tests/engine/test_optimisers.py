"""Optimiser steps against the published formulas, worked by hand for two steps of one weight."""

from __future__ import annotations

import numpy as np
import pytest

from attentive_lens.engine.kernels.choice import KERNELS
from attentive_lens.engine.losses import LOSSES, Loss, balanced
from attentive_lens.engine.optimisers import OPTIMISERS, clip, length
from attentive_lens.engine.schedules import SCHEDULES, rate
from attentive_lens.engine.starting import STARTS
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


def test_plain_descent_follows_the_gradient() -> None:
    assert steps("sgd", [2.0, 1.0], rate=0.1) == pytest.approx([0.8, 0.7])


def test_nesterov_looks_one_step_ahead() -> None:
    # v1 = 2, w1 = 1 - 0.1·(2 + 1.8); v2 = 2.8, w2 = 0.62 - 0.1·(1 + 2.52)
    assert steps("nesterov", [2.0, 1.0], rate=0.1, momentum=0.9) == pytest.approx([0.62, 0.268])


def test_adagrad_divides_by_all_squares_so_far() -> None:
    assert steps("adagrad", [2.0, 1.0], rate=0.1) == pytest.approx([0.9, 0.9 - 0.1 / np.sqrt(5)], rel=1e-6)


def test_rmsprop_divides_by_a_running_square() -> None:
    # s1 = 0.4, s2 = 0.46
    first = 1 - 0.2 / np.sqrt(0.4)
    assert steps("rmsprop", [2.0, 1.0], rate=0.1) == pytest.approx([first, first - 0.1 / np.sqrt(0.46)], rel=1e-6)


def test_decay_pulls_matrices_apart_from_the_rule_or_with_the_gradient() -> None:
    found = {}
    for decays in ("apart", "with the gradient"):
        for name in ("sgd", "adam"):
            optimiser = OPTIMISERS[name](Training(optimiser=name, rate=0.1, decay=0.5, decays=decays))
            weights = {"n": {"matrix": np.array([[2.0]]), "bias": np.array([2.0])}}
            optimiser.step(weights, {"n": {"matrix": np.array([[1.0]]), "bias": np.array([1.0])}})
            found[decays, name] = (float(weights["n"]["matrix"][0, 0]), float(weights["n"]["bias"][0]))
    # sgd: 2·(1 - 0.05) - 0.1 and 2 - 0.1·(1 + 1), the same; adam's first step is 0.1 whatever the gradient.
    assert found["apart", "sgd"] == pytest.approx((1.8, 1.9))
    assert found["with the gradient", "sgd"] == pytest.approx((1.8, 1.9))
    assert found["apart", "adam"] == pytest.approx((1.8, 1.9))
    assert found["with the gradient", "adam"] == pytest.approx((1.9, 1.9))


def test_a_node_s_pace_multiplies_its_rate_and_a_long_gradient_is_shortened() -> None:
    optimiser = OPTIMISERS["sgd"](Training(optimiser="sgd", rate=0.1), {"slow": 0.5})
    weights = {name: {"w": np.array([1.0])} for name in ("slow", "usual")}
    optimiser.step(weights, {name: {"w": np.array([1.0])} for name in weights}, rate=0.2)
    assert (weights["slow"]["w"][0], weights["usual"]["w"][0]) == pytest.approx((0.9, 0.8))
    gradients = {"a": {"w": np.array([3.0])}, "b": {"w": np.array([0.0, 4.0])}}
    assert length(gradients) == pytest.approx(5.0)
    clip(gradients, 5.0, 10.0)
    assert gradients["a"]["w"].tolist() == [3.0]
    clip(gradients, 5.0, 1.0)
    assert length(gradients) == pytest.approx(1.0)
    assert gradients["b"]["w"] == pytest.approx([0.0, 0.8])


def test_schedules_at_known_places() -> None:
    def at(schedule: str, epoch: int, batch: int = 0, losses: tuple[float, ...] = (), **more: float) -> float:
        given = Training(rate=1.0, epochs=10, schedule=schedule, every=2, falls=0.1, **more)  # type: ignore[arg-type]
        return rate(given, epoch, batch, 4, losses)

    assert [at("constant", e) for e in (0, 9)] == [1, 1]
    assert [at("steps", e) for e in (0, 1, 2, 3, 4)] == pytest.approx([1, 1, 0.1, 0.1, 0.01])
    assert at("exponential", 1) == pytest.approx(0.1**0.5)
    assert [at("cosine", e) for e in (0, 5, 10)] == pytest.approx([1, 0.5005, 0.001])
    assert [at("one cycle", e) for e in (0, 3, 10)] == pytest.approx([0.001, 1, 0.001])
    assert at("one cycle", 1) < at("one cycle", 2) < at("one cycle", 3) > at("one cycle", 4)
    assert at("plateau", 3, losses=(1.0, 0.9, 0.8)) == 1
    assert at("plateau", 4, losses=(1.0, 0.9, 0.95, 0.9)) == pytest.approx(0.1)
    assert at("plateau", 6, losses=(1.0, 1.0, 1.0, 1.0, 1.0)) == pytest.approx(0.01)
    assert [at("constant", 0, b, warm_up=1.0) for b in range(4)] == pytest.approx([0.25, 0.5, 0.75, 1.0])
    assert SCHEDULES.keys() == set(Training.specs()["schedule"].choices)
    assert OPTIMISERS.keys() == set(Training.specs()["optimiser"].choices)
    assert LOSSES.keys() == set(Training.specs()["loss"].choices)
    assert STARTS.keys() == set(Training.specs()["start"].choices)
    assert set(KERNELS) == set(Training.specs()["kernels"].choices)


@pytest.mark.parametrize("kind", LOSSES)
@pytest.mark.parametrize("smoothing", [0.0, 0.2])
def test_every_loss_has_the_gradient_that_differences_give(kind: str, smoothing: float) -> None:
    random = np.random.default_rng(0)
    scores = random.standard_normal((4, 3)) * 2
    targets = np.array([[1.0, 0, 0], [0, 0, 1], [0.3, 0.7, 0], [0, 1, 0]])
    loss = Loss(kind, smoothing, np.array([0.5, 1.0, 2.0]))
    _, grad = loss(scores, targets)
    for i in range(4):
        for k in range(3):
            moved = []
            for h in (1e-6, -1e-6):
                own = scores.copy()
                own[i, k] += h
                moved.append(loss(own, targets)[0][i])
            assert (moved[0] - moved[1]) / 2e-6 == pytest.approx(grad[i, k], abs=1e-7)


def test_losses_of_known_scores() -> None:
    scores, targets = np.array([[0.0, np.log(3.0)]]), np.array([[0.0, 1.0]])
    assert LOSSES["sigmoid cross-entropy"](scores, targets)[0] == pytest.approx([np.log(2) + np.log(4 / 3)])
    assert LOSSES["squared error"](np.array([[1.0, 3.0]]), targets)[0] == pytest.approx([2.5])
    assert LOSSES["absolute error"](np.array([[1.0, 3.0]]), targets)[0] == pytest.approx([3.0])
    assert np.isfinite(LOSSES["sigmoid cross-entropy"](np.array([[1e4, -1e4]]), targets)[0]).all()
    smooth = Loss(smoothing=0.5)(scores, targets)[0]
    assert smooth == pytest.approx([0.25 * np.log(4) + 0.75 * np.log(4 / 3)])
    assert balanced(np.array([10, 30])) == pytest.approx([2.0, 2 / 3])
