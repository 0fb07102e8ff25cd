from __future__ import annotations

import numpy as np
import pytest
from scipy.ndimage import affine_transform

from attentive_lens.images.augmentation import AUGMENTATIONS, augment
from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.images.augmentation.compiled import warp
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.augmentation import (
    DEFAULT_AUGMENTATION,
    STEPS,
    Blend,
    Blur,
    Brightness,
    ColourCast,
    Contrast,
    Crop,
    ElasticDeformation,
    Erasing,
    Flip,
    Gamma,
    Grey,
    Hue,
    Jpeg,
    MaskPlace,
    Noise,
    PatchBlend,
    Perspective,
    Rotate,
    Rotate90,
    Saturation,
    Scale,
    Sharpen,
    Shear,
    Translate,
)
from attentive_lens.plan.preprocessing import Preprocessing

IMAGES = np.random.default_rng(5).integers(0, 256, (6, 12, 12, 3)).astype(np.uint8)
NUMBERS = range(6)
NO_LEVELS = Preprocessor.plain(Preprocessing(normalisation="0-1"))

IDENTITY = {
    "flip": Flip(probability=0.0),
    "rotate": Rotate(probability=1.0, range=(0.0, 0.0)),
    "translate": Translate(probability=1.0, range=(0.0, 0.0)),
    "brightness": Brightness(probability=1.0, range=(1.0, 1.0)),
    "rotate 90": Rotate90(probability=0.0),
    "scale": Scale(probability=1.0, range=(1.0, 1.0)),
    "shear": Shear(probability=1.0, range=(0.0, 0.0)),
    "perspective": Perspective(probability=1.0, range=(0.0, 0.0)),
    "crop": Crop(probability=1.0, range=(1.0, 1.0), aspect=(1.0, 1.0)),
    "elastic deformation": ElasticDeformation(probability=1.0, range=(0.0, 0.0)),
    "contrast": Contrast(probability=1.0, range=(1.0, 1.0)),
    "saturation": Saturation(probability=1.0, range=(1.0, 1.0)),
    "hue": Hue(probability=1.0, range=(0.0, 0.0)),
    "colour cast": ColourCast(probability=1.0, range=(1.0, 1.0)),
    "gamma": Gamma(probability=1.0, range=(1.0, 1.0)),
    "blur": Blur(probability=1.0, range=(0.0, 0.0)),
    "sharpen": Sharpen(probability=1.0, range=(0.0, 0.0)),
    "noise": Noise(probability=1.0, range=(0.0, 0.0)),
    "random erasing": Erasing(probability=1.0, range=(0.0, 0.0)),
    "mask a place": MaskPlace(probability=1.0, side=0.0),
    "grey": Grey(probability=0.0),
    "JPEG artefacts": Jpeg(probability=0.0),
    "blend": Blend(probability=1.0, range=(0.0, 0.0)),
    "patch blend": PatchBlend(probability=1.0, range=(0.0, 0.0)),
}


def test_every_step_of_a_recipe_has_its_arithmetic() -> None:
    assert AUGMENTATIONS.keys() == STEPS.keys() == IDENTITY.keys()


@pytest.mark.parametrize("kind", STEPS)
def test_a_step_keeps_shape_and_range_repeats_and_does_nothing_at_strength_0(kind: str) -> None:
    step = STEPS[kind](probability=1.0)
    out = augment(IMAGES, NUMBERS, [step], 3, 1).images
    assert out.shape == IMAGES.shape
    assert out.dtype == np.float32
    assert out.min() >= 0
    assert out.max() <= 1
    assert np.array_equal(out, augment(IMAGES, NUMBERS, [step], 3, 1).images)
    assert not np.allclose(out, IMAGES / 255, atol=1e-3)
    same = augment(IMAGES, NUMBERS, [IDENTITY[kind]], 3, 1).images
    assert same == pytest.approx(IMAGES / 255, abs=1e-5)


def test_a_cast_is_a_factor_for_each_colour_and_leaves_grey_images_alone() -> None:
    step, dim = ColourCast(probability=1.0, range=(0.5, 0.9)), IMAGES // 2
    out = augment(dim, NUMBERS, [step], 3, 1).images
    factors = out.reshape(6, -1, 3).sum(axis=1) / (dim.reshape(6, -1, 3).sum(axis=1) / 255)
    assert out == pytest.approx(dim / 255 * factors[:, None, None], abs=1e-5)
    assert factors.prod(axis=1) == pytest.approx(np.ones(6), abs=1e-4)
    assert factors.max() / factors.min() <= (0.9 / 0.5) ** 2
    assert np.ptp(factors, axis=1).min() > 0.001, "each colour has its own"
    grey = IMAGES[:, :, :, :1]
    assert augment(grey, NUMBERS, [step], 3, 1).images == pytest.approx(grey / 255, abs=1e-6)


def test_an_image_is_drawn_the_same_in_any_batch_and_anew_in_every_epoch() -> None:
    together = augment(IMAGES, NUMBERS, DEFAULT_AUGMENTATION, 3, 1).images
    alone = augment(IMAGES[4:5], [4], DEFAULT_AUGMENTATION, 3, 1).images
    assert np.array_equal(together[4], alone[0])
    assert not np.array_equal(augment(IMAGES[4:5], [4], DEFAULT_AUGMENTATION, 3, 2).images, alone)


def test_the_warp_is_the_slow_one() -> None:
    random = np.random.default_rng(0)
    for _ in range(20):
        image = random.random((11, 11, 3), np.float32)
        matrix = np.eye(3)
        matrix[:2] += random.normal(0, 0.3, (2, 3)) * [1, 1, 6]
        out = np.empty_like(image)
        warp(image, matrix.astype(np.float32), out)
        # SciPy counts (row, column) from the corner; ours (across, down) from the centre.
        turned = matrix[1::-1, 1::-1]
        offset = np.array([5, 5]) + matrix[1::-1, 2] - turned @ [5, 5]
        for c in range(3):
            slow = affine_transform(image[:, :, c], turned, offset, order=1, mode="nearest")
            assert out[:, :, c] == pytest.approx(slow, abs=2e-4)


def test_steps_that_follow_each_other_are_composed_in_their_order() -> None:
    turn, shift = Rotate(probability=1.0, range=(90.0, 90.0)), Translate(probability=1.0, range=(1 / 6, 1 / 6))
    image = np.zeros((1, 12, 12, 1), np.uint8)
    image[0, 2, 2] = 255
    # A quarter turn takes (2, 2) to the lower left, (9, 2); the shift then moves it down and right by two.
    first = augment(image, [0], [turn, shift], 0, 0).images[0, :, :, 0]
    assert np.argwhere(first > 0.99).tolist() == [[11, 4]]
    other = augment(image, [0], [shift, turn], 0, 0).images[0, :, :, 0]
    assert np.argwhere(other > 0.99).tolist() == [[7, 4]]


def test_known_matrices() -> None:
    random = np.random.default_rng(0)
    for kind, step in (("rotate", Rotate(range=(90.0, 90.0))), ("translate", Translate(range=(0.5, 0.5)))):
        change = AUGMENTATIONS[kind]
        assert isinstance(change, Geometric)
        result = change.matrix(step, random, (10, 10))
        expected = [[0, -1, 0], [1, 0, 0], [0, 0, 1]] if kind == "rotate" else [[1, 0, -5], [0, 1, -5], [0, 0, 1]]
        assert result == pytest.approx(np.array(expected, float), abs=1e-12)


def feed(augmentation: tuple[object, ...] = DEFAULT_AUGMENTATION, size: int = 4) -> Feed:
    labels = np.arange(6) % 2
    return Feed(IMAGES, labels, np.array([0, 1, 2, 4, 5]), augmentation, NO_LEVELS, 9, size, 2)  # type: ignore[arg-type]


def test_an_epoch_shows_every_training_image_once_in_its_own_order() -> None:
    labels = [[int(k) for batch in feed(()).batches_of(e) for k in batch.targets.argmax(axis=1)] for e in range(6)]
    shown = [np.concatenate([b.images for b in feed(()).batches_of(e)]) for e in range(2)]
    sums = np.sort(shown[0].sum(axis=(1, 2, 3)))
    expected = np.sort((IMAGES[[0, 1, 2, 4, 5]] / 255).sum(axis=(1, 2, 3)))
    assert sums == pytest.approx(expected, rel=1e-4)
    assert all(sorted(own) == [0, 0, 0, 1, 1] for own in labels)
    assert len({tuple(own) for own in labels}) > 1


def test_batches_made_ahead_are_those_made_one_by_one() -> None:
    ahead = [b.images for b in feed().batches_of(3)]
    again = [b.images for b in feed().batches_of(3)]
    assert len(ahead) == 2
    assert all(np.array_equal(a, b) for a, b in zip(ahead, again, strict=True))


def test_an_epoch_given_up_ends_its_thread() -> None:
    batches = feed(size=1).batches_of(0)
    next(batches)
    batches.close()  # type: ignore[attr-defined]  # the fixture checks that no thread is left


def test_a_fault_in_the_thread_reaches_the_loop() -> None:
    broken = feed()
    broken.members = np.array([0, 99])
    with pytest.raises(IndexError):
        list(broken.batches_of(0))


@pytest.mark.parametrize("kind", ["blend", "patch blend"])
def test_mixed_images_are_wanted_as_much_as_they_hold(kind: str) -> None:
    whole = np.zeros((2, 12, 12, 3), np.uint8)
    whole[1] = 255
    for epoch in range(20):
        result = augment(whole, [5, 8], [STEPS[kind](probability=1.0)], 3, epoch)
        assert result.partners.tolist() == [1, 0]
        held = [result.images[0].mean(), 1 - result.images[1].mean()]
        assert result.shares == pytest.approx(np.array(held), abs=1e-5)
        assert (result.shares > 0.05).all()
        assert (result.shares < 0.45).all()
    mixed = Feed(whole, np.array([0, 2]), np.arange(2), [STEPS[kind](probability=1.0)], NO_LEVELS, 1, 2, 4)
    for batch in mixed.batches_of(0):
        assert batch.targets.sum(axis=1) == pytest.approx(np.ones(2))
        assert batch.targets[:, [1, 3]].tolist() == [[0, 0], [0, 0]]
        white = batch.images.mean(axis=(1, 2, 3))
        assert batch.targets[:, 2] == pytest.approx(white, abs=1e-5)


def test_an_image_is_mixed_once_at_most_after_all_else_and_a_lone_one_never() -> None:
    steps = [Blend(probability=1.0), PatchBlend(probability=1.0), Grey(probability=1.0)]
    result = augment(IMAGES, NUMBERS, steps, 3, 1)
    assert np.ptp(result.images, axis=3).max() < 1e-6
    assert np.array_equal(result.images, augment(IMAGES, NUMBERS, [steps[2], steps[0]], 3, 1).images)
    assert (result.partners != np.arange(6)).all()
    alone = augment(IMAGES[:1], [0], steps, 3, 1)
    assert (alone.partners.tolist(), alone.shares.tolist()) == ([0], [0])


def test_as_many_images_are_mixed_as_the_step_says() -> None:
    many = np.zeros((200, 6, 6, 3), np.uint8)
    for chance, low, high in ((0.0, 0, 0), (0.3, 40, 80), (1.0, 200, 200)):
        mixed = augment(many, range(200), [Blend(probability=chance)], 3, 1).partners != np.arange(200)
        assert low <= mixed.sum() <= high
