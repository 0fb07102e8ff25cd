"""A channel is the cause of mistakes where nothing in it mends them, no other does, and right answers stay."""

from __future__ import annotations

import numpy as np
import pytest
from tests.explaining.made_up import CLASSES, Plot, only

from attentive_lens.errors import BadValue
from attentive_lens.explaining.changes import flattened
from attentive_lens.plan.plan import Plan

NAMES = ("near", "far", "wide")
STRIPED = 40.0
"""Deviation of the far channel's row means from which it has the stripes."""


def striped(seed: int = 0) -> Plot:
    """Classes told by the near channel's brightness; mistakes have bright stripes in the far one."""
    plot = Plot(seed)
    plot.plan = Plan().changed({"preprocessing.channel_names": list(NAMES)})
    plot.pixels[..., 0] = (50 + 60 * plot.true)[:, None, None]
    plot.pixels[plot.wrong, ::2, :, 1] = 255
    plot.pixels[plot.wrong, 1::2, :, 1] = 0
    return plot


def misled(images: np.ndarray) -> np.ndarray:
    """What the near channel shows, or the next class where the far one has stripes."""
    own = np.rint((images[..., 0].mean(axis=(1, 2)) - 50) / 60).astype(int)
    stripes = images[..., 1].mean(axis=2).std(axis=1) > STRIPED
    return (own + stripes) % len(CLASSES)


def test_the_channel_with_the_stripes_is_told_and_left_out_of_the_plan() -> None:
    plot = striped()
    cause = only("channel", plot.evidence(misled))
    assert cause is not None
    assert len(cause.members) == len(plot.wrong)
    assert cause.figures == {"mended": 1.0, "mended elsewhere": 0.0, "broken": 0.0}
    assert "channel «far»: replaced by its mean, 100% of the mistakes are mended" in cause.why
    assert cause.plan is not None
    assert cause.plan.preprocessing.channel_names == ("near", "wide")


def test_a_network_that_says_one_class_where_it_sees_nothing_is_not_mended() -> None:
    plot = striped()

    def blind(images: np.ndarray) -> np.ndarray:
        flat = images[..., 1].std(axis=(1, 2)) < 1
        return np.where(flat, 0, misled(images))

    cause = only("channel", plot.evidence(blind))
    assert cause is None, "a third of the mistakes are mended by it, and two thirds of the right answers spoilt"


def test_a_channel_that_right_answers_need_as_well_is_not_told() -> None:
    plot = striped()

    def needs_it(images: np.ndarray) -> np.ndarray:
        own = np.rint((images[..., 0].mean(axis=(1, 2)) - 50) / 60).astype(int)
        lost = (images[..., 1].std(axis=(1, 2)) < 1) & (images[..., 2].mean(axis=(1, 2)) * 97 % 1 < 0.4)
        return np.where(lost, (own + 1) % len(CLASSES), misled(images))

    assert only("channel", plot.evidence(needs_it)) is None, "six in ten are mended, and four in ten spoilt"


def test_nothing_is_told_of_ordinary_pictures_or_where_every_channel_misleads() -> None:
    plot = striped()
    plot.plan = Plan()
    assert only("channel", plot.evidence(misled)) is None

    def by_any(images: np.ndarray) -> np.ndarray:
        own = np.rint((images[..., 0].max(axis=(1, 2)) - 50) / 60).astype(int)
        flat = (images.std(axis=(1, 2)) < 1)[:, 1:].any(axis=1)
        return (own + (images[..., 1].mean(axis=2).std(axis=1) > STRIPED) * ~flat) % len(CLASSES)

    assert only("channel", striped().evidence(by_any)) is None, "another channel's mean mends as many"


@pytest.mark.parametrize("dtype", [np.uint8, np.float32])
def test_a_flat_channel_has_its_own_mean_and_the_others_stay(dtype: type) -> None:
    pixels = (np.arange(4 * 5 * 3).reshape(4, 5, 3) * (4 if dtype is np.uint8 else 1 / 60)).astype(dtype)
    flat = flattened(pixels, 3)
    assert flat.dtype == dtype
    level = 0.51 if dtype is np.uint8 else 1e-6
    assert np.unique(flat[..., 2]).tolist() == [pytest.approx(pixels[..., 2].mean(), abs=level)]
    assert np.array_equal(np.delete(flat, 2, 2), np.delete(pixels, 2, 2))
    for channel in (0, 4):
        with pytest.raises(BadValue, match=f"no channel {channel}: the image has 3"):
            flattened(pixels, channel)
