"""Parts of the source as causes: an exact test within the classes, and what must not be blamed."""

from __future__ import annotations

import numpy as np
import pytest
from tests.explaining.made_up import TRAINING, Plot, only

from attentive_lens.explaining.causes.origins import _chance, _expected


def test_a_part_of_the_source_is_told_by_what_its_classes_give_elsewhere() -> None:
    plot = Plot()
    for k in [*plot.wrong[:15], *range(TRAINING, TRAINING + 6), *range(24)]:
        plot.origins[k] = ("source 1", "the folder bench 2")
    result = only("origin", plot.evidence())
    assert result is not None
    assert (set(result.members), result.short) == (set(range(15)), "are from the folder bench 2")
    assert result.figures["expected"] < 6
    assert result.figures["part of the training images"] == pytest.approx(0.1)
    assert "24 images from there (10% of the training images)" in result.why
    plot.units[plot.wrong[:15]] = 0
    plot.units[TRAINING : TRAINING + 6] = 1
    assert only("origin", plot.evidence()) is None, "tiles of one photograph are one"


def test_a_part_that_holds_most_images_holds_most_mistakes_and_is_no_cause() -> None:
    plot = Plot()
    random = np.random.default_rng(5)
    for k in np.flatnonzero(random.random(plot.count) < 0.83):
        plot.origins[k] = ("source 1", "the format PNG")
    for k in plot.wrong[: len(plot.wrong) - 1]:
        plot.origins[k] = ("source 1", "the format PNG")
    assert only("origin", plot.evidence()) is None


def test_a_part_with_a_fifth_more_mistakes_than_chance_is_not_told_however_sure_that_is() -> None:
    plot = Plot(right=3000, wrong=600)
    for place, k in enumerate(range(TRAINING, plot.count)):
        wrong = k >= TRAINING + 3000
        if place % 5 < 3 if wrong else place % 2:
            plot.origins[k] = ("source 1", "the folder of half the images")
    assert only("origin", plot.evidence()) is None


def test_shuffled_properties_are_causes_in_hardly_any_trial() -> None:
    blamed = 0
    for seed in range(60):
        plot, random = Plot(seed), np.random.default_rng(seed)
        shares = random.uniform(0.02, 0.9, 6)
        for k in range(plot.count):
            plot.origins[k] = tuple(f"the folder {n}" for n, share in enumerate(shares) if random.random() < share)
        blamed += only("origin", plot.evidence()) is not None
    assert blamed <= 3


def test_the_chance_of_a_part_is_what_dealing_mistakes_out_within_classes_gives() -> None:
    random = np.random.default_rng(0)
    images_in, wrong, images = np.array([12, 5, 0]), np.array([9, 4, 6]), np.array([40, 9, 20])
    dealt = []
    for _ in range(4000):
        classes = zip(images_in, wrong, images, strict=True)
        dealt.append(sum(int(random.permutation(np.arange(n) < bad)[:inside].sum()) for inside, bad, n in classes))
    for held in (3, 6, 8):
        chance = _chance(np.array([held, 0, 0]), images_in, wrong, images)
        assert chance == pytest.approx(np.mean(np.array(dealt) >= held), abs=0.03)
    assert _expected(images_in.astype(float), wrong.astype(float), images.astype(float)) == pytest.approx(
        np.mean(dealt), abs=0.1
    )


def test_a_hard_class_is_not_blamed_on_the_folder_it_stands_in() -> None:
    plot = Plot()
    plot.true[plot.wrong] = 0
    plot.predicted[plot.wrong] = 1
    for k in np.flatnonzero(plot.true == 0):
        plot.origins[k] = ("source 1", "the folder of the hard class")
    assert only("origin", plot.evidence()) is None
