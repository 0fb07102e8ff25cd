"""What an epoch shows: every image once, or every class as often."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attentive_lens.engine.losses import balanced
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.sampling import draws_of_epoch, shown_of_classes
from attentive_lens.plan.augmentation import DEFAULT_AUGMENTATION
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.training import CLASS_BALANCED, SAMPLINGS, UNIFORM

LABELS = st.lists(st.integers(0, 5), min_size=1, max_size=60).map(lambda each: np.array(each, np.int64))


@given(LABELS, st.integers(0, 3))
@settings(max_examples=100, deadline=None)
def test_an_epoch_shows_as_many_images_as_there_are_and_the_same_whenever_it_is_made(
    labels: np.ndarray, epoch: int
) -> None:
    for sampling in SAMPLINGS:
        draws = draws_of_epoch(labels, sampling, 3, epoch)
        assert len(draws) == len(labels)
        assert len(np.unique(draws)) == len(draws), "no draw comes twice: it would be augmented alike"
        np.testing.assert_array_equal(draws, draws_of_epoch(labels, sampling, 3, epoch))
    np.testing.assert_array_equal(np.sort(draws_of_epoch(labels, UNIFORM, 3, epoch)), np.arange(len(labels)))


@given(LABELS, st.integers(0, 3))
@settings(max_examples=100, deadline=None)
def test_class_balanced_every_class_comes_as_often_and_its_images_in_rounds(labels: np.ndarray, epoch: int) -> None:
    turns, places = np.divmod(draws_of_epoch(labels, CLASS_BALANCED, 3, epoch), len(labels))
    shown = np.bincount(labels[places], minlength=6)
    present = np.bincount(labels, minlength=6) > 0
    assert set((shown > 0).nonzero()[0]) <= set(present.nonzero()[0])
    assert np.ptp(shown[present]) <= 1
    np.testing.assert_array_less(np.abs(shown - shown_of_classes(labels, 6, CLASS_BALANCED)), 2)
    for each in np.unique(labels):
        times = np.bincount(places[labels[places] == each], minlength=len(labels))[labels == each]
        assert np.ptp(times) <= 1, "none comes again before all of its class came"
        own = labels[places] == each
        for place in np.unique(places[own]):
            np.testing.assert_array_equal(np.sort(turns[places == place]), np.arange((places == place).sum()))


def test_epochs_and_seeds_show_other_images_of_a_large_class() -> None:
    labels = np.repeat([0, 1], [40, 8])
    large = [np.sort(draws[draws < 40]) for draws in (draws_of_epoch(labels, CLASS_BALANCED, 1, k) for k in range(8))]
    assert len(np.unique(np.concatenate(large))) == 40, "in a few epochs all come"
    assert (large[0] != large[1]).any()
    other = draws_of_epoch(labels, CLASS_BALANCED, 2, 0)
    assert (large[0] != np.sort(other[other < 40])).any()


def feed(sampling: str, variants: int = 0) -> Feed:
    pixels = np.random.default_rng(0).integers(0, 256, (30, 8, 8, 3), np.uint8)
    labels = np.repeat([0, 1], [26, 4])
    preprocessor = Preprocessor.measured(pixels, Plan().preprocessing.with_(input_size=8))
    members = np.arange(1, 30)
    return Feed(pixels, labels, members, DEFAULT_AUGMENTATION, preprocessor, 3, 7, 2, variants, sampling=sampling)


@pytest.mark.parametrize("variants", [0, 2])
def test_an_image_that_comes_again_is_augmented_otherwise(variants: int) -> None:
    each = feed(CLASS_BALANCED, variants)
    batches = list(each.batches_of(0))
    images = np.concatenate([batch.images for batch in batches])
    small = np.concatenate([batch.targets for batch in batches])[:, 1] == 1
    assert small.sum() in (14, 15)
    different = len(np.unique(images[small].reshape(small.sum(), -1), axis=0))
    assert different == (4 if variants else small.sum()), "unless variants are planned, which come in turn"


def test_pictures_are_those_of_the_batches() -> None:
    for sampling in SAMPLINGS:
        each = feed(sampling)
        batch = list(each.batches_of(1))[1]
        images, rows = each.pictures(1, 1, 5)
        shown = each.preprocessor.apply(images.astype(np.float32) / 255)
        assert np.abs(shown - batch.images[:5]).max() < 0.02
        np.testing.assert_array_equal(each.labels[rows], batch.targets[:5].argmax(axis=1))


def test_class_weights_are_made_of_what_is_shown() -> None:
    labels = np.repeat([0, 1, 3], [60, 30, 10])
    np.testing.assert_array_equal(shown_of_classes(labels, 4, UNIFORM), [60, 30, 0, 10])
    np.testing.assert_array_equal(shown_of_classes(labels, 4, CLASS_BALANCED), [33, 33, 0, 33])
    assert np.ptp(balanced(shown_of_classes(labels, 4, CLASS_BALANCED))[[0, 1, 3]]) == 0, "nothing is weighed twice"
