"""Optimiser steps against the published formulas, worked by hand for two steps of one weight."""

from __future__ import annotations

import numpy as np
import pytest

from attentive_lens.engine.initialisation import INITIALISATIONS
from attentive_lens.engine.kernels.choice import KERNELS
from attentive_lens.engine.losses import LOSSES, Loss, balanced
from attentive_lens.engine.optimisers import OPTIMISERS, clip, norm
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.engine.schedules import SCHEDULES, At, learning_rate_factor
from attentive_lens.plan import initialisations, losses, optimisers, schedules
from attentive_lens.plan.nodes import Learning
from attentive_lens.plan.training import Training


def steps(name: str, gradients: list[float], **settings: float | bool) -> list[float]:
    optimiser = OPTIMISERS[name](optimisers.OPTIMISERS[name](**settings))
    weights = {"node": {"w": np.array([1.0])}}
    seen = []
    for gradient in gradients:
        optimiser.step(weights, {"node": {"w": np.array([gradient])}})
        seen.append(float(weights["node"]["w"][0]))
    return seen


def test_momentum_adds_nine_tenths_of_the_last_step() -> None:
    # v1 = 2, w1 = 1 - 0.1·2; v2 = 0.9·2 + 1 = 2.8, w2 = 0.8 - 0.28
    assert steps("sgd", [2.0, 1.0], learning_rate=0.1, momentum=0.9) == pytest.approx([0.8, 0.52])


def test_adam_takes_a_whole_step_first_and_then_follows_its_moments() -> None:
    # m1 = 0.2, v1 = 0.004: corrected 2 and 4, step 0.1·2/2. m2 = 0.28 → /0.19, v2 = 0.004996 → /0.001999
    second = 0.9 - 0.1 * (0.28 / 0.19) / np.sqrt(0.004996 / 0.001999)
    assert steps("adam", [2.0, 1.0], learning_rate=0.1) == pytest.approx([0.9, second], rel=1e-6)
    # memories of 0.5 and 0.75: m1 = 1, v1 = 1, corrected 2 and 4; m2 = 1 → /0.75, v2 = 1 → /0.4375
    second = 0.9 - 0.1 * (1 / 0.75) / np.sqrt(1 / 0.4375)
    result = steps("adam", [2.0, 1.0], learning_rate=0.1, beta1=0.5, beta2=0.75)
    assert result == pytest.approx([0.9, second], rel=1e-6)


def test_every_optimiser_in_the_plan_finds_the_bottom_of_a_bowl() -> None:
    for name, settings in optimisers.OPTIMISERS.items():
        optimiser = OPTIMISERS[name](settings(learning_rate=0.5 if name == "adagrad" else 0.05))
        weights = {"node": {"w": np.array([3.0, -2.0])}}
        for _ in range(400):
            optimiser.step(weights, {"node": {"w": 2 * weights["node"]["w"]}})
        assert np.abs(weights["node"]["w"]).max() < 0.05, name


@pytest.mark.parametrize("dtype", [np.float32, np.float64])
def test_weights_and_memories_keep_their_type_through_every_optimiser(dtype: type) -> None:
    for name, settings in optimisers.OPTIMISERS.items():
        for decoupled in (True, False):
            optimiser = OPTIMISERS[name](settings(weight_decay=0.1, decoupled=decoupled))
            weights = {"node": {"w": np.ones((2, 2), dtype)}}
            for _ in range(3):
                optimiser.step(weights, {"node": {"w": np.ones((2, 2), dtype)}}, float(np.float64(0.5)))
            assert weights["node"]["w"].dtype == dtype
            assert {a.dtype for own in optimiser.memory.values() for a in own.values()} <= {np.dtype(dtype)}


def test_a_step_in_float32_is_worked_out_in_float32_alone() -> None:
    """The same in whole numbers of float32 as by hand, operation by operation: nothing is done in more digits."""
    settings = optimisers.Adam(learning_rate=0.1)
    optimiser = OPTIMISERS["adam"](settings)
    one = np.float32
    weight, grad = one(1.0), one(0.37)
    weights = {"node": {"w": np.array([weight])}}
    optimiser.step(weights, {"node": {"w": np.array([grad])}})
    mean, square = one(0.0) * one(0.9) + one(0.1) * grad, one(0.0) * one(0.999) + one(1 - 0.999) * (grad * grad)
    correction = float(np.sqrt(1 - 0.999))
    root = np.sqrt(square) + one(1e-8 * correction)
    assert weights["node"]["w"][0] == weight - one(0.1 * correction / (1 - 0.9)) * mean / root


def test_an_array_without_a_gradient_is_not_touched() -> None:
    optimiser = OPTIMISERS["adam"](optimisers.Adam())
    weights = {"a": {"w": np.ones(2)}, "b": {"w": np.ones(2)}}
    optimiser.step(weights, {"a": {"w": np.ones(2)}})
    assert weights["b"]["w"].tolist() == [1, 1]
    assert weights["a"]["w"].tolist() != [1, 1]


def test_plain_descent_follows_the_gradient() -> None:
    assert steps("sgd", [2.0, 1.0], learning_rate=0.1, momentum=0.0) == pytest.approx([0.8, 0.7])


def test_nesterov_looks_one_step_ahead() -> None:
    # v1 = 2, w1 = 1 - 0.1·(2 + 1.8); v2 = 2.8, w2 = 0.62 - 0.1·(1 + 2.52)
    result = steps("sgd", [2.0, 1.0], learning_rate=0.1, momentum=0.9, nesterov=True)
    assert result == pytest.approx([0.62, 0.268])


def test_adagrad_divides_by_all_squares_so_far() -> None:
    result = steps("adagrad", [2.0, 1.0], learning_rate=0.1)
    assert result == pytest.approx([0.9, 0.9 - 0.1 / np.sqrt(5)], rel=1e-6)


def test_rmsprop_divides_by_a_running_square() -> None:
    # s1 = 0.4, s2 = 0.46
    first = 1 - 0.2 / np.sqrt(0.4)
    result = steps("rmsprop", [2.0, 1.0], learning_rate=0.1)
    assert result == pytest.approx([first, first - 0.1 / np.sqrt(0.46)], rel=1e-6)


def test_weight_decay_pulls_matrices_decoupled_or_with_the_gradient() -> None:
    result = {}
    plain = {"sgd": optimisers.Sgd(momentum=0.0), "adam": optimisers.Adam()}
    for decoupled in (True, False):
        for name, settings in plain.items():
            own = settings.with_(learning_rate=0.1, weight_decay=0.5, decoupled=decoupled)
            optimiser = OPTIMISERS[name](own)
            weights = {"n": {"matrix": np.array([[2.0]]), "bias": np.array([2.0])}}
            optimiser.step(weights, {"n": {"matrix": np.array([[1.0]]), "bias": np.array([1.0])}})
            result[decoupled, name] = (float(weights["n"]["matrix"][0, 0]), float(weights["n"]["bias"][0]))
    # sgd: 2·(1 - 0.05) - 0.1 and 2 - 0.1·(1 + 1), the same; adam's first step is 0.1 whatever the gradient.
    assert result[True, "sgd"] == pytest.approx((1.8, 1.9))
    assert result[False, "sgd"] == pytest.approx((1.8, 1.9))
    assert result[True, "adam"] == pytest.approx((1.8, 1.9))
    assert result[False, "adam"] == pytest.approx((1.9, 1.9))


def test_a_node_s_multiplier_changes_its_learning_rate_and_a_long_gradient_is_shortened() -> None:
    optimiser = OPTIMISERS["sgd"](
        optimisers.Sgd(learning_rate=0.1, momentum=0.0), {"slow": Learning(lr_multiplier=0.5)}
    )
    weights = {name: {"w": np.array([1.0])} for name in ("slow", "usual")}
    optimiser.step(weights, {name: {"w": np.array([1.0])} for name in weights}, factor=2.0)
    assert (weights["slow"]["w"][0], weights["usual"]["w"][0]) == pytest.approx((0.9, 0.8))
    gradients = {"a": {"w": np.array([3.0])}, "b": {"w": np.array([0.0, 4.0])}}
    assert norm(gradients) == pytest.approx(5.0)
    clip(gradients, 5.0, 10.0)
    assert gradients["a"]["w"].tolist() == [3.0]
    clip(gradients, 5.0, 1.0)
    assert norm(gradients) == pytest.approx(1.0)
    assert gradients["b"]["w"] == pytest.approx([0.0, 0.8])


def factor(schedule: schedules.ScheduleSettings, epoch: int, batch: int = 0, losses: tuple[float, ...] = ()) -> float:
    """In a run of ten epochs of four batches."""
    return learning_rate_factor(schedule, At(4 * epoch + batch, 4, 10, losses))


def test_schedules_at_known_places() -> None:
    step, plateau = schedules.Step(step_size=2, gamma=0.1), schedules.Plateau(patience=2, gamma=0.1)
    assert [factor(schedules.Constant(), e) for e in (0, 9)] == [1, 1]
    assert [factor(step, e) for e in (0, 1, 2, 3, 4)] == pytest.approx([1, 1, 0.1, 0.1, 0.01])
    assert factor(schedules.Exponential(gamma=0.5), 1, 2) == pytest.approx(0.5**1.5)
    assert [factor(schedules.Cosine(), e) for e in (0, 5, 10)] == pytest.approx([1, 0.5005, 0.001])
    assert factor(schedules.Cosine(final_factor=0.0), 10) == pytest.approx(0.0)
    cycle = schedules.OneCycle()
    assert [factor(cycle, e) for e in (0, 3, 10)] == pytest.approx([0.001, 1, 0.001])
    assert factor(cycle, 1) < factor(cycle, 2) < factor(cycle, 3) > factor(cycle, 4)
    assert factor(plateau, 3, losses=(1.0, 0.9, 0.8)) == 1
    assert factor(plateau, 4, losses=(1.0, 0.9, 0.95, 0.9)) == pytest.approx(0.1)
    assert factor(plateau, 6, losses=(1.0, 1.0, 1.0, 1.0, 1.0)) == pytest.approx(0.01)
    warm = schedules.Constant(warmup_epochs=1.0)
    assert [factor(warm, 0, b) for b in range(5)] == pytest.approx([0.25, 0.5, 0.75, 1.0, 1.0])


def test_steps_fall_where_they_are_due_however_their_size_is_written() -> None:
    """3 · 0.1 epochs of ten batches are three batches, though 0.3 / 0.1 is less than 3 in floating point."""
    schedule = schedules.Step(step_size=0.1, gamma=0.5)
    result = [learning_rate_factor(schedule, At(step, 10, 5)) for step in range(50)]
    assert result == pytest.approx([0.5**step for step in range(50)])
    for tenths in range(1, 40):
        size = tenths / 10
        whole = schedules.Step(step_size=size, gamma=0.5)
        assert learning_rate_factor(whole, At(3 * tenths, 10, 99)) == 0.125
        assert learning_rate_factor(whole, At(3 * tenths - 1, 10, 99)) == 0.25


def test_every_choice_of_a_plan_has_its_arithmetic() -> None:
    assert SCHEDULES.keys() == schedules.SCHEDULES.keys()
    assert OPTIMISERS.keys() == optimisers.OPTIMISERS.keys()
    assert LOSSES.keys() == losses.LOSSES.keys()
    assert INITIALISATIONS.keys() == initialisations.INITIALISATIONS.keys()
    assert {loss.output for loss in losses.LOSSES.values()} == OUTPUTS.keys()
    assert set(KERNELS) == set(Training.specs()["kernels"].choices)
    for name, settings in optimisers.OPTIMISERS.items():
        assert settings().state_arrays == len(OPTIMISERS[name].remembers), name


@pytest.mark.parametrize("kind", LOSSES)
@pytest.mark.parametrize("smoothing", [0.0, 0.2])
def test_every_loss_has_the_gradient_that_differences_give(kind: str, smoothing: float) -> None:
    random = np.random.default_rng(0)
    scores = random.standard_normal((4, 3)) * 2
    targets = np.array([[1.0, 0, 0], [0, 0, 1], [0.3, 0.7, 0], [0, 1, 0]])
    weights = np.array([0.5, 1.0, 2.0])
    if kind == "binary cross-entropy":
        scores, targets, weights = (
            scores[:, :1],
            targets[:, :2] / targets[:, :2].sum(axis=1, keepdims=True).clip(1),
            weights[:2],
        )
    loss = Loss(kind, smoothing, weights)
    _, grad = loss(scores, targets)
    for i in range(4):
        for k in range(scores.shape[1]):
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
    smooth = Loss(label_smoothing=0.5)(scores, targets)[0]
    assert smooth == pytest.approx([0.25 * np.log(4) + 0.75 * np.log(4 / 3)])
    assert balanced(np.array([10, 30])) == pytest.approx([2.0, 2 / 3])


def test_filters_longer_than_the_max_norm_are_shortened_to_it_and_no_others() -> None:
    learnings = {name: Learning(max_norm=2.0) for name in ("held", "turned")}
    optimiser = OPTIMISERS["sgd"](optimisers.Sgd(learning_rate=1.0, momentum=0.0), learnings, {"turned": 0})
    long, short = np.array([3.0, 4.0]), np.array([0.6, 0.8])
    kernel = np.stack([long, short], axis=1)
    weights = {
        "held": {"matrix": kernel.copy(), "bias": long.copy()},
        "turned": {"matrix": kernel.T.copy()},
        "free": {"matrix": kernel.copy()},
    }
    optimiser.step(weights, {node: {name: np.zeros_like(w) for name, w in a.items()} for node, a in weights.items()})
    shortened = np.stack([long * 0.4, short], axis=1)
    assert np.allclose(weights["held"]["matrix"], shortened)
    assert np.allclose(weights["turned"]["matrix"], shortened.T)
    assert weights["held"]["bias"].tolist() == [3.0, 4.0]
    assert weights["free"]["matrix"].tolist() == kernel.tolist()


def test_a_layer_s_weight_decay_is_the_plan_s_times_its_multiplier() -> None:
    learnings = {"none": Learning(decay_multiplier=0.0), "twice": Learning(decay_multiplier=2.0)}
    settings = optimisers.Sgd(learning_rate=0.5, momentum=0.0, weight_decay=0.1)
    optimiser = OPTIMISERS["sgd"](settings, learnings)
    weights = {name: {"matrix": np.ones((1, 1))} for name in ("none", "usual", "twice")}
    optimiser.step(weights, {name: {"matrix": np.zeros((1, 1))} for name in weights})
    assert [float(weights[name]["matrix"][0, 0]) for name in weights] == pytest.approx([1.0, 0.95, 0.9])


def test_a_loss_that_falls_by_less_than_a_thousandth_has_not_fallen() -> None:
    waits = schedules.Plateau(patience=2, gamma=0.1)
    assert factor(waits, 3, losses=(1.0, 0.9995, 0.9991)) == pytest.approx(0.1)
    assert factor(waits, 3, losses=(1.0, 0.998, 0.996)) == 1
    assert factor(waits, 4, losses=(1.0, 0.9995, 0.9985, 0.9980)) == 1, "the best is that before the small steps"
