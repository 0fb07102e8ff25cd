"""What advice names: the figures in its sentences and the settings of its plans, by known answers."""

from __future__ import annotations

import math
from typing import Any

import pytest
from tests.training.test_advice import FALLING, FLAT, LAYERS, PLAN, SOUND, advice, confusion, epochs, health, record

from attentive_lens.plan.augmentation import Brightness, Rotate
from attentive_lens.training.advice.inputs import scaled


def test_who_guesses_by_the_classes_shares_has_their_entropy_and_nothing_to_guess_where_there_is_one() -> None:
    assert record(SOUND, training=(30, 10)).chance_loss == pytest.approx(-0.75 * math.log(0.75) - 0.25 * math.log(0.25))
    assert record(SOUND, training=(5, 0)).chance_loss is None
    assert record(SOUND, PLAN.changed({"loss": "squared error"}), training=(30, 10)).chance_loss is None


def test_the_smallest_of_the_small_classes_is_named() -> None:
    sizes: dict[str, Any] = {"classes": ("a", "b", "c"), "training": (900, 60, 40), "validation": (300, 20, 20)}
    worse = epochs(FLAT, FLAT, by_class=confusion((0.95, 0.5, 0.5), sizes["validation"]))
    assert "the largest class has 900 training images and «c» 40" in advice(worse, **sizes)["imbalance"].evidence


@pytest.mark.parametrize(("images", "batch"), [(2000, 32), (120, 7), (320, 20)])
def test_larger_batches_are_proposed_by_the_number_of_images(images: int, batch: int) -> None:
    tiny, halves = PLAN.changed({"training.batch_size": 1}), (images // 2, images // 2)
    finding = advice(epochs(FLAT, FLAT), tiny, training=halves, batches=images)["batch size"]
    assert finding.plan is not None
    assert finding.plan.training.batch_size == batch


def test_steps_that_are_too_long_become_a_tenth() -> None:
    finding = advice(epochs([0.7] * 20, [0.7] * 20, 0.5, 0.5, health(update=0.5)))["rate too high"]
    assert finding.plan is not None
    assert finding.plan.optimiser.learning_rate == pytest.approx(PLAN.optimiser.learning_rate / 10)
    assert f"{PLAN.optimiser.learning_rate / 10:g} in place of" in finding.remedy


@pytest.mark.parametrize(("update", "too_high"), [(0.008, False), (0.012, True)])
def test_layers_that_died_blame_the_rate_only_where_steps_were_long(update: float, too_high: bool) -> None:
    died = health(update=update, dead_at={LAYERS[1]: 0.9})
    assert ("rate too high" in advice(epochs(FALLING, FALLING, look=died))) == too_high


def test_more_layers_with_dead_units_are_counted_and_one_is_not() -> None:
    rectifiers = [name for name in LAYERS if name.startswith("relu")]
    for dead in (rectifiers[:1], rectifiers[:2]):
        look = health(dead_at=dict.fromkeys(dead, 0.97))
        finding = advice(epochs(FALLING, FALLING, look=look))["dead units"]
        more = f", and {len(dead) - 1} layers more"
        assert (more in finding.evidence) == (len(dead) > 1)
        assert ("layers more" in finding.evidence) == (len(dead) > 1)


def test_a_strengthened_range_keeps_within_what_its_setting_allows() -> None:
    top = Rotate.specs()["range"].high
    assert top is not None
    assert scaled(Rotate(range=(-100.0, 100.0)), 9.0).range == (-top, top)  # type: ignore[attr-defined]
    low, high = scaled(Brightness(range=(0.5, 1.5)), 3.0).range  # type: ignore[attr-defined]
    known = Brightness.specs()["range"]
    assert (low, high) == (max(known.low or 0.0, -0.5), min(known.high or math.inf, 2.5))
