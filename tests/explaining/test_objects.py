"""Whether answers rest on the object: measured on networks whose reasons are known, made up and trained ones."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

import numpy as np
import pytest
from tests.explaining.made_up import CLASSES, Judge, Plot, only

from attentive_lens.core.jobs import finish
from attentive_lens.errors import NotHere
from attentive_lens.explaining.change_settings import CHANGE_SETTINGS
from attentive_lens.explaining.changes import changed
from attentive_lens.explaining.objects import (
    ObjectTrial,
    most_images,
    object_alone,
    put_into,
    share_inside,
    strongest,
    try_objects,
    with_margin,
    without_object,
)
from attentive_lens.predicting import Predictor

SIDES = (32, 32)
DARK, LEVELS = 20, (80, 140, 200)
"""Of the ground about objects that tells nothing; of what tells a class."""
NEUTRAL = 50
"""Of a ground that is there and says nothing."""
DTYPES = (np.uint8, np.float32)


def scene(
    object_class: int, ground_class: int | None, seed: int, dtype: type = np.uint8
) -> tuple[np.ndarray, np.ndarray]:
    """A square whose level tells one class on a ground with a mark that tells another, and where the square is."""
    random = np.random.default_rng(seed)
    row, column = random.integers(4, 16, 2)
    pixels = np.full((*SIDES, 3), DARK, np.uint8)
    pixels[row : row + 10, column : column + 10, 0] = LEVELS[object_class]
    if ground_class is not None:
        pixels[-3:, :, 1] = LEVELS[ground_class]
    covered = np.zeros(SIDES, np.float32)
    covered[row : row + 10, column : column + 10] = 1
    return (pixels if dtype is np.uint8 else (pixels / np.float32(255)).astype(np.float32)), covered


def levels_of(images: np.ndarray) -> np.ndarray:
    return images * (255 if images.max() <= 1 else 1)


def by_object(images: np.ndarray) -> np.ndarray:
    """What the square says; the last class without one."""
    level = levels_of(images)[..., 0].max(axis=(1, 2))
    return np.where(level < 60, 2, np.clip(np.rint((level - 80) / 60), 0, 2)).astype(int)


def by_ground(images: np.ndarray) -> np.ndarray:
    """What the lowest lines say; the last class without them."""
    level = levels_of(images)[:, -1, :, 1].mean(axis=1)
    return np.where(level < 60, 2, np.clip(np.rint((level - 80) / 60), 0, 2)).astype(int)


def always(images: np.ndarray) -> np.ndarray:
    return np.full(len(images), 1)


def trial(
    says: Callable[[np.ndarray], np.ndarray], dtype: type = np.uint8, grounds: bool = True
) -> tuple[ObjectTrial, np.ndarray]:
    made = [scene(k % 3, k % 3 if grounds else None, k, dtype) for k in range(30)]
    pixels, covered = (np.stack(each) for each in zip(*made, strict=True))
    judge = cast(Predictor, Judge(says))
    predicted = says(pixels).astype(np.int64)
    return finish(try_objects(judge, pixels, covered, predicted, np.arange(30) % 3)), predicted


@pytest.mark.parametrize("dtype", DTYPES)
def test_answers_by_the_ground_rest_on_it_and_answers_by_the_object_do_not(dtype: type) -> None:
    result, predicted = trial(by_ground, dtype)
    assert result.on_rest(predicted).all()
    assert np.array_equal(result.without, predicted)
    assert np.array_equal(result.probability, np.stack([np.ones(30), np.ones(30), predicted == 2], axis=1))
    assert (result.alone == 2).all(), "without its ground every image is of the last class"
    assert (result.rest == 1).all()
    assert (result.object == 0).all()
    result, predicted = trial(by_object, dtype)
    assert not result.on_rest(predicted).any()
    assert np.array_equal(result.alone, predicted)
    assert np.array_equal(result.probability, np.stack([np.ones(30), predicted == 2, np.ones(30)], axis=1))
    assert (result.object == 1).all()
    assert (result.without == 2).all(), "nothing of the square is left"


def test_what_every_image_gets_without_an_object_is_not_taken_for_what_its_ground_says() -> None:
    """Images of the last class keep their answer without the object, for so does everything."""
    result, predicted = trial(by_object, grounds=False)
    last = predicted == 2
    assert (result.without[last] == predicted[last]).all()
    assert not result.on_rest(predicted).any()
    result, predicted = trial(always)
    assert np.isnan(result.rest).all(), "there is no other answer whose objects could be put into it"
    assert not result.on_rest(predicted).any()


def test_a_class_that_all_mixtures_get_must_be_told_far_more_often_by_its_own_ground() -> None:
    predicted = np.zeros(4, np.int64)
    same = np.zeros(4, np.int64)
    parts = np.array([1.0, 0.75, 0.5, 0.25])
    none = np.zeros(4)
    unusual = ObjectTrial(same, same, parts, none, np.array([0.0, 0, 0]), np.ones((len(same), 3)))
    assert unusual.on_rest(predicted).tolist() == [True, True, True, False]
    usual = ObjectTrial(same, same, parts, none, np.array([0.6, 0, 0]), np.ones((len(same), 3)))
    assert usual.on_rest(predicted).tolist() == [True, False, False, False]
    lost = ObjectTrial(same + 1, same, parts, none, np.array([0.0, 0, 0]), np.ones((len(same), 3)))
    assert not lost.on_rest(predicted).any(), "the answer must stay without the object"


@pytest.mark.parametrize("dtype", DTYPES)
@pytest.mark.parametrize("channels", [1, 2, 3, 5])
@pytest.mark.parametrize("sides", [(1, 1), (28, 20), (33, 97)])
def test_covering_leaves_what_it_should_and_nothing_else(dtype: type, channels: int, sides: tuple[int, int]) -> None:
    random = np.random.default_rng(channels)
    image = random.integers(0, 255, (*sides, channels)).astype(np.uint8)
    image = image if dtype is np.uint8 else (image / np.float32(255)).astype(np.float32)
    covered = np.zeros(sides, np.float32)
    covered[
        sides[0] // 3 : sides[0] // 3 + max(1, sides[0] // 4), sides[1] // 2 : sides[1] // 2 + max(1, sides[1] // 4)
    ] = 1
    hole = with_margin(covered)
    empty, alone = without_object(image, covered), object_alone(image, covered)
    for made in (empty, alone):
        assert (made.dtype, made.shape) == (image.dtype, image.shape)
    assert np.array_equal(empty[~hole], image[~hole])
    assert np.array_equal(alone[hole], image[hole])
    if not hole.all():
        assert len(np.unique(alone[~hole], axis=0)) == 1
        mean, white = image[~hole].astype(np.float64).mean(axis=0), 255 if dtype is np.uint8 else 1
        assert np.abs(alone[~hole][0] - mean).max() <= 0.6 * white / 255, "no colour of the object is in it"
        near = image[~hole]
        assert (empty[hole] >= near.min(axis=0)).all()
        assert (empty[hole] <= near.max(axis=0)).all()
        other = image.copy()
        other[hole] = 0
        assert np.array_equal(without_object(other, covered), empty), "nothing of the object is left in it"
    assert np.array_equal(put_into(image, covered, empty), image)


def test_a_hole_is_filled_as_its_surroundings_go_on() -> None:
    ramp = np.broadcast_to(np.arange(0, 120, 3, dtype=np.uint8)[None, :, None], (40, 40, 3)).copy()
    covered = np.zeros((40, 40), np.float32)
    covered[15:25, 15:25] = 1
    filled = without_object(ramp, covered).astype(int)
    assert np.abs(filled - ramp).max() <= 18, "a shape in one colour would stand out by twice as much"
    whole = np.ones((40, 40), np.float32)
    assert np.unique(without_object(ramp, whole)).size == 1
    assert np.array_equal(object_alone(ramp, whole), ramp)


def test_fewer_images_are_looked_at_where_they_are_large() -> None:
    small, large = np.zeros((64, 64, 3), np.uint8), np.zeros((2048, 2048, 3), np.float32)
    assert most_images(small) > 10_000
    assert most_images(large) == (1 << 28) // large.nbytes == 5
    assert most_images(np.zeros((20_000, 20_000), np.uint8)) == 1


def test_the_share_of_a_map_is_of_what_speaks_for_the_answer() -> None:
    map_ = np.array([[1, 3], [-9, 0]], np.float32)
    covered = np.array([[0, 1], [1, 0.5]], np.float32)
    assert share_inside(map_, covered) == 0.75
    assert share_inside(-np.abs(map_), covered) is None
    assert share_inside(np.zeros((2, 2), np.float32), covered) is None
    far = np.zeros((20, 20), np.float32)
    far[4, 15], far[10, 2] = 5, -50
    assert strongest(far) == (4, 15)


@pytest.mark.parametrize("kind", [kind for kind, change in CHANGE_SETTINGS.items() if change.of_object])
def test_what_needs_an_outline_says_so_where_there_is_none(kind: str) -> None:
    image, covered = scene(0, 1, 0)
    made = changed(image, CHANGE_SETTINGS[kind](), covered=covered)
    assert not np.array_equal(made, image)
    with pytest.raises(NotHere, match="the image has no outline"):
        changed(image, CHANGE_SETTINGS[kind]())


def grounded(seed: int = 0, neutral: bool = False) -> tuple[Plot, dict[int, np.ndarray]]:
    """Classes told by a square; in mistakes, at other places each, a ground that says the next class."""
    plot = Plot(seed)
    covered: dict[int, np.ndarray] = {}
    for k in range(plot.count):
        ground = int(plot.predicted[k]) if k in plot.wrong else None
        plot.pixels[k], covered[k] = scene(int(plot.true[k]), ground, k)
        if neutral and ground is None:
            plot.pixels[k, -3:, :, 1] = NEUTRAL
    return plot, covered


def misled(images: np.ndarray) -> np.ndarray:
    """The ground where it says something, else the square."""
    says = levels_of(images)[:, -1, :, 1].mean(axis=1) > 60
    return np.where(says, by_ground(images), by_object(images))


def test_mistakes_that_follow_the_ground_are_one_cause_with_a_crop_as_its_remedy() -> None:
    plot, covered = grounded()
    cause = only("object", plot.evidence(misled, covered))
    assert cause is not None
    assert sorted(cause.members) == list(range(len(plot.wrong)))
    assert cause.figures == {"mended": 1.0, "broken": 0.0, "right for this reason": 0.0}
    assert cause.why.startswith("30 mistakes rest on what is not the object")
    assert cause.plan is not None
    assert cause.plan.preprocessing.crop_to == "object"


def test_objects_of_the_class_said_are_not_put_into_a_rest_to_see_whether_that_says_it() -> None:
    """Where every other object is of the class said, whatever it gets, nothing can be learned of the rest."""
    made = [scene(0, k % 2, k) for k in range(12)]
    pixels, covered = (np.stack(each) for each in zip(*made, strict=True))
    predicted = by_ground(pixels).astype(np.int64)
    result = finish(try_objects(cast(Predictor, Judge(by_ground)), pixels, covered, predicted, np.zeros(12, np.int64)))
    assert np.isnan(result.rest[predicted == 0]).all()
    assert (result.rest[predicted == 1] == 1).all()


def test_a_few_mistakes_are_no_cause() -> None:
    plot, covered = grounded()
    for k in plot.wrong[4:]:
        plot.pixels[k], covered[int(k)] = scene(int(plot.true[k]), None, int(k))
    assert only("object", plot.evidence(misled, covered)) is None, "four of thirty follow the ground"


def test_no_cause_is_told_without_outlines_or_where_the_object_misleads() -> None:
    plot, covered = grounded()
    assert only("object", plot.evidence(misled)) is None
    few = {row: each for row, each in covered.items() if row not in plot.wrong[4:]}
    assert only("object", plot.evidence(misled, few)) is None, "four mistakes are too few"
    some = {row: each for row, each in covered.items() if row not in plot.wrong[6:]}
    cause = only("object", plot.evidence(misled, some))
    assert cause is not None
    assert sorted(cause.members) == [0, 1, 2, 3, 4, 5], "of the others nothing is known"

    def shifted(images: np.ndarray) -> np.ndarray:
        return (by_object(images) + 1) % len(CLASSES)

    plot.predicted[plot.wrong] = (plot.true[plot.wrong] + 1) % 3
    assert only("object", plot.evidence(shifted, covered)) is None

    plot, covered = grounded(neutral=True)
    assert only("object", plot.evidence(misled, covered)) is not None

    def lost(images: np.ndarray) -> np.ndarray:
        return np.where(is_alone(images), 0, misled(images))

    spoilt = only("object", plot.evidence(lost, covered))
    assert spoilt is None, (
        "all but the object covered, every image is of one class: a third is mended, two thirds spoilt"
    )


def is_alone(images: np.ndarray) -> np.ndarray:
    """Whether the lowest lines have the mean of a ground, which no ground has."""
    level = levels_of(images)[:, -1, :, 1].mean(axis=1)
    return (level > DARK + 1) & (level < NEUTRAL - 5)
