"""A known answer for each change made to training images."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from attentive_lens.images.augmentation import AUGMENTATIONS, augment
from attentive_lens.images.augmentation.base import Geometric, Pairing, Tonal
from attentive_lens.plan import augmentation
from attentive_lens.plan.augmentation import STEPS, AugmentationStep

RANDOM = np.random.default_rng(3)
COLOURS = RANDOM.integers(20, 236, (16, 16, 3)).astype(np.uint8)
LEVELS = COLOURS / 255


def once(step: AugmentationStep, image: np.ndarray = COLOURS, number: int = 0) -> np.ndarray:
    """One image through one step that is always done."""
    return augment(image[None], [number], [step.with_(probability=1.0)], 0, 0).images[0]


def matrix(step: AugmentationStep, side: int = 10) -> np.ndarray:
    change = AUGMENTATIONS[step.kind]
    assert isinstance(change, Geometric)
    return change.matrix(step, np.random.default_rng(0), (side, side))


def test_quarter_turns_are_exact() -> None:
    seen = {once(augmentation.Rotate90(), number=k).tobytes() for k in range(12)}
    whole = LEVELS.astype(np.float32)
    possible = {np.ascontiguousarray(np.rot90(whole, k)).tobytes() for k in (1, 2, 3)}
    assert len(seen) == 3
    for one in seen:
        result = np.frombuffer(one, np.float32).reshape(16, 16, 3)
        assert any(np.allclose(result, np.frombuffer(p, np.float32).reshape(16, 16, 3), atol=1e-5) for p in possible)


def test_mirroring_reverses_one_axis() -> None:
    assert once(augmentation.Flip(direction="left-right")) == pytest.approx(LEVELS[:, ::-1], abs=1e-5)
    assert once(augmentation.Flip(direction="top-bottom")) == pytest.approx(LEVELS[::-1], abs=1e-5)


def test_brightness_is_a_factor_cut_off_at_white() -> None:
    out = once(augmentation.Brightness(range=(1.5, 1.5)))
    assert out == pytest.approx(np.minimum(LEVELS * 1.5, 1), abs=1e-5)


def test_scaling_by_two_shows_the_middle_half() -> None:
    assert matrix(augmentation.Scale(range=(2.0, 2.0))) == pytest.approx(np.diag([0.5, 0.5, 1]))


def test_a_shear_of_45_degrees_moves_each_row_by_its_height() -> None:
    assert matrix(augmentation.Shear(range=(45.0, 45.0))) @ [0, 3, 1] == pytest.approx([3, 3, 1])


def test_perspective_brings_one_edge_nearer_and_leaves_the_middle() -> None:
    tilt = matrix(augmentation.Perspective(range=(0.5, 0.5)))
    x, y, w = tilt @ [5, 0, 1]
    assert (x / w, y / w) == pytest.approx((5 / 1.5, 0))
    x, y, w = tilt @ [-5, 0, 1]
    assert x / w == pytest.approx(-10)
    assert tilt @ [0, 0, 1] == pytest.approx([0, 0, 1])


def test_a_crop_has_its_area_and_aspect_and_lies_inside() -> None:
    step = augmentation.Crop(range=(0.25, 0.25), aspect=(1.0, 1.0))
    for seed in range(50):
        change = AUGMENTATIONS["crop"]
        assert isinstance(change, Geometric)
        result = change.matrix(step, np.random.default_rng(seed), (10, 10))
        corners = np.array([result @ [x, y, 1] for x in (-5, 5) for y in (-5, 5)])[:, :2]
        assert np.abs(corners).max() <= 5 + 1e-9
        assert np.ptp(corners, axis=0) == pytest.approx([5, 5])


def test_contrast_spreads_about_the_mean() -> None:
    out = once(augmentation.Contrast(range=(0.5, 0.5)))
    assert out.mean() == pytest.approx(LEVELS.mean(), abs=1e-5)
    assert out.std() == pytest.approx(LEVELS.std() / 2, abs=1e-5)


def test_saturation_nought_is_grey_and_keeps_the_luma() -> None:
    out = once(augmentation.Saturation(range=(0.0, 0.0)))
    luma = LEVELS @ [0.299, 0.587, 0.114]
    assert out == pytest.approx(np.repeat(luma[:, :, None], 3, axis=2), abs=1e-5)
    assert once(augmentation.Grey()) == pytest.approx(out, abs=1e-6)


def test_a_hue_of_120_degrees_turns_red_to_green_and_grey_stays() -> None:
    red = np.zeros((4, 4, 3), np.uint8)
    red[:, :, 0] = 255
    assert once(augmentation.Hue(range=(120.0, 120.0)), red)[0, 0] == pytest.approx([0, 1, 0], abs=1e-5)
    flat = np.full((4, 4, 3), 90, np.uint8)
    assert once(augmentation.Hue(range=(77.0, 77.0)), flat) == pytest.approx(flat / 255, abs=1e-5)


def test_gamma_is_a_power() -> None:
    assert once(augmentation.Gamma(range=(2.0, 2.0))) == pytest.approx(LEVELS**2, abs=1e-5)


def test_blur_and_sharpen_are_what_a_gaussian_makes_of_them() -> None:
    soft = gaussian_filter(LEVELS, (1, 1, 0), mode="nearest")
    assert once(augmentation.Blur(range=(1.0, 1.0))) == pytest.approx(soft, abs=1e-4)
    sharp = np.clip(2 * LEVELS - soft, 0, 1)
    assert once(augmentation.Sharpen(range=(1.0, 1.0))) == pytest.approx(sharp, abs=1e-4)


def test_noise_has_its_deviation() -> None:
    flat = np.full((64, 64, 3), 128, np.uint8)
    out = once(augmentation.Noise(range=(0.05, 0.05)), flat)
    assert out.std() == pytest.approx(0.05, rel=0.03)
    assert out.mean() == pytest.approx(128 / 255, abs=0.002)


def test_a_patch_of_the_whole_image_leaves_its_mean_and_a_small_one_most_of_it() -> None:
    out = once(augmentation.Erasing(range=(0.5, 0.5)), number=1)
    changed = np.abs(out - LEVELS).max(axis=2) > 1e-5
    rows, columns = np.flatnonzero(changed.any(axis=1)), np.flatnonzero(changed.any(axis=0))
    assert 0 < len(rows) <= 8
    assert 0 < len(columns) <= 8
    assert out[rows[0], columns[0]] == pytest.approx(LEVELS.mean(axis=(0, 1)), abs=1e-4)


def test_an_elastic_warp_moves_pixels_by_about_its_strength() -> None:
    ramp = np.repeat(np.arange(64, dtype=np.uint8)[None, :, None] * 4, 64, axis=0)
    ramp = np.repeat(ramp, 3, axis=2)
    moved = np.stack(
        [once(augmentation.ElasticDeformation(range=(2.0, 2.0)), ramp, k) * 255 / 4 - ramp / 4 for k in range(12)]
    )
    inside = moved[:, 8:-8, 8:-8]
    assert 0.8 < inside.std() < 2.4
    assert abs(inside.mean()) < 0.6


def test_jpeg_loses_more_at_a_lower_quality() -> None:
    lost = [np.abs(once(augmentation.Jpeg(range=(q, q))) - LEVELS).mean() for q in (95.0, 50.0, 5.0)]
    assert 0 < lost[0] < lost[1] < lost[2]


@pytest.mark.parametrize("kind", STEPS)
def test_every_change_takes_grey_images_and_is_of_one_sort(kind: str) -> None:
    grey = COLOURS[:, :, :1].copy()
    out = once(STEPS[kind](), grey)
    assert out.shape == (16, 16, 1)
    assert np.isfinite(out).all()
    assert [isinstance(AUGMENTATIONS[kind], sort) for sort in (Geometric, Tonal, Pairing)].count(True) == 1
