"""Every augmentation step over shapes, channels and depths: what it does to one channel it does to each."""

from __future__ import annotations

import numpy as np
import pytest

from attentive_lens.images.augmentation import AUGMENTATIONS, augment
from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.images.feeding import Feed
from attentive_lens.images.pixel_format import PixelArray, white_in
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.augmentation import STEPS, Hue, Rotate
from attentive_lens.plan.preprocessing import Preprocessing

SHAPES = ((4, 4), (28, 20), (33, 97))
NUMBERS = [3, 8, 11]


def images(shape: tuple[int, int], channels: int, kind: type) -> PixelArray:
    values = np.random.default_rng(5).random((3, *shape, channels)).astype(np.float32)
    return (values * 255).astype(np.uint8) if kind is np.uint8 else values


@pytest.mark.parametrize("kind", STEPS)
@pytest.mark.parametrize("channels", [1, 2, 3, 5])
@pytest.mark.parametrize("depth", [np.uint8, np.float32])
def test_a_step_keeps_shape_and_range_whatever_it_is_given(kind: str, channels: int, depth: type) -> None:
    if STEPS[kind].for_pictures and channels not in (1, 3):
        pytest.skip("it stands aside")
    for shape in SHAPES:
        pixels = images(shape, channels, depth)
        out = augment(pixels, NUMBERS, [STEPS[kind](probability=1.0)], 3, 1).images
        assert out.shape == pixels.shape
        assert out.dtype == np.float32
        assert out.min() >= 0
        assert out.max() <= 1
        if isinstance(AUGMENTATIONS[kind], Geometric):
            for channel in range(channels):
                alone = augment(
                    pixels[..., channel : channel + 1], NUMBERS, [STEPS[kind](probability=1.0)], 3, 1
                ).images
                np.testing.assert_allclose(alone[..., 0], out[..., channel], atol=1e-6)


@pytest.mark.parametrize("kind", [kind for kind in STEPS if kind != "JPEG artefacts"])
def test_a_step_does_the_same_to_levels_of_eight_bits_in_either_type(kind: str) -> None:
    whole = images((12, 12), 3, np.uint8)
    fine = whole / np.float32(255)
    steps = [STEPS[kind](probability=1.0)]
    np.testing.assert_allclose(
        augment(fine, NUMBERS, steps, 3, 1).images, augment(whole, NUMBERS, steps, 3, 1).images, atol=3e-5
    )


def test_fine_levels_are_not_rounded_to_eight_bits() -> None:
    fine = np.full((1, 8, 8, 1), 0.5 + 1 / 4095, np.float32)
    out = augment(fine, [1], [Rotate(probability=1.0)], 3, 1).images
    np.testing.assert_allclose(out, fine, atol=1e-7)
    assert white_in(fine) == 1


def test_steps_for_pictures_stand_aside_where_channels_have_names() -> None:
    aside = {kind for kind, step in STEPS.items() if step.for_pictures}
    assert aside == {"saturation", "hue", "colour cast", "grey", "JPEG artefacts"}
    pixels, labels = images((8, 8), 3, np.float32), np.array([0, 1, 0])
    named = Preprocessing(input_size=8, channel_names=("near", "far", "wide"))
    steps = (Hue(probability=1.0, range=(90.0, 90.0)),)
    for settings, changes in ((Preprocessing(input_size=8), True), (named, False)):
        feed = Feed(pixels, labels, np.arange(3), steps, Preprocessor.plain(settings), 1, 3, 2)
        batch = feed.batch(0, 0, np.arange(3)).images
        assert np.allclose(batch, pixels) != changes
        assert steps[0].acts_on(settings) == changes
