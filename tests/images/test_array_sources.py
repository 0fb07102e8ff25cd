from __future__ import annotations

import gzip
import struct
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray
from scipy.io import savemat

from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.images.layouts import one, readings
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources import Found, Skipped, Source, kind_of, open_source, readings_of
from tests.images.drawn import kinds, leaves

COUNT = 9


def as_table(folder: Path, images: NDArray[np.uint8], labels: list[str]) -> Path:
    lines = ["kind," + ",".join(f"p{k}" for k in range(images[0].size))]
    lines += [f"{word}," + ",".join(map(str, image.reshape(-1))) for word, image in zip(labels, images, strict=True)]
    (folder / "leaves.csv").write_text("\n".join(lines) + "\n")
    return folder / "leaves.csv"


def as_npz(folder: Path, images: NDArray[np.uint8], labels: list[str]) -> Path:
    np.savez_compressed(folder / "leaves.npz", images=images, labels=np.array(labels))
    return folder / "leaves.npz"


def as_npy(folder: Path, images: NDArray[np.uint8], labels: list[str]) -> Path:
    np.save(folder / "images.npy", images)
    np.save(folder / "labels.npy", np.array(labels))
    return folder / "images.npy"


def as_planes(folder: Path, images: NDArray[np.uint8], labels: list[str]) -> Path:
    np.savez(folder / "planes.npz", images=images.transpose(0, 3, 1, 2), labels=np.array(labels))
    return folder / "planes.npz"


def as_mat(folder: Path, images: NDArray[np.uint8], labels: list[str]) -> Path:
    savemat(folder / "leaves.mat", {"X": images.transpose(1, 2, 3, 0), "kind": np.array(labels, object)})
    return folder / "leaves.mat"


def as_idx(folder: Path, images: NDArray[np.uint8], labels: list[str]) -> Path:
    head = struct.pack(f">HBB{images.ndim}I", 0, 8, images.ndim, *images.shape)
    (folder / "leaves-images").write_bytes(head + images.tobytes())
    numbers = bytes(sorted(set(labels)).index(word) for word in labels)
    (folder / "leaves-labels").write_bytes(struct.pack(">HBBI", 0, 8, 1, len(labels)) + numbers)
    return folder / "leaves-images"


def as_packed_idx(folder: Path, images: NDArray[np.uint8], labels: list[str]) -> Path:
    plain = as_idx(folder, images, labels)
    for file in (plain, plain.with_name("leaves-labels")):
        with gzip.open(file.with_name(file.name + ".gz"), "wb") as stream:
            stream.write(file.read_bytes())
        file.unlink()
    return plain.with_name("leaves-images.gz")


WRITERS: dict[str, tuple[str, Callable[[Path, NDArray[np.uint8], list[str]], Path]]] = {
    "table": ("pixel table", as_table),
    "npz": ("arrays", as_npz),
    "npy": ("arrays", as_npy),
    "planes": ("arrays", as_planes),
    "mat": ("MAT", as_mat),
    "idx": ("IDX", as_idx),
    "packed idx": ("IDX", as_packed_idx),
}


def opened(source: Source) -> tuple[NDArray[np.uint8], list[str]]:
    items = [item for item in source.find() if isinstance(item, Found)]
    pixels = [source.picture(item.file, item.part, item.index).pixels for item in items]
    return np.stack(pixels), [item.label for item in items]


@pytest.mark.parametrize("name", WRITERS)
def test_images_and_labels_come_back_as_they_were_written(name: str, tmp_path: Path) -> None:
    kind, write = WRITERS[name]
    images, labels = leaves(COUNT), kinds(COUNT)
    place = write(tmp_path, images, labels)
    assert kind_of(place) == kind
    request = Reading(order="HWC") if name == "table" else None
    read, words = opened(open_source(place, request))
    assert np.array_equal(read, images)
    assert words in (labels, [str(sorted(set(labels)).index(word)) for word in labels])


@pytest.mark.parametrize("name", WRITERS)
def test_a_grey_image_has_three_equal_channels(name: str, tmp_path: Path) -> None:
    images = leaves(COUNT, channels=1)
    place = WRITERS[name][1](tmp_path, images, kinds(COUNT))
    read, _ = opened(open_source(place))
    assert np.array_equal(read, np.repeat(images, 3, axis=3))


@pytest.mark.parametrize("name", WRITERS)
def test_a_file_cut_in_half_is_refused_in_words(name: str, tmp_path: Path) -> None:
    place = WRITERS[name][1](tmp_path, leaves(COUNT), kinds(COUNT))
    data = place.read_bytes()
    place.write_bytes(data[: len(data) // 2])
    request = Reading(order="HWC", labels="kind") if name == "table" else None
    if name == "table":
        items = list(open_source(place, request).find())
        assert sum(isinstance(item, Skipped) for item in items) == 1
        assert "values" in next(item.reason for item in items if isinstance(item, Skipped))
        return
    with pytest.raises(LensError) as caught:
        opened(open_source(place, request))
    assert len(str(caught.value)) < 400


@given(st.sampled_from(["NHW", "NHWC", "NCHW", "HWN", "HWCN"]), st.sampled_from([1, 3]))
def test_every_layout_finds_the_same_images(layout: str, channels: int) -> None:
    images = leaves(5, 7, 9, channels)
    if "C" not in layout and channels > 1:
        return
    plain = images if "C" in layout else images[:, :, :, 0]
    array = plain.transpose(["NHWC".index(axis) if "C" in layout else "NHW".index(axis) for axis in layout])
    result = [r for r in readings(array.shape, 5, Reading()) if r.layout == layout]
    assert len(result) == 1
    for k in range(5):
        assert np.array_equal(one(array, k, result[0]), images[k])


@given(st.sampled_from(["HWC", "CHW", "WHC", "CWH"]), st.sampled_from(["NP", "PN"]))
def test_every_order_of_pixels_in_a_line_finds_the_same_images(order: str, layout: str) -> None:
    images = leaves(4, 6, 8)
    lines = np.stack([image.transpose(["HWC".index(axis) for axis in order]).reshape(-1) for image in images])
    array = lines if layout == "NP" else lines.T
    (result,) = readings(array.shape, 4, Reading(order=order, height=6, width=8, layout=layout))
    assert (result.height, result.width) == (6, 8)
    for k in range(4):
        assert np.array_equal(one(array, k, result), images[k])


def test_colours_in_one_line_are_asked_for_and_each_way_is_offered(tmp_path: Path) -> None:
    place = as_table(tmp_path, leaves(COUNT), kinds(COUNT))
    assert [reading.order for reading in readings_of(place)] == ["CHW", "HWC"]
    with pytest.raises(BadValue, match=r"--read order=CHW or --read order=HWC"):
        open_source(place)


def test_an_array_whose_channels_can_be_two_axes_is_asked_for(tmp_path: Path) -> None:
    np.savez(tmp_path / "small.npz", images=np.zeros((5, 3, 8, 3), np.uint8), labels=np.arange(5) % 2)
    assert {reading.layout for reading in readings_of(tmp_path / "small.npz")} == {"NHWC", "NCHW"}


def test_lines_of_a_mat_file_are_offered_turned_first(tmp_path: Path) -> None:
    images = leaves(7, 6, 6, 1)[:, :, :, 0]
    savemat(tmp_path / "rows.mat", {"data": images.transpose(0, 2, 1).reshape(7, -1), "y": np.arange(7)[:, None] % 2})
    first, second = readings_of(tmp_path / "rows.mat")
    assert (first.order, second.order) == ("WHC", "HWC")
    read, _ = opened(open_source(tmp_path / "rows.mat", first))
    assert np.array_equal(read[..., 0], images)


def test_arrays_named_after_sets_become_sets(tmp_path: Path) -> None:
    images, labels = leaves(10), np.arange(10) % 2
    np.savez(
        tmp_path / "all.npz",
        train_images=images[:6],
        train_labels=labels[:6],
        test_images=images[6:],
        test_labels=labels[6:],
        class_names=np.array(["broad", "narrow"]),
    )
    result = [item for item in open_source(tmp_path / "all.npz").find() if isinstance(item, Found)]
    assert [item.set_name for item in result] == ["training"] * 6 + ["test"] * 4
    assert {item.label for item in result} == {"broad", "narrow"}
    for item in result:
        assert item.label == ["broad", "narrow"][item.index % 2]


@pytest.mark.parametrize(
    ("array", "white"),
    [
        (np.array([0.0, 0.4, 1.0]), [0, 102, 255]),
        (np.array([0.0, 128.0, 255.0]), [0, 128, 255]),
        (np.array([False, True, True]), [0, 255, 255]),
    ],
)
def test_numbers_become_pixels_by_what_white_is(array: NDArray[np.float64], white: list[int], tmp_path: Path) -> None:
    images = np.resize(array, (6, 3, 3))
    np.savez(tmp_path / "a.npz", images=images, labels=np.arange(6) % 2)
    read, _ = opened(open_source(tmp_path / "a.npz"))
    assert read[0, 0, :, 0].tolist() == white


def test_values_outside_their_range_and_missing_labels_are_told_one_by_one(tmp_path: Path) -> None:
    images = np.full((6, 4, 4), 90, np.int32)
    images[2, 1, 1] = -4
    images[3] = 300
    labels = np.array(["a", "b", "a", "b", "", "b"])
    np.savez(tmp_path / "a.npz", images=images, labels=labels)
    source = open_source(tmp_path / "a.npz")
    items = list(source.find())
    assert [item.reason for item in items if isinstance(item, Skipped)] == ["image 4 of «images» has a blank label"]
    for index, summary in ((2, "from -4 to 90"), (3, "from 300 to 300")):
        with pytest.raises(BadFile, match=summary):
            source.picture(tmp_path / "a.npz", "images", index)


def test_arrays_without_labels_or_images_say_what_there_is(tmp_path: Path) -> None:
    np.savez(tmp_path / "a.npz", images=np.zeros((6, 4, 4), np.uint8), other=np.zeros(5))
    with pytest.raises(BadFile, match="no labels"):
        open_source(tmp_path / "a.npz")
    np.savez(tmp_path / "b.npz", numbers=np.zeros(5))
    with pytest.raises(BadFile, match="numbers 5"):
        open_source(tmp_path / "b.npz")
    np.savez(tmp_path / "c.npz", images=np.zeros((6, 27, 27, 19), np.uint8), labels=np.zeros(6))
    with pytest.raises(BadFile, match="no axes that fit"):
        open_source(tmp_path / "c.npz")


def test_arrays_of_python_objects_are_refused(tmp_path: Path) -> None:
    np.save(tmp_path / "images.npy", np.array([{"a": 1}, None], object), allow_pickle=True)
    with pytest.raises(BadFile, match="Python objects"):
        open_source(tmp_path / "images.npy")


def test_lines_of_a_table_that_are_wrong_are_told_by_number(tmp_path: Path) -> None:
    place = as_table(tmp_path, leaves(6, 4, 4, 1), kinds(6))
    lines = place.read_text().splitlines()
    lines[2] += ",7"
    lines[3] = "," + lines[3].split(",", 1)[1]
    lines[4] = lines[4].rsplit(",", 1)[0] + ",x"
    lines[5] = lines[5].rsplit(",", 1)[0] + ",256"
    place.write_text("\n".join(lines))
    source = open_source(place)
    items = list(source.find())
    assert [item.reason for item in items if isinstance(item, Skipped)] == [
        "line 3: it has 18 values, 17 are needed",
        "line 4: its label is blank",
    ]
    reasons = []
    for item in items:
        if isinstance(item, Found):
            try:
                source.picture(item.file, item.part, item.index)
            except BadFile as error:
                reasons.append(error.why)
    assert reasons[0] == "pixel 16 is 'x', no number"
    assert "to 256, outside 0 to 255" in reasons[1]
    assert len(reasons) == 2


def test_a_table_without_heading_offers_both_ends_for_the_label(tmp_path: Path) -> None:
    images = leaves(6, 5, 5, 1).reshape(6, -1)
    rows = [f"{k % 2}," + ",".join(map(str, image)) for k, image in enumerate(images)]
    (tmp_path / "plain.csv").write_text("\n".join(rows))
    assert [r.labels for r in readings_of(tmp_path / "plain.csv")] == ["column 1", "column 26"]
    read, words = opened(open_source(tmp_path / "plain.csv", Reading(labels="column 1")))
    assert words == ["0", "1"] * 3
    assert np.array_equal(read[..., 0], images.reshape(6, 5, 5))


@pytest.mark.parametrize(
    ("names", "sets"),
    [
        (("train", "held"), ("training", "test")),
        (("train", "val", "rest"), ("training", "validation", "test")),
        (("one", "other"), (None, None)),
    ],
)
def test_each_pair_of_idx_files_is_a_set(names: tuple[str, ...], sets: tuple[str | None, ...], tmp_path: Path) -> None:
    for k, name in enumerate(names):
        file = as_idx(tmp_path, leaves(COUNT + k), kinds(COUNT + k))
        file.rename(tmp_path / f"{name}-images.idx")
        (tmp_path / "leaves-labels").rename(tmp_path / f"{name}-labels.idx")
    result = [item for item in open_source(tmp_path).find() if isinstance(item, Found)]
    summary = {(item.file.name.split("-")[0], item.set_name) for item in result}
    assert summary == set(zip(names, sets, strict=True))
    assert len(result) == sum(COUNT + k for k in range(len(names)))
