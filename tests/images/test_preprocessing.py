from __future__ import annotations

import copy
import time
from functools import partial
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from attentive_lens.core.helpers import Helper
from attentive_lens.core.jobs import finish
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images import store
from attentive_lens.images.ahead import BATCH
from attentive_lens.images.preprocessing import Preprocessor, local_contrast, resized
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources import Reference
from attentive_lens.images.sources.folders import Folders
from attentive_lens.images.store import prepared
from attentive_lens.plan.preprocessing import Preprocessing


def references(files: list[Path]) -> list[Reference | None]:
    source = Folders(files[0].parent)
    return [Reference(source, str(file), "", -1) for file in files]


@given(
    st.integers(1, 60),
    st.integers(1, 60),
    st.sampled_from(["stretch", "letterbox", "centre crop", "none"]),
    st.sampled_from(["RGB", "grey"]),
)
def test_an_image_of_any_size_comes_at_the_input_size(height: int, width: int, fit: str, colour: str) -> None:
    preprocessing = Preprocessing(input_size=16, resize_mode=fit, colour_space=colour)
    pixels = np.full((height, width, 3), 90, np.uint8)
    out = resized(pixels, preprocessing)
    assert out.shape == preprocessing.shape
    assert (out == 90).all()


def test_the_three_fits_treat_a_wide_image_as_they_say() -> None:
    wide = np.zeros((8, 24, 3), np.uint8)
    wide[:, 8:16] = 255
    middle = {
        fit: resized(wide, Preprocessing(input_size=8, resize_mode=fit))[4, :, 0]
        for fit in ("stretch", "letterbox", "centre crop")
    }
    assert (middle["centre crop"] == 255).all()
    assert middle["stretch"][0] == 0 < middle["stretch"][4]
    assert (
        resized(wide, Preprocessing(input_size=8, resize_mode="letterbox"))[0, 4, 0] > 0
    )  # the border has the edge's mean


def test_a_prepared_training_set_has_mean_0_and_deviation_1() -> None:
    random = np.random.default_rng(0)
    images = random.integers(30, 200, (40, 8, 8, 3)).astype(np.uint8)
    preprocessor = Preprocessor.measured(images, Preprocessing())
    ready = preprocessor.apply(images)
    assert ready.dtype == np.float32
    assert ready.mean(axis=(0, 1, 2)) == pytest.approx([0, 0, 0], abs=1e-4)
    assert ready.std(axis=(0, 1, 2)) == pytest.approx([1, 1, 1], abs=1e-4)
    assert preprocessor.apply((images / 255).astype(np.float32)) == pytest.approx(ready, abs=1e-4)
    scaled = Preprocessor.measured(images, Preprocessing(normalisation="0-1")).apply(images)
    assert scaled == pytest.approx(images / 255, abs=1e-6)


def test_a_constant_channel_does_not_blow_up() -> None:
    flat = np.full((3, 4, 4, 3), 7, np.uint8)
    assert np.isfinite(Preprocessor.measured(flat, Preprocessing()).apply(flat)).all()


def test_images_of_other_channels_are_refused() -> None:
    with pytest.raises(BadValue, match="1 channels and it was trained on 3"):
        Preprocessor.plain(Preprocessing()).apply(np.zeros((1, 4, 4, 1), np.uint8))


def test_prepared_images_are_kept_and_made_anew_when_a_file_changes(tmp_path: Path) -> None:
    files = []
    for k in range(5):
        Image.new("RGB", (10, 10), (k * 40, 0, 0)).save(tmp_path / f"{k}.png")
        files.append(tmp_path / f"{k}.png")
    cache = tmp_path / "cache"
    cache.mkdir()
    preprocessing = Preprocessing(input_size=8)
    first = finish(prepared(references(files), preprocessing, cache))
    assert first[:, 0, 0, 0].tolist() == [0, 40, 80, 120, 160]
    assert len(list(cache.glob("*.npy"))) == 1
    assert np.array_equal(finish(prepared(references(files), preprocessing, cache)), first)
    Image.new("RGB", (10, 10), (9, 9, 9)).resize((11, 11)).save(files[0])
    assert finish(prepared(references(files), preprocessing, cache))[0, 0, 0, 0] == 9
    files[1].unlink()
    with pytest.raises(BadFile, match="was there when it was imported"):
        finish(prepared(references(files), preprocessing, cache))


def test_a_stopped_preparation_leaves_no_half_made_file(tmp_path: Path) -> None:
    files = []
    for k in range(3):
        Image.new("RGB", (10, 10)).save(tmp_path / f"{k}.png")
        files.append(tmp_path / f"{k}.png")
    cache = tmp_path / "cache"
    cache.mkdir()
    job = prepared(references(files), Preprocessing(input_size=8), cache)
    next(job)
    job.close()
    assert list(cache.iterdir()) == []


@pytest.mark.parametrize("colour", ["RGB", "grey", "luma-chroma"])
@pytest.mark.parametrize("level", ["standardise", "local contrast"])
def test_every_preparation_leaves_mean_0_and_deviation_1(colour: str, level: str) -> None:
    random = np.random.default_rng(1)
    preprocessing = Preprocessing(input_size=16, colour_space=colour, normalisation=level)
    images = random.integers(20, 220, (30, 16, 16, preprocessing.shape[2])).astype(np.uint8)
    ready = Preprocessor.measured(images, preprocessing).apply(images)
    assert ready.dtype == np.float32
    assert ready.mean(axis=(0, 1, 2)) == pytest.approx([0] * preprocessing.shape[2], abs=1e-3)
    assert ready.std(axis=(0, 1, 2)) == pytest.approx([1] * preprocessing.shape[2], abs=1e-3)


def test_luma_and_chroma_of_known_colours() -> None:
    preprocessor = Preprocessor.plain(Preprocessing(input_size=4, colour_space="luma-chroma", normalisation="0-1"))
    colours = np.array([[[[255, 255, 255], [255, 0, 0], [0, 0, 255], [90, 90, 90]]]], np.uint8)
    luma, blue, red = np.moveaxis(preprocessor.apply(colours)[0, 0], 1, 0)
    assert luma == pytest.approx([1, 0.299, 0.114, 90 / 255], abs=1e-4)
    assert blue == pytest.approx([0, -0.168736, 0.5, 0], abs=1e-4)
    assert red == pytest.approx([0, 0.5, -0.081312, 0], abs=1e-4)


def test_local_contrast_does_not_see_light_and_keeps_flat_ground_flat() -> None:
    random = np.random.default_rng(2)
    image = random.random((1, 32, 32, 1)).astype(np.float32) * 0.2 + 0.3
    plain = local_contrast(image)
    assert local_contrast(image * 2) == pytest.approx(plain, abs=1e-3)
    assert local_contrast(image + 0.2) == pytest.approx(plain, abs=1e-3)
    half = image.copy()
    half[:, :, :16] = 0.5
    assert np.abs(local_contrast(half)[:, :, :8]).max() < 0.2 * np.abs(local_contrast(half)[:, :, 20:]).max()


@pytest.mark.parametrize("writable", [True, False])
def test_without_room_for_the_images_none_is_prepared(
    writable: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "images").mkdir()
    files = [tmp_path / "images" / f"{k}.png" for k in range(3)]
    for file in files:
        Image.new("RGB", (8, 8)).save(file)
    cache = tmp_path / "cache"
    cache.mkdir()
    monkeypatch.setattr("attentive_lens.images.store.os.access", lambda *_: writable)
    needed = 3 * 64 * 64 * 3
    monkeypatch.setattr(store.shutil, "disk_usage", lambda _: SimpleNamespace(free=store.SPARE + needed - 1))
    monkeypatch.setattr(store.psutil, "virtual_memory", lambda: SimpleNamespace(available=needed - 1))
    with pytest.raises(BadFile, match="disk" if writable else "memory"):
        finish(prepared(references(files), Preprocessing(input_size=64), cache))
    assert list(cache.iterdir()) == []
    assert finish(prepared(references(files), Preprocessing(input_size=63), cache)).shape == (3, 63, 63, 3)


def test_the_same_images_prepared_twice_at_once_are_whole_both_times(tmp_path: Path) -> None:
    files = [tmp_path / f"{k}.png" for k in range(5 * BATCH)]
    for k, file in enumerate(files):
        Image.new("RGB", (8, 8), (k % 251, 7, 90)).save(file)
    images = references(files)
    cache = tmp_path / "cache"
    cache.mkdir()
    one, other = (prepared(images, Preprocessing(input_size=8), cache) for _ in range(2))
    next(one)
    next(other)
    next(one)
    first, second = finish(one), finish(other)
    expected = np.stack([np.asarray(Image.open(file)) for file in files])
    assert np.array_equal(first[:], expected)
    assert np.array_equal(second[:], expected)
    assert [file.name for file in cache.iterdir() if file.name.startswith(".")] == []


def test_a_source_is_opened_once_by_every_process_and_gives_the_same_pixels(tmp_path: Path) -> None:
    files = [tmp_path / f"{k}.png" for k in range(4)]
    for k, file in enumerate(files):
        Image.new("RGB", (8, 6), (9 * k, 7, 90)).save(file)
    images = [*references(files), None]
    work = partial(store._decoded, Preprocessing(input_size=8), np.dtype(np.uint8))
    helper = Helper(work)
    try:
        while not helper.is_ready():
            time.sleep(0.01)
        done, pixels = helper.do(images)
        assert done
        assert np.array_equal(pixels, work(images))
        assert not pixels[-1].any()
    finally:
        helper.close()
    source = Folders(tmp_path, Reading(white=255))
    assert copy.copy(source) is copy.copy(source)
    assert (copy.copy(source).place, copy.copy(source).reading) == (source.place, source.reading)
