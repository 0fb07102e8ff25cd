"""Outlines as shapes: how much of each prepared pixel lies inside, laid over what the network really sees."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.errors import BadValue
from attentive_lens.images.outlines import (
    Outline,
    coverage,
    is_inside,
    of_corners,
    read_outline,
    recorded_outline,
    region_of,
)
from attentive_lens.images.preprocessing import cropped, frame_of, resized
from attentive_lens.plan.preprocessing import Preprocessing

MODES = Preprocessing.specs()["resize_mode"].choices
SIZES = ((1, 1), (28, 20), (33, 97), (64, 64))
INPUTS = (8, (28, 20), (33, 97))


def box(left: float, top: float, width: float, height: float) -> Outline:
    return Outline.of_box(left, top, width, height)


def test_boxes_and_polygons_cover_exactly_the_parts_of_pixels_that_they_should() -> None:
    plain = Preprocessing(input_size=8)
    whole = coverage(box(2, 3, 4, 2), 8, 8, plain)
    assert np.array_equal(whole, np.pad(np.ones((2, 4), np.float32), ((3, 3), (2, 2))))
    parts = coverage(box(2.25, 3, 2, 1.5), 8, 8, plain)
    assert parts[3, 2:5] == pytest.approx([0.75, 1, 0.25])
    assert parts[4, 2:5] == pytest.approx([0.375, 0.5, 0.125])
    triangle = Outline((((0, 0), (8, 0), (0, 8)),))
    covered = coverage(triangle, 8, 8, plain)
    assert covered.sum() == pytest.approx(32)
    assert np.diag(covered[:, ::-1]) == pytest.approx([0.5] * 8)
    crossed = Outline((((0, 0), (8, 8), (8, 0), (0, 8)),))
    assert coverage(crossed, 8, 8, plain).sum() == pytest.approx(32), "the two triangles of a bow tie"
    two = coverage(box(0, 0, 4, 8) | box(2, 0, 4, 8), 8, 8, plain)
    assert np.array_equal(two, np.pad(np.ones((8, 6), np.float32), ((0, 0), (0, 2)))), "what is in both counts once"


@pytest.mark.parametrize("mode", MODES)
@pytest.mark.parametrize("size", SIZES)
@pytest.mark.parametrize("sides", INPUTS)
def test_a_mask_lies_over_the_pixels_that_the_network_sees(mode: str, size: tuple[int, int], sides: object) -> None:
    """The outline of what is white covers, in the prepared image, what is white there."""
    height, width = size
    inside = np.zeros(size, bool)
    inside[height // 4 : height // 4 + max(1, height // 2), width // 3 : width // 3 + max(1, width // 2)] = True
    settings = Preprocessing(input_size=sides, resize_mode=mode, colour_space="grey")
    covered = coverage(Outline.of_mask(inside), height, width, settings)
    assert covered.shape == settings.sides
    assert 0 <= covered.min() <= covered.max() <= 1
    white = resized((inside[..., None] * np.uint8(255)).repeat(3, 2), settings)[..., 0] / 255
    if inside.all():
        return  # the border of an image that is white all over is white too, and yet no object
    assert np.abs(white - covered).mean() < 0.12
    sure = (covered == 0) | (covered == 1)
    if sure.any():
        assert np.abs(white - covered)[sure].mean() < 0.1


@pytest.mark.parametrize("mode", MODES)
@given(data=st.data())
def test_a_mask_and_its_boxes_cover_the_same(mode: str, data: st.DataObject) -> None:
    height, width = data.draw(st.integers(1, 40)), data.draw(st.integers(1, 40))
    left, top = data.draw(st.integers(0, width - 1)), data.draw(st.integers(0, height - 1))
    wide, high = data.draw(st.integers(1, width - left)), data.draw(st.integers(1, height - top))
    settings = Preprocessing(
        input_size=(data.draw(st.integers(4, 24)), data.draw(st.integers(4, 24))), resize_mode=mode
    )
    mask = np.zeros((height, width), bool)
    mask[top : top + high, left : left + wide] = True
    outline = Outline.of_mask(mask)
    assert np.array_equal(outline.mask(height, width), mask)
    assert outline.bounds(height, width) == (top, left, top + high, left + wide)
    assert outline.bounds(height, width) == box(left, top, wide, high).bounds(height, width)
    assert recorded_outline(outline.write()) == outline == read_outline(outline.write(), height, width)
    one, other = (coverage(each, height, width, settings) for each in (outline, box(left, top, wide, high)))
    assert np.abs(one - other).max() <= 1 / 8 + 1e-6, "a polygon's rows are measured along eight lines"
    frame = frame_of(height, width, settings)
    seen = (min(top + high, frame.top + frame.height) - max(top, frame.top)) * (
        min(left + wide, frame.left + frame.width) - max(left, frame.left)
    )
    share = max(0, seen) / (frame.height * frame.width) if mask[_of(frame, height, width)].any() else 0
    assert one.mean() == pytest.approx(share, abs=1e-4)


def _of(frame: object, height: int, width: int) -> tuple[slice, slice]:
    top, left = frame.top, frame.left  # type: ignore[attr-defined]
    bottom, right = top + frame.height, left + frame.width  # type: ignore[attr-defined]
    return slice(max(0, top), min(height, bottom)), slice(max(0, left), min(width, right))


@given(data=st.data())
def test_a_crop_holds_the_object_lies_in_the_image_and_has_the_inputs_proportions(data: st.DataObject) -> None:
    height, width = data.draw(st.integers(1, 200)), data.draw(st.integers(1, 200))
    left, top = data.draw(st.integers(0, width - 1)), data.draw(st.integers(0, height - 1))
    outline = box(left, top, data.draw(st.integers(1, width - left)), data.draw(st.integers(1, height - top)))
    rows, columns = data.draw(st.integers(4, 64)), data.draw(st.integers(4, 64))
    margin = data.draw(st.sampled_from((0.0, 0.1, 1.0)))
    settings = Preprocessing(input_size=(rows, columns), crop_to="object", crop_margin=margin)
    region = region_of(outline, height, width, settings)
    bounds = outline.bounds(height, width)
    assert region is not None
    assert bounds is not None
    first, begin, last, end = region
    assert 0 <= first <= bounds[0] < bounds[2] <= last <= height
    assert 0 <= begin <= bounds[1] < bounds[3] <= end <= width
    if last - first < height and end - begin < width:
        assert abs((last - first) * columns - (end - begin) * rows) <= max(rows, columns)
        about = margin * max(bounds[2] - bounds[0], bounds[3] - bounds[1])
        assert last - first >= bounds[2] - bounds[0] + 2 * about - 1
    covered = coverage(outline, height, width, settings)
    alone = replace(settings, crop_to="image")
    moved = Outline(tuple(tuple((x - begin, y - first) for x, y in corners) for corners in outline.polygons))
    assert np.array_equal(covered, coverage(moved, last - first, end - begin, alone)), (
        "as an outline of the crop itself"
    )
    assert region_of(outline, height, width, alone) is None
    assert region_of(Outline(), height, width, settings) is None
    assert cropped(np.zeros((height, width, 3), np.uint8), region).shape == (last - first, end - begin, 3)


def test_a_small_object_is_inside_though_it_covers_no_pixel_by_half() -> None:
    covered = coverage(box(10, 10, 3, 3), 256, 256, Preprocessing(input_size=16))
    assert 0 < covered.max() < 0.5
    assert is_inside(covered).sum() == 1
    assert not is_inside(np.zeros((4, 4), np.float32)).any()


BAD = {
    "no shape": ({}, "no shape"),
    "a list": ([1, 2], "not just boxes"),
    "another word": ({"circle": [1, 2, 3]}, "not just boxes"),
    "empty": ({"boxes": []}, "no shape"),
    "no list": ({"boxes": 3}, "boxes are a list"),
    "three numbers": ({"boxes": [[1, 2, 3]]}, "four numbers"),
    "words": ({"boxes": [[1, 2, 3, "4"]]}, "four numbers"),
    "truth": ({"boxes": [[1, 2, 3, True]]}, "four numbers"),
    "no number": ({"boxes": [[1, 2, 3, float("nan")]]}, "four numbers"),
    "no width": ({"boxes": [[1, 2, 0, 4]]}, "0 wide"),
    "outside": ({"boxes": [[5, 2, 30, 4]]}, "the point 35, 2 lies outside the image of 20×10"),
    "two corners": ({"polygons": [[[1, 1], [2, 2]]]}, "has 2 corners"),
    "a line": ({"polygons": [[[1, 1], [2, 2], [3, 3], [1, 1]]]}, "lie on one line"),
    "a point": ({"polygons": [[[1, 1]] * 4]}, "lie on one line"),
    "all outside": ({"runs": [200]}, "nothing in its runs is inside"),
    "odd corner": ({"polygons": [[[1, 1], [2, 2], [3]]]}, "a corner has two"),
    "beyond": ({"polygons": [[[1, 1], [2, 2], [3, -4]]]}, "3, -4 lies outside"),
    "too many": ({"polygons": [[[1, 1], [2, 2], [3, 1]] * 6_667]}, "more than 20000"),
    "runs of another size": ({"runs": [10, 10]}, "make 20 pixels, and the image has 200"),
    "runs below zero": ({"runs": [300, -100]}, "not whole numbers"),
    "runs in parts": ({"runs": [100.5, 99.5]}, "not whole numbers"),
}


@pytest.mark.parametrize("case", BAD)
def test_what_is_no_outline_is_refused_in_a_sentence(case: str) -> None:
    value, why = BAD[case]
    with pytest.raises(BadValue, match=why.replace("(", r"\(")):
        read_outline(value, 10, 20)


def test_corners_come_in_pairs() -> None:
    assert of_corners([1, 2, 3, 4]) == [[1, 2], [3, 4]]
    with pytest.raises(BadValue, match="has 3 numbers"):
        of_corners([1, 2, 3])
    edge = read_outline({"boxes": [[0, 0, 20, 10]], "polygons": [[[0, 0], [20.4, 0], [0, 10.4]]]}, 10, 20)
    assert len(edge.polygons) == 2, "half a pixel past the edge is rounding"
    assert edge.bounds(10, 20) == (0, 0, 10, 20)
