"""The same small thing in a few images, of whatever class and at whatever place."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import finish
from attentive_lens.images.faults import FAULTS, Evidence, Finding
from attentive_lens.images.faults.recurring import FEWEST, OFTEN, recurring

SIDE = 64
RED, WHITE = (210, 40, 30), (245, 245, 245)


def grounds(count: int, channels: int = 3, side: int = SIDE) -> np.ndarray:
    """Clouds of different colour, coarseness and contrast, a few dark specks on each, no two alike."""
    rng = np.random.default_rng(5)
    images = np.empty((count, side, side, channels), np.uint8)
    for k in range(count):
        field = gaussian_filter(rng.standard_normal((side, side)), rng.uniform(2, 9), mode="wrap")
        image = rng.uniform(90, 170, channels) + rng.uniform(10, 40) * (field / field.std())[:, :, None]
        for _ in range(int(rng.integers(2, 6))):
            row, column = rng.integers(3, side - 3, 2)
            reach = int(rng.integers(1, 4))
            image[row - reach : row + reach, column - reach : column + reach] *= rng.uniform(0.4, 0.8)
        images[k] = np.clip(image + rng.normal(0, 2, image.shape), 0, 255)
    return images


def stamped(images: np.ndarray, on: list[int], at: tuple[int, int] | None, colour: object, wide: int = 7) -> np.ndarray:
    """A square on some images, at one place, to a pixel, or at different ones."""
    rng = np.random.default_rng(6)
    result, side = images.copy(), images.shape[1]
    for k in on:
        row, column = at + rng.integers(-1, 2, 2) if at is not None else rng.integers(8, side - 8 - wide, 2)
        result[k, row : row + wide, column : column + wide] = colour
    return result


def seen(images: np.ndarray, labels: np.ndarray | None = None) -> Evidence:
    labels = np.arange(len(images)) % 3 if labels is None else labels
    sizes = np.full((len(images), 2), images.shape[1])
    return Evidence(images, labels, ("training",) * len(images), ("a", "b", "c"), sizes)


def marks(evidence: Evidence) -> list[Finding]:
    return finish(FAULTS["marks"].find(evidence))


CARRIERS = [3, 10, 22, 31, 47, 58, 76, 99]


@pytest.mark.parametrize(("at", "colour"), [((10, 50), RED), (None, RED), ((30, 30), WHITE)])
def test_a_small_thing_on_eight_images_is_named_with_them_and_nobody_else(
    at: tuple[int, int] | None, colour: tuple[int, ...]
) -> None:
    images = grounds(160)
    assert marks(seen(images)) == []
    (finding,) = marks(seen(stamped(images, CARRIERS, at, colour)))
    assert finding.kind == "mark"
    assert set(finding.places) <= set(CARRIERS)
    assert len(finding.places) >= 6
    assert finding.actions[0].flag == finding.actions[-1].exclude == finding.places
    where = {(10, 50): "at the top right", (30, 30): "at the middle", None: "at different places"}[at]
    assert where in finding.why
    assert finding.spot is None, "of several classes: no run is asked whether it goes by it"
    (thing,) = finish(recurring(seen(stamped(images, CARRIERS, at, colour))))
    assert (thing.spot is not None) == (at is not None)
    if at is not None and thing.spot is not None:
        row, column, across = (SIDE * part for part in thing.spot)
        assert abs(row - at[0] - 3) <= 2
        assert abs(column - at[1] - 3) <= 2
        assert 5 <= across <= 10


def test_it_is_said_where_not_all_images_were_looked_at(monkeypatch: pytest.MonkeyPatch) -> None:
    images = stamped(grounds(160), list(range(0, 40, 2)), (10, 40), RED)
    monkeypatch.setattr("attentive_lens.images.faults.recurring.SAMPLED", 80)
    assert marks(seen(images)) == [], "ten of 80 are no few any more"
    (finding,) = marks(seen(stamped(grounds(160), [0, *range(8, 20)], (10, 40), RED)))
    assert "of 80 looked at, " in finding.why
    assert set(finding.places) <= {0, *range(8, 20)}


def test_what_reaches_on_is_no_thing_of_its_own() -> None:
    """Dots on strings that run out of what is looked at, alike in eight images: parts of something larger."""
    images = stamped(grounds(160), CARRIERS, (30, 30), RED)
    for k in CARRIERS:
        for step in range(24):
            images[k, 33 + step // 2 : 35 + step // 2, 33 + step] = RED
    assert finish(recurring(seen(images))) == []


def test_the_place_is_told_by_words_and_the_class_where_all_are_of_one() -> None:
    images, labels = grounds(160), np.arange(160) % 3
    on = np.flatnonzero(labels == 1)[:9].tolist()
    (finding,) = marks(seen(stamped(images, on, (50, 50), RED), labels))
    assert "at the bottom right" in finding.why
    assert "9 images, all of «b», have the same small thing" in finding.why
    assert finding.spot is not None, "a run can be asked whether it goes by it"
    (finding,) = marks(seen(stamped(images, CARRIERS, None, RED), labels))
    assert "at different places" in finding.why
    assert "of them of «" in finding.why
    assert finding.spot is None


def test_it_works_on_grey_images_and_on_larger_ones() -> None:
    (finding,) = marks(seen(stamped(grounds(160, 1), CARRIERS, (10, 40), 250)))
    assert set(finding.places) <= set(CARRIERS)
    large = np.kron(stamped(grounds(60), CARRIERS[:6], (12, 40), RED), np.ones((1, 2, 2, 1), np.uint8))
    (thing,) = finish(recurring(seen(large)))
    assert thing.spot is not None
    assert thing.spot[:2] == pytest.approx((15.5 / 64, 43.5 / 64), abs=0.05)


def test_fewer_than_enough_and_more_than_few_are_nothing() -> None:
    images = grounds(100)
    assert finish(recurring(seen(stamped(images, CARRIERS[: FEWEST - 1], (10, 40), RED)))) == []
    many = list(range(int(OFTEN * 100) + 8))
    assert finish(recurring(seen(stamped(images, many, (10, 40), RED)))) == []
    assert len(finish(recurring(seen(stamped(images, many[:8], (10, 40), RED))))) == 1


def test_copies_of_one_picture_have_nothing_in_common_that_counts() -> None:
    images = grounds(100)
    one = stamped(images[:1], [0], (10, 40), RED)[0]
    rng = np.random.default_rng(1)
    copies = np.clip(one + rng.normal(0, 2, (8, *one.shape)), 0, 255).astype(np.uint8)
    assert finish(recurring(seen(np.concatenate([images, copies])))) == []


def test_what_comes_back_within_an_image_is_its_pattern() -> None:
    images = grounds(100)
    dotted = images.copy()
    for k in CARRIERS:
        for row, column in ((12, 12), (12, 44), (44, 12), (44, 44)):
            dotted[k, row + k % 3 : row + k % 3 + 7, column : column + 7] = RED
    assert all(thing.spot is not None for thing in finish(recurring(seen(dotted[:, ::-1]))))
    moved = dotted.copy()
    for k in CARRIERS:
        moved[k] = np.roll(dotted[k], (5 * k, 11 * k), (0, 1))
    assert finish(recurring(seen(moved))) == []


def test_what_chance_makes_alike_has_others_nearly_like_it() -> None:
    """Squares of all colours between two: any eight of them are alike, and none stands apart."""
    images, rng = grounds(160), np.random.default_rng(8)
    for k in range(160):
        row, column = rng.integers(8, SIDE - 16, 2)
        images[k, row : row + 7, column : column + 7] = np.array(RED) + rng.uniform(0, 1) * np.array((-150, 100, 120))
    assert finish(recurring(seen(images))) == []


def test_a_mark_of_a_class_is_told_once() -> None:
    images, labels = grounds(160), np.array([0] * 24 + [1, 2] * 68)
    marked = seen(stamped(images, list(range(16)), (5, 5), RED), labels)
    assert len(finish(recurring(marked))) == 1
    (finding,) = marks(marked)
    assert "outside the test set" in finding.why


def test_how_the_images_with_a_thing_are_shared_out_among_the_classes_is_said() -> None:
    images = grounds(120)
    carriers = list(range(9))
    for of, words in (((9, 0, 0), "all of «a»"), ((8, 1, 0), "8 of them of «a»"), ((5, 3, 1), "5 of them of «a»")):
        labels = np.array([k % 3 for k in range(120)])
        labels[carriers] = np.repeat([0, 1, 2], of)
        (finding,) = marks(replace(seen(stamped(images, carriers, (20, 30), RED), labels), classes=("a", "b", "c")))
        assert f"9 images, {words}, have the same small thing" in finding.why
        one_class = 9 in of
        assert ("in its place" in finding.why) == one_class
        assert (finding.spot is not None) == one_class


def test_corners_where_a_border_ends_are_no_things() -> None:
    """What is left of a frame in the corners of a picture stands out from it, and is no thing."""
    images = grounds(100)
    for k in CARRIERS:
        images[k, :4, :4] = WHITE
        images[k, -4:, :4] = WHITE
    assert finish(recurring(seen(images))) == []


def test_images_of_any_size_and_number_are_taken() -> None:
    for shape in ((2, 64, 64, 3), (40, 8, 8, 3), (40, 20, 20, 1), (40, 33, 33, 3)):
        flat = np.zeros(shape, np.uint8)
        assert finish(recurring(replace(seen(flat), sizes=np.ones((len(flat), 2), np.int64)))) == []
