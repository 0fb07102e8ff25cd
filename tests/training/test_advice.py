"""Advice on records made up for it: said where it is so, and not elsewhere; every remedy is a plan that can run."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import binomtest

from attentive_lens.plan.augmentation import STEPS, Rotate, Scale
from attentive_lens.plan.layers import Convolution, Flatten, LeakyRelu, Output, Relu, Sigmoid
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.intervals import interval
from attentive_lens.training.advice import ADVICE, OF_DRAWING, OF_PAIRS, OVERRULES, Finding, Record, advise
from attentive_lens.training.advice.fitting import over_fits_since, still_falls
from attentive_lens.training.advice.inputs import scaled, strength
from attentive_lens.training.advice.layers import normalised_after
from attentive_lens.training.advice.sound import LIMITS, unsound
from attentive_lens.training.figures import ByClass, Figures, Health
from attentive_lens.training.journal import EpochEvent

PLAN = Plan()
LAYERS = [node.name for node in PLAN.network.nodes]
FALLING = [1.0 * 0.9**k for k in range(20)]
FLAT = [0.3 + 0.001 * (k % 3) for k in range(20)]
LEARNING = [0.9 - 0.02 * k for k in range(20)]


def health(update: float = 1e-3, dead: float = 0.0, gradient: float = 0.1, right: int = 36, **at: Any) -> Health:
    """The same figure in every layer that has it; ``dead_at`` and the like set those of some layers."""
    weighted = [node.layer.kind in ("convolution", "fully connected", "output") for node in PLAN.network.nodes]
    rectified = [node.layer.kind == "relu" for node in PLAN.network.nodes]
    figures: dict[str, tuple[float | None, ...]] = {
        "update": tuple(update if has else None for has in weighted),
        "gradient": tuple(gradient if has else None for has in weighted),
        "activation": (1.0,) * len(weighted),
        "dead": tuple(dead if has else None for has in rectified),
    }
    for name_at, values in at.items():
        figure = name_at.removesuffix("_at")
        figures[figure] = tuple(values.get(name, old) for name, old in zip(LAYERS, figures[figure], strict=True))
    return Health(**figures, images=40, right=right)


def epochs(
    validation: list[float],
    training: list[float],
    right: float = 0.9,
    held_out: float = 0.9,
    look: Health | None = None,
    by_class: ByClass | None = None,
) -> tuple[EpochEvent, ...]:
    return tuple(
        EpochEvent(
            k + 1,
            Figures(t, right),
            Figures(v, held_out),
            v == min(validation[: k + 1]),
            seconds=1.0,
            health=look or health(),
            by_class=by_class,
        )
        for k, (v, t) in enumerate(zip(validation, training, strict=True))
    )


def record(of: tuple[EpochEvent, ...], plan: Plan = PLAN, state: str = "done", **known: Any) -> Record:
    whole = {
        "classes": ("netted", "spiny"),
        "training": (2000, 2000),
        "validation": (2000, 2000),
        "batches": 125,
        "input_mean": 0.0,
        "input_std": 1.0,
        **known,
    }
    return Record(plan, of, state, **whole)


def advice(of: tuple[EpochEvent, ...], plan: Plan = PLAN, state: str = "done", **known: Any) -> dict[str, Finding]:
    return {finding.kind: finding for finding in advise(record(of, plan, state, **known))}


SOUND = epochs(LEARNING, LEARNING)


def test_nothing_is_said_of_a_run_that_learns_and_of_one_without_an_epoch() -> None:
    steady = [0.5 - 0.05 * min(k, 8) for k in range(20)]
    assert advice(epochs(steady, steady, 0.99, 0.99, health(right=40))) == {}
    assert advice(()) == {}


def test_over_fitting_is_named_with_the_epoch_since_when() -> None:
    validation = [1 - 0.05 * k for k in range(10)] + [0.55 + 0.03 * k for k in range(10)]
    training = [1 - 0.045 * k for k in range(20)]
    result = advice(epochs(validation, training))["over-fitting"]
    assert 10 <= result.epoch <= 12
    assert result.epoch == over_fits_since(epochs(validation, training))
    assert "over-fitting" in advice(epochs(validation, training), state="training"), "it is told while it trains"
    assert over_fits_since(epochs(validation, [1.0 + 0.01 * k for k in range(20)])) is None, "training rises as well"
    assert over_fits_since(epochs(FALLING, FALLING)) is None
    assert over_fits_since(epochs(FLAT, FALLING)) is None
    bare = PLAN.with_augmentation(())
    remedy = advice(epochs(validation, training), bare)["over-fitting"].plan
    assert remedy is not None
    assert remedy.augmentation
    weak = PLAN.with_augmentation((Rotate(range=(-1.0, 1.0)),))
    assert "augmentation of no effect" in advice(epochs(validation, training), weak)
    assert "over-fitting" not in advice(epochs(validation, training), weak), "it is said once"


def test_an_end_that_came_while_the_loss_fell_is_told_and_no_other() -> None:
    assert still_falls(epochs(FALLING, FALLING))
    result = advice(epochs(FALLING, FALLING))["still improving"]
    assert result.plan is not None
    assert result.plan.training.epochs == 2 * PLAN.training.epochs
    assert "still improving" not in advice(epochs(FALLING, FALLING), state="stopped")
    assert "still improving" not in advice(epochs(FLAT, FLAT))
    assert advice(epochs(FALLING[:5], FALLING[:5])) == {}, "too few epochs to say anything"


def test_under_fitting_is_told_by_the_training_images_themselves() -> None:
    result = advice(epochs(FLAT, FLAT, 0.5, 0.52))["under-fitting"]
    assert result.evidence.startswith("50.0% of the training images are right")
    assert result.plan is not None
    assert result.plan.network.nodes[0].layer == PLAN.network.nodes[0].layer.with_(filters=32)
    assert "under-fitting" not in advice(epochs(FLAT, FLAT, 0.5, 0.3)), "what it learned it does not know again"
    assert "under-fitting" not in advice(epochs(FLAT, FLAT, 0.5, 0.52), state="training")
    annealed = PLAN.changed({"schedule": "cosine"})
    longer = advice(epochs(FLAT, FLAT, 0.5, 0.52), annealed)["under-fitting"].plan
    assert longer is not None
    assert longer.training.epochs == 2 * PLAN.training.epochs


def test_a_plateau_is_told_at_a_learning_rate_that_stays() -> None:
    result = advice(epochs(FLAT, FLAT))["plateau"]
    assert result.plan is not None
    assert result.plan.schedule.kind == "cosine"
    assert "plateau" not in advice(epochs(FLAT, FLAT), PLAN.changed({"schedule": "cosine"}))
    assert "plateau" not in advice(epochs(FLAT, FLAT), rates_changed=True)
    assert "plateau" not in advice(epochs(FALLING, FALLING))
    assert "plateau" not in advice(epochs(FLAT[:8], FLAT[:8]))


@pytest.mark.parametrize(
    ("losses", "error", "summary"),
    [
        ([0.7, 0.69, 0.68], "Training stopped in epoch 4: numbers ran away: infinity", True),
        ([3.0, 2.0, 1.0, 0.9], "", True),
        ([0.6, 0.5, 0.9, 0.9], "", True),
        ([0.8, 0.6, 0.5, 0.4], "", False),
        ([0.6, 0.5, 0.9, 0.4], "", False),
    ],
)
def test_divergence_is_a_loss_above_chance_or_numbers_that_ran_away(
    losses: list[float], error: str, summary: bool
) -> None:
    result = advice(epochs(losses, losses, 0.5, 0.5), error=error, state="failed" if error else "done")
    assert ("divergence" in result) == summary
    if summary:
        plan = result["divergence"].plan
        assert plan is not None
        assert plan.optimiser.learning_rate == pytest.approx(PLAN.optimiser.learning_rate / 10)
        assert result.keys() <= {"divergence", "input not normalised", "batch size", "validation noise"}


def test_dropout_that_makes_training_hard_is_no_divergence() -> None:
    assert "divergence" not in advice(epochs([0.5] * 6, [0.9] * 6, 0.5, 0.8))


def test_rates_are_judged_by_the_size_of_their_steps() -> None:
    stuck = [0.69] * 8
    result = advice(epochs(stuck, stuck, 0.5, 0.5, health(update=0.05)))
    assert "rate too high" in result
    up_and_down = [0.5, 0.6, 0.4, 0.5, 0.4, 0.5, 0.4, 0.45]
    assert "rate too high" in advice(epochs(up_and_down, up_and_down, look=health(update=0.03)))
    assert "rate too high" not in advice(epochs(up_and_down, up_and_down, look=health(update=0.003)))
    died = health(update=0.03, dead_at={LAYERS[1]: 0.9})
    assert "«relu 1»" in advice(epochs(FLAT, FLAT, look=died))["rate too high"].evidence
    slow = [0.69 - 0.001 * k for k in range(8)]
    result = advice(epochs(slow, slow, 0.5, 0.5, health(update=1e-5)))
    plan = result["rate too low"].plan
    assert plan is not None
    assert plan.optimiser.learning_rate == 0.03
    assert "rate too low" not in advice(epochs(FALLING, FALLING, look=health(update=1e-5))), "it learns all the same"
    assert "rate too low" not in advice(epochs(slow, slow, 0.5, 0.5, health(update=1e-3)))


def test_dead_units_are_told_by_layer_and_more_of_them_after_a_fully_connected_one() -> None:
    flat = next(n.name for n in PLAN.network.nodes if n.layer.kind == "relu" and "connected" in n.after[0])
    assert "dead units" in advice(epochs(LEARNING, LEARNING, look=health(dead_at={LAYERS[1]: 0.5})))
    assert "dead units" not in advice(epochs(LEARNING, LEARNING, look=health(dead_at={LAYERS[1]: 0.3})))
    assert "dead units" not in advice(epochs(LEARNING, LEARNING, look=health(dead_at={flat: 0.7})))
    result = advice(epochs(LEARNING, LEARNING, look=health(dead_at={flat: 0.9})))["dead units"]
    assert result.plan is not None
    assert not any(isinstance(node.layer, Relu) for node in result.plan.network.nodes)
    assert any(isinstance(node.layer, LeakyRelu) for node in result.plan.network.nodes)


def test_gradients_that_vanish_or_explode_are_told_by_the_layers_they_reach() -> None:
    first = LAYERS[0]
    assert "vanishing gradients" in advice(epochs(FLAT, FLAT, 0.5, 0.5, health(gradient_at={first: 1e-4})))
    assert "vanishing gradients" not in advice(epochs(FLAT, FLAT, 0.5, 0.5, health(gradient_at={first: 0.05})))
    assert "vanishing gradients" not in advice(epochs(FLAT, FLAT, look=health(gradient_at={first: 1e-4}))), (
        "it has learned"
    )
    result = advice(epochs(FLAT, FLAT, 0.5, 0.5, health(gradient=50.0)))["exploding gradients"]
    assert result.plan is not None
    assert result.plan.training.clip_norm == 1.0
    clipped = PLAN.changed({"training.clip_norm": 1.0})
    assert "exploding gradients" not in advice(epochs(FLAT, FLAT, 0.5, 0.5, health(gradient=50.0)), clipped)
    output = LAYERS[-1]
    assert "exploding gradients" not in advice(epochs(FLAT, FLAT, 0.5, 0.5, health(gradient_at={output: 50.0})))


def test_normalisation_is_put_after_every_convolution_that_has_none() -> None:
    network = NetworkPlan.stack([Convolution(), Sigmoid(), Convolution(), Sigmoid(), Flatten(), Output()])
    plan = normalised_after(Plan().with_network(network))
    kinds = [node.layer.kind for node in plan.network.nodes]
    assert kinds == [
        *("convolution", "batch normalisation", "sigmoid", "convolution", "batch normalisation", "sigmoid"),
        *("flatten", "output"),
    ]
    assert normalised_after(plan) == plan


def confusion(rights: tuple[float, ...], images: tuple[int, ...]) -> ByClass:
    cells = []
    for true, (right, count) in enumerate(zip(rights, images, strict=True)):
        hits = round(right * count)
        cells += [(true, true, hits), (true, (true + 1) % len(images), count - hits)]
    return ByClass(tuple(cells), (0.5,) * len(images))


def test_classes_are_told_that_are_ignored_or_small_and_worse() -> None:
    sizes: dict[str, Any] = {"classes": ("a", "b", "c"), "training": (900, 900, 60), "validation": (300, 300, 20)}
    ignored = epochs(FLAT, FLAT, by_class=confusion((0.9, 0.9, 0.0), (300, 300, 20)))
    result = advice(ignored, **sizes)["class ignored"]
    assert "«c» (60 training images)" in result.evidence
    assert result.plan is not None
    assert result.plan.loss.class_weights == "balanced"
    balanced = PLAN.changed({"loss.class_weights": "balanced"})
    assert "class ignored" not in advice(ignored, balanced, **sizes)
    worse = epochs(FLAT, FLAT, by_class=confusion((0.95, 0.95, 0.5), (300, 300, 20)))
    assert "imbalance" in advice(worse, **sizes)
    assert "class ignored" not in advice(worse, **sizes)
    as_good = epochs(FLAT, FLAT, by_class=confusion((0.9, 0.9, 0.9), (300, 300, 20)))
    assert "imbalance" not in advice(as_good, **sizes)
    even = {**sizes, "training": (600, 600, 600)}
    assert not {"imbalance", "class ignored"} & advice(ignored, **even).keys(), "a class of usual size is not left out"


def test_too_few_validation_images_are_told_with_the_interval() -> None:
    evidence = advice(epochs(FLAT, FLAT), validation=(38, 2))["validation noise"].evidence
    assert (
        "chosen by 40 validation images, 2 of the smallest class: their 90.0% may stand for 76.9% to 96.0%" in evidence
    )
    assert (
        "none at all of the smallest class"
        in advice(epochs(FLAT, FLAT), validation=(4000, 0))["validation noise"].evidence
    )
    assert "validation noise" not in advice(epochs(FLAT, FLAT), validation=(38, 2), state="training")
    for fraction, more in ((0.2, "30%"), (0.25, "38%"), (0.35, "40%")):
        plan = PLAN.changed({"split.validation_fraction": fraction})
        result = advice(epochs(FLAT, FLAT), plan, validation=(38, 2))["validation noise"]
        assert f"Hold {more} of the images out" in result.remedy
    assert "validation noise" not in advice(epochs(FLAT, FLAT))


@given(st.integers(1, 400), st.data())
def test_the_interval_is_wilson_s(images: int, data: st.DataObject) -> None:
    right = data.draw(st.integers(0, images))
    expected = binomtest(right, images).proportion_ci(0.95, "wilson")
    assert interval(right / images, images) == pytest.approx((expected.low, expected.high), abs=1e-4)


def test_batches_are_too_large_or_too_small_for_what_there_is_to_learn() -> None:
    large = PLAN.changed({"training.batch_size": 512})
    result = advice(epochs(FLAT, FLAT, 0.5, 0.5), large, training=(300, 300), batches=2)["batch size"]
    assert result.plan is not None
    assert result.plan.training.batch_size == 25, "600 images in 24 steps"
    assert "batch size" not in advice(epochs(FLAT, FLAT, 0.5, 0.5), large, training=(60_000, 60_000), batches=235)
    tiny = PLAN.changed({"training.batch_size": 2, "optimiser": "sgd"})
    result = advice(epochs(FLAT, FLAT), tiny, batches=2000)["batch size"]
    assert result.plan is not None
    assert result.plan.optimiser.learning_rate / tiny.optimiser.learning_rate == pytest.approx(16, rel=0.05)


def test_augmentation_is_too_strong_where_augmented_images_stay_behind() -> None:
    assert "augmentation too strong" in advice(epochs(FLAT, FLAT, 0.5, 0.7, health(right=20)))
    assert "augmentation too strong" not in advice(epochs(FLAT, FLAT, 0.5, 0.7, health(right=24)))
    strong = PLAN.with_augmentation(tuple(scaled(step, 2) for step in PLAN.augmentation))
    assert "augmentation too strong" in advice(epochs(FLAT, FLAT, 0.5, 0.7, health(right=24)), strong)
    bare = PLAN.with_augmentation(())
    assert "augmentation too strong" not in advice(epochs(FLAT, FLAT, 0.5, 0.7, health(right=20)), bare)


def test_images_far_from_zero_or_without_contrast_are_not_normalised() -> None:
    for mean, std, summary in (
        (0.0, 1.0, False),
        (0.4, 0.3, False),
        (0.87, 0.02, True),
        (0.0, 0.1, True),
        (5.0, 1.0, True),
    ):
        result = advice(SOUND, PLAN.changed({"preprocessing.normalisation": "0-1"}), input_mean=mean, input_std=std)
        assert ("input not normalised" in result) == summary, (mean, std)


@pytest.mark.parametrize("kind", sorted(STEPS))
def test_every_augmentation_step_can_be_weakened_and_strengthened(kind: str) -> None:
    step = STEPS[kind]()
    weak, strong = scaled(step, 0.5), scaled(step, 2.0)
    assert weak.probability == step.probability / 2
    assert strength(weak) < strength(step) <= strength(strong)
    bounds = getattr(step, "range", None)
    if isinstance(bounds, tuple):
        low, high = weak.range  # type: ignore[attr-defined]
        assert bounds[0] <= low <= high <= bounds[1]


def test_a_factor_is_weakened_about_one() -> None:
    assert scaled(Scale(range=(0.5, 2.0)), 0.5).range == (0.75, 1.5)  # type: ignore[attr-defined]


@given(
    st.lists(st.tuples(st.floats(0.01, 5), st.floats(0.01, 5), st.floats(0, 1), st.floats(0, 1)), max_size=20),
    st.floats(1e-9, 1),
    st.floats(0, 1),
    st.floats(1e-9, 1e3),
    st.sampled_from(["training", "done", "stopped", "failed"]),
)
def test_whatever_a_run_did_advice_is_whole_and_its_plan_differs(
    curves: list[tuple[float, float, float, float]], update: float, dead: float, gradient: float, state: str
) -> None:
    look = health(update, dead, gradient)
    of = tuple(
        EpochEvent(k + 1, Figures(t, r), Figures(v, h), not k, seconds=1.0, health=look)
        for k, (v, t, r, h) in enumerate(curves)
    )
    result = advise(record(of, state=state))
    kinds = [finding.kind for finding in result]
    assert len(set(kinds)) == len(kinds)
    for finding in result:
        assert finding.kind in ADVICE
        assert finding.plan != PLAN
        assert finding.sentence.endswith((".", "!"))
        assert 0 <= finding.epoch <= len(curves) + 1
        assert state != "training" or ADVICE[finding.kind].live
        if finding.plan is not None:
            assert Plan.read(finding.plan.write()) == finding.plan


def test_overruled_advice_is_advice_and_nothing_silences_itself() -> None:
    for kind, silent in OVERRULES.items():
        assert {kind} | silent <= ADVICE.keys() | OF_DRAWING.keys() | OF_PAIRS.keys()
        assert kind not in silent


def test_layers_outside_sound_limits_are_named_by_figure() -> None:
    values = {figure: getattr(health(update=0.5, dead_at={LAYERS[1]: 0.5}), figure) for figure in LIMITS}
    wrong = unsound(PLAN, values)
    assert wrong[LAYERS[0]] == ("update",)
    assert wrong[LAYERS[1]] == ("dead",)
    assert "flatten 1" not in wrong
    sound = {figure: getattr(health(), figure) for figure in LIMITS}
    assert unsound(replace(PLAN), sound) == {}
