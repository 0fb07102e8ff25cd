"""Pictures that are not square: prepared, augmented, looked at for faults."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attentive_lens.core.jobs import finish
from attentive_lens.images.augmentation import AUGMENTATIONS, augment
from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.images.faults import FAULTS
from attentive_lens.images.faults.base import Evidence
from attentive_lens.images.fixed_features import fixed_features
from attentive_lens.images.preprocessing import Preprocessor, in_proportion, made_square, resized
from attentive_lens.plan.augmentation import STEPS, Flip, Rotate90, Translate
from attentive_lens.plan.preprocessing import Preprocessing

SIDES = st.integers(1, 400)
SHAPES = ((28, 20), (33, 97), (5, 8))


@given(SIDES, SIDES, SIDES, SIDES)
@settings(max_examples=200, deadline=None)
def test_within_a_picture_and_about_it_is_the_largest_and_the_smallest_of_other_proportions(
    height: int, width: int, rows: int, columns: int
) -> None:
    tall, wide = in_proportion(height, width, rows, columns, within=True)
    assert 1 <= tall <= height
    assert 1 <= wide <= width
    assert tall == height or wide == width
    assert abs(tall * columns - wide * rows) <= max(rows, columns), "to the next pixel"
    tall, wide = in_proportion(height, width, rows, columns, within=False)
    assert tall >= height
    assert wide >= width
    assert tall == height or wide == width
    assert abs(tall * columns - wide * rows) <= max(rows, columns)


@pytest.mark.parametrize("size", SHAPES)
@pytest.mark.parametrize("mode", ["stretch", "letterbox", "centre crop", "none"])
def test_a_picture_comes_in_the_input_s_rows_and_columns(size: tuple[int, int], mode: str) -> None:
    preprocessing = Preprocessing(input_size=size, resize_mode=mode)
    ramp = np.linspace(0, 255, 240).astype(np.uint8)
    across = np.broadcast_to(ramp[None, :, None], (60, 240, 3)).copy()
    out = resized(across, preprocessing)
    assert out.shape == (*size, 3) == preprocessing.shape
    middle = out[size[0] // 2, :, 0].astype(int)
    if mode == "none":  # columns of the middle at their own scale
        first = (240 - size[1]) // 2
        assert np.array_equal(middle, ramp[first : first + size[1]])
        return
    assert (np.diff(middle) >= 0).all(), "left stays left"
    cut = 60 * size[1] / size[0] / 240  # the part of the columns that stays
    whole = {"stretch": 1.0, "centre crop": min(1.0, cut), "letterbox": 1.0}[mode]
    assert np.ptp(middle) == pytest.approx(255 * whole, abs=255 * 1.5 / size[1] + 2)
    framed = mode == "letterbox" and cut < 1
    assert (np.ptp(out[0, :, 0]) == 0) == framed, "a border of one colour above and below"
    square = Preprocessing(input_size=size[0], resize_mode=mode)
    assert resized(across, square).shape == (size[0], size[0], 3)


def test_a_square_picture_is_framed_and_cut_for_an_input_that_is_not() -> None:
    square = np.zeros((40, 40, 3), np.uint8)
    square[:, :20] = 250
    framed = resized(square, Preprocessing(input_size=(20, 60), resize_mode="letterbox"))
    assert (framed[:, :18, 0] == framed[0, 0, 0]).all()
    assert 50 < framed[0, 0, 0] < 200, "a border beside it, of the edge's mean"
    assert framed[10, 25, 0] == 250
    assert framed[10, 38, 0] == 0
    square[:, 33:] = 130
    cut = resized(square, Preprocessing(input_size=(60, 20), resize_mode="centre crop"))
    assert set(np.unique(cut[30, [1, -2], 0]).tolist()) == {0, 250}, "what stands at the sides is cut off"


@given(st.integers(1, 30), st.integers(1, 30), st.integers(4, 30), st.integers(4, 30), st.sampled_from([1, 3, 5]))
@settings(max_examples=100, deadline=None)
def test_without_resizing_every_pixel_is_one_of_the_file_or_of_the_border(
    height: int, width: int, rows: int, columns: int, channels: int
) -> None:
    """Every whole pixel of the file about its middle stands where it should; the rest has one colour."""
    pixels = np.random.default_rng(height).integers(0, 256, (height, width, channels), np.uint8)
    names = () if channels in (1, 3) else tuple("abcde")
    plain = Preprocessing(input_size=(rows, columns), resize_mode="none", channel_names=names)
    out = resized(pixels, plain, names)
    expected = pixels if channels > 1 else pixels.repeat(3, axis=2)
    down, across = (rows - height) // 2, (columns - width) // 2
    border = []
    for row in range(rows):
        for column in range(columns):
            there = row - down, column - across
            if rows < height:
                there = row + (height - rows) // 2, there[1]
            if columns < width:
                there = there[0], column + (width - columns) // 2
            if 0 <= there[0] < height and 0 <= there[1] < width:
                assert np.array_equal(out[row, column], expected[there])
            else:
                border.append(out[row, column])
    assert len(np.unique(border, axis=0)) <= 1
    assert len(border) == rows * columns - min(rows, height) * min(columns, width)


def test_a_picture_of_the_input_s_size_is_taken_as_it_is() -> None:
    random = np.random.default_rng(2)
    for size in SHAPES:
        pixels = random.integers(0, 256, (*size, 3), np.uint8)
        for mode in ("stretch", "letterbox", "centre crop", "none"):
            np.testing.assert_array_equal(resized(pixels, Preprocessing(input_size=size, resize_mode=mode)), pixels)


@pytest.mark.parametrize("normalisation", ["0-1", "standardise", "local contrast"])
def test_statistics_and_levels_are_those_of_every_column(normalisation: str) -> None:
    random = np.random.default_rng(1)
    images = random.integers(0, 256, (6, 7, 11, 3), np.uint8)
    images[:, :, 8:] = images[:, :, 8:] // 4  # a part that a square would not reach
    preprocessor = Preprocessor.measured(images, Preprocessing(input_size=(7, 11), normalisation=normalisation))
    out = preprocessor.apply(images)
    assert out.shape == images.shape
    if normalisation == "standardise":
        assert np.abs(out.mean(axis=(0, 1, 2))).max() < 1e-5
        assert np.abs(out.std(axis=(0, 1, 2)) - 1).max() < 1e-4
        assert preprocessor.mean == pytest.approx((images / 255).mean(axis=(0, 1, 2)), abs=1e-6)


@pytest.mark.parametrize("kind", STEPS)
@pytest.mark.parametrize("size", [*SHAPES, (2, 2), (2, 9)])
def test_every_step_keeps_the_shape_and_the_range(kind: str, size: tuple[int, int]) -> None:
    images = np.random.default_rng(3).integers(0, 256, (5, *size, 3), np.uint8)
    step = STEPS[kind]().with_(probability=1.0)
    out = augment(images, range(5), [step], 1, 2).images
    assert out.shape == images.shape
    assert np.isfinite(out).all()
    assert out.min() >= 0
    assert out.max() <= 1


def test_turns_by_quarters_are_half_turns_where_rows_and_columns_cannot_change_places() -> None:
    images = np.random.default_rng(4).integers(0, 256, (8, 6, 10, 3), np.uint8)
    out = augment(images, range(8), [Rotate90(probability=1.0)], 1, 2).images
    assert np.abs(out - images[:, ::-1, ::-1] / np.float32(255)).max() < 1e-5
    square = images[:, :, :6]
    turned = augment(square, range(8), [Rotate90(probability=1.0)], 1, 2).images
    gaps = [[np.abs(np.rot90(a, k) / 255 - b).max() for k in range(4)] for a, b in zip(square, turned, strict=True)]
    assert {int(np.argmin(each)) for each in gaps} >= {1, 3}


def test_shifts_and_flips_go_by_each_side_s_own_length() -> None:
    step, random = Translate(range=(0.5, 0.5)), np.random.default_rng(0)
    change = AUGMENTATIONS[step.kind]
    assert isinstance(change, Geometric)
    matrix = change.matrix(step, random, (6, 10))
    assert matrix[:2, 2].tolist() == [-5.0, -3.0], "half of ten columns, half of six rows"
    images = np.random.default_rng(4).integers(0, 256, (4, 6, 10, 3), np.uint8)
    out = augment(images, range(4), [Flip(probability=1.0, direction="left-right")], 1, 2).images
    assert np.abs(out - images[:, :, ::-1] / np.float32(255)).max() < 1e-5


def test_finders_see_pictures_stretched_to_their_longer_side() -> None:
    random = np.random.default_rng(5)
    images = random.integers(0, 256, (3, 4, 8, 3), np.uint8)
    square = made_square(images)
    assert square.shape == (3, 8, 8, 3)
    np.testing.assert_array_equal(made_square(square), square)
    assert np.abs(square.mean(axis=(1, 2)) - images.mean(axis=(1, 2))).max() < 3
    columns = images.mean(axis=1)
    assert np.abs(square.mean(axis=1) - columns).max() < 25, "columns stay where they are"
    evidence = evidence_of(images, np.tile([4, 8], (3, 1)))
    assert evidence.side == 8
    assert evidence.images(np.arange(3)).shape == (3, 8, 8, 3)
    assert evidence.input_in_words == "4×8 pixels"
    assert evidence_of(square, np.tile([8, 8], (3, 1))).input_in_words == "8 pixels"


def evidence_of(images: np.ndarray, sizes: np.ndarray) -> Evidence:
    count = len(images)
    return Evidence(images, np.arange(count) % 2, ("training",) * count, ("one", "other"), sizes)


@pytest.mark.parametrize("kind", FAULTS)
def test_every_finder_looks_at_pictures_that_are_not_square(kind: str) -> None:
    random = np.random.default_rng(6)
    rough = random.integers(0, 256, (40, 8, 12, 3)).astype(np.uint8)
    images = np.repeat(np.repeat(rough, 3, axis=1), 3, axis=2)
    images[7] = images[3]  # a copy
    findings = finish(FAULTS[kind].find(evidence_of(images, np.tile([24, 36], (40, 1)))))
    assert any({3, 7} <= set(each.places) for each in findings) == (kind == "duplicates")


def test_files_count_as_small_by_the_side_that_is_enlarged_most() -> None:
    random = np.random.default_rng(7)
    images = random.integers(0, 256, (20, 12, 36, 3), np.uint8)
    as_large = np.tile([12, 36], (20, 1))
    assert not [f for f in finish(FAULTS["poor images"].find(evidence_of(images, as_large))) if f.kind == "input size"]
    small = [
        f for f in finish(FAULTS["poor images"].find(evidence_of(images, as_large // 3))) if f.kind == "input size"
    ]
    assert "half the input size of 12×36 pixels" in small[0].why
    assert "an input size of 8," in small[0].remedy


def test_fixed_features_are_as_many_for_any_shape() -> None:
    random = np.random.default_rng(8)
    counts = {fixed_features(random.integers(0, 256, (2, *size, 3), np.uint8)).shape for size in (*SHAPES, (64, 96))}
    assert len(counts) == 1
    wide = np.zeros((1, 32, 64, 3), np.uint8)
    wide[:, :, 48:] = 255
    narrow = np.ascontiguousarray(wide[:, :, ::2])
    np.testing.assert_allclose(fixed_features(wide), fixed_features(narrow), atol=1e-6)
