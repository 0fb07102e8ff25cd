"""Each kind of cause is told where it is planted, with its figures and its plan, and not where it is not."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter
from tests.explaining.made_up import RIGHT, SIDE, TRAINING, WRONG, Plot, constant, only

from attentive_lens.core.jobs import finish
from attentive_lens.explaining.causes import find_causes
from attentive_lens.explaining.causes.base import more_often
from attentive_lens.explaining.causes.grouping import grouped
from attentive_lens.explaining.causes.measures import MEASURES
from attentive_lens.explaining.causes.quality import with_step
from attentive_lens.explaining.channel_statistics import Known
from attentive_lens.plan.augmentation import Blur
from attentive_lens.plan.plan import Plan


def test_nothing_is_told_of_mistakes_that_nothing_sets_apart() -> None:
    for seed in range(5):
        plot = Plot(seed)
        causes = finish(find_causes(plot.evidence()))
        assert [cause.kind for cause in causes] == ["other"], seed
        assert sorted(causes[0].members) == list(range(WRONG))


def test_every_mistake_stands_in_one_cause_and_the_later_ones_see_what_is_left() -> None:
    plot = Plot()
    plot.statistics[plot.wrong[:8]] += 60
    for k in plot.wrong[6:20]:
        plot.origins[k] = ("source 1", "the folder bench 2")
    causes = finish(find_causes(plot.evidence()))
    assert [cause.kind for cause in causes] == ["origin", "unlike training", "other"]
    members = [k for cause in causes for k in cause.members]
    assert sorted(members) == list(range(WRONG))
    assert set(causes[0].members) == set(range(6, 20))
    assert set(causes[1].members) == set(range(6)), "two of the strange ones are told already"


def soft_mistakes(plot: Plot, count: int = 14) -> None:
    for k in plot.wrong[:count]:
        plot.pixels[k] = gaussian_filter(plot.pixels[k], (1.0, 1.0, 0))


def goes_by_fineness(images: np.ndarray) -> np.ndarray:
    """Right about sharp images, which the controls are; says another class to soft ones."""
    return np.where(images.std(axis=(1, 2, 3)) < 25, 1, 0)


def test_soft_mistakes_are_told_where_right_answers_turn_once_blurred() -> None:
    plot = Plot()
    plot.true[TRAINING : TRAINING + RIGHT] = 0
    plot.predicted[TRAINING : TRAINING + RIGHT] = 0
    plot.true[plot.wrong], plot.predicted[plot.wrong] = 0, 1
    plot.true[:TRAINING] = 0
    soft_mistakes(plot)
    result = only("quality", plot.evidence(goes_by_fineness))
    assert result is not None
    assert result.short == "are softer than usual"
    assert set(result.members[:14]) == set(range(14)), "the softest first"
    assert len(result.members) < 20
    assert result.figures["turned"] == 1
    assert result.figures["part of the right answers"] < 0.2
    assert result.plan is not None
    (step,) = [step for step in result.plan.augmentation if step.kind == "blur"]
    assert step.range[1] > 0.3  # type: ignore[attr-defined]
    unmoved = only("quality", plot.evidence(constant))
    assert unmoved is None, "soft, but the model does not mind"


@pytest.mark.parametrize("word", MEASURES)
def test_what_is_imitated_has_the_values_asked_for(word: str) -> None:
    measure = MEASURES[word]
    random = np.random.default_rng(3)
    pixels = gaussian_filter(random.integers(40, 120, (6, 48, 48, 3)).astype(float), (0, 0.5, 0.5, 0)).astype(np.uint8)
    sizes = np.tile([48, 48], (6, 1))
    values = measure.values(pixels, sizes)
    targets = values * 0.5
    changed, strength = measure.imitated(pixels, targets)
    assert changed.shape == pixels.shape
    assert changed.dtype == np.uint8
    assert strength > 0
    if word == "file size":
        assert np.abs(changed.astype(float) - pixels).mean() > 3
        assert np.array_equal(measure.imitated(pixels, values)[0], pixels)
        return
    after = measure.values(changed, sizes)
    assert np.median(after / targets) < 1.1 if word == "focus" else after == pytest.approx(targets, rel=0.1)
    step = measure.step(strength)
    assert step.probability > 0


@pytest.mark.parametrize(
    ("word", "gains", "high"),
    [
        ("red to blue", (1.3, 1, 0.7), True),
        ("red to blue", (0.7, 1, 1.3), False),
        ("green to red and blue", (0.8, 1.3, 0.8), True),
    ],
)
def test_a_cast_of_the_colours_is_measured_and_taken_back(word: str, gains: tuple[float, ...], high: bool) -> None:
    pixels = np.random.default_rng(1).integers(60, 140, (6, 32, 32, 3)).astype(np.uint8)
    tinted = (pixels * np.array(gains)).astype(np.uint8)
    measure, sizes = MEASURES[word], np.tile([32, 32], (6, 1))
    usual, cast = measure.values(pixels, sizes), measure.values(tinted, sizes)
    assert (cast > 1.2 * usual).all() if high else (cast < 0.8 * usual).all()
    assert "er than usual" in measure.short(high)
    back, _ = measure.imitated(tinted, usual)
    assert measure.values(back, sizes) == pytest.approx(usual, rel=0.02)
    grey = pixels[:, :, :, :1]
    assert measure.values(grey, sizes) == pytest.approx(np.ones(6))
    assert np.array_equal(measure.imitated(grey, np.full(6, 2.0))[0], grey)


def test_a_step_takes_the_place_of_one_of_its_kind() -> None:
    plan = with_step(with_step(Plan(), Blur(range=(0.0, 1.0))), Blur(range=(0.0, 3.0)))
    assert [step.range for step in plan.augmentation if step.kind == "blur"] == [(0.0, 3.0)]  # type: ignore[attr-defined]


def test_images_unlike_all_training_images_are_told_with_their_classes() -> None:
    plot = Plot()
    plot.statistics[plot.wrong[:9]] += 40
    result = only("unlike training", plot.evidence())
    assert result is not None
    assert set(result.members) == set(range(9))
    assert result.figures["part of the mistakes"] == pytest.approx(9 / WRONG)
    assert result.figures["distance"] > 5 * result.figures["usual distance"]
    assert "spiny (3)" in result.remedy
    beyond = result.figures["part of the right answers"]
    assert f"farther from every training image than {1 - beyond:.0%} of the right answers do" in result.why
    assert 0.9 < 1 - beyond <= 1
    plot.statistics[TRAINING : TRAINING + 40] += 40
    assert only("unlike training", plot.evidence()) is None, "right answers are as far"
    many = Plot(right=1000, wrong=1000)
    many.statistics[many.wrong[:30]] += 40
    assert only("unlike training", many.evidence()) is None, "surely more often, but not three times"
    many.statistics[many.wrong[30:70]] += 40
    assert only("unlike training", many.evidence()) is not None


def looks_like(plot: Plot, places: np.ndarray, classes: np.ndarray) -> None:
    """Give images the colour of classes, on the noise that they are."""
    noise = np.random.default_rng(int(places[0])).integers(30, 95, (len(places), SIDE, SIDE, 3))
    plot.pixels[places] = noise + 60 * np.eye(3, dtype=int)[classes][:, None, None]


def with_doubtful_labels() -> tuple[Plot, np.ndarray]:
    """Four mistakes that look like the class said, to the network and without it; of one the model is not sure."""
    plot = Plot()
    doubtful = plot.wrong[:4]
    looks_like(plot, np.arange(plot.count), plot.true)
    looks_like(plot, doubtful, plot.predicted[doubtful])
    plot.statistics[doubtful] += 14 * (np.eye(12)[plot.predicted[doubtful]] - np.eye(12)[plot.true[doubtful]])
    plot.probability[TRAINING : TRAINING + RIGHT] = 0.8
    plot.probability[doubtful] = (0.9, 0.8, 0.7, 0.3)
    return plot, doubtful


def test_a_label_that_the_most_similar_training_images_contradict_is_asked_about() -> None:
    plot, doubtful = with_doubtful_labels()
    result = only("label", plot.evidence())
    assert result is not None
    assert result.members == (0, 1, 2), "the surest first, and those the model is not sure of are not asked about"
    assert result.remedy.startswith("Look at these 3 labels")
    assert result.figures["neighbours of the class said"] > 0.9
    assert result.figures["answers of that kind as labelled"] == pytest.approx(RIGHT / (RIGHT + 3))
    assert "98% of all answers of that kind are as labelled" in result.why
    plot.statistics[doubtful, plot.predicted[doubtful]] += 60
    assert only("label", plot.evidence()) is None, "who is like nothing has neighbours that mean nothing"
    plot.statistics[doubtful, plot.predicted[doubtful]] -= 60
    plot.probability[TRAINING : TRAINING + RIGHT - 20] = 0.5
    assert only("label", plot.evidence()) is None, "a model that is so often sure and wrong accuses nobody"


def test_a_label_that_images_uphold_without_the_network_is_not_asked_about() -> None:
    """The network's neighbours are the network's: what looks like its label is not doubted for them."""
    plot, doubtful = with_doubtful_labels()
    looks_like(plot, doubtful[:2], plot.true[doubtful[:2]])
    result = only("label", plot.evidence())
    assert result is not None
    assert result.members == (2,)
    assert result.remedy.startswith("Look at this label")
    looks_like(plot, doubtful, plot.true[doubtful])
    assert only("label", plot.evidence()) is None
    for seed in range(3):
        plain, _ = with_doubtful_labels()
        plain.pixels = np.random.default_rng(seed).integers(60, 190, plain.pixels.shape).astype(np.uint8)
        assert only("label", plain.evidence()) is None, "where features tell nothing nobody is accused"


def test_an_image_that_all_plain_classifiers_learned_from_is_not_asked_about() -> None:
    plot, _ = with_doubtful_labels()
    evidence = plot.evidence()
    rows = evidence.training.rows.copy()
    rows[:60] = evidence.mistakes.rows[0]
    result = only("label", replace(evidence, training=replace(evidence.training, rows=rows)))
    assert result is not None
    assert result.members == (1, 2)


def test_classes_that_overlap_are_told_with_what_one_class_would_give() -> None:
    plot = Plot()
    plot.true[plot.wrong] = np.arange(WRONG) % 2
    plot.predicted[plot.wrong] = 1 - plot.true[plot.wrong]
    assert only("overlap", plot.evidence()) is None, "the training images tell them apart"
    both = plot.true < 2
    plot.statistics[both] = np.random.default_rng(5).normal(0, 1, (int(both.sum()), 12))
    result = only("overlap", plot.evidence())
    assert result is not None
    assert sorted(result.members) == list(range(WRONG))
    assert result.figures["neighbours of the other class"] == pytest.approx(0.5, abs=0.07)
    assert result.figures["accuracy"] == pytest.approx(RIGHT / (RIGHT + WRONG))
    assert result.figures["accuracy as one class"] == 1
    assert result.plan is None


def at_a_corner() -> tuple[Plot, Any]:
    """Mistakes by a model that says 1 where the lower left is dark, and their maps there."""
    plot = Plot()
    plot.true[plot.wrong], plot.predicted[plot.wrong] = 0, 1
    plot.true[TRAINING : TRAINING + RIGHT] = plot.predicted[TRAINING : TRAINING + RIGHT] = 0
    plot.pixels[plot.wrong, 25:30, 2:7] = 5
    random = np.random.default_rng(0)
    maps = np.abs(random.normal(0, 0.02, (WRONG, SIDE, SIDE))).astype(np.float32)
    maps[:, 26:29, 3:6] += 1
    plot.groups = tuple(grouped(maps, random.normal(0, 1, (WRONG, 4))))
    return plot, lambda images: (images[:, 25:30, 2:7].mean(axis=(1, 2, 3)) < 40).astype(int)


def test_a_place_comes_with_a_plan_that_covers_it_where_covering_it_mends() -> None:
    plot, by_the_corner = at_a_corner()
    result = only("place", plot.evidence(by_the_corner))
    assert result is not None
    assert len(result.members) >= 20
    assert (result.figures["mended"], result.figures["mended elsewhere"], result.figures["broken"]) == (1, 0, 0)
    assert "100% of them said to be netted: covering it mends 100% of them, the mirrored place 0%" in result.why
    assert result.plan is not None
    assert result.plan.augmentation[0].kind == "mask a place", "before anything moves it"
    assert (result.plan.augmentation[0].row, result.plan.augmentation[0].column) == pytest.approx(
        (0.86, 0.14), abs=0.05
    )  # type: ignore[attr-defined]
    assert result.plan.network == Plan().network


def test_a_place_that_does_not_turn_is_told_as_where_the_thing_itself_is() -> None:
    plot, _ = at_a_corner()
    evidence = plot.evidence(lambda images: np.ones(len(images), int))
    assert only("place", evidence) is None
    result = only("other", evidence)
    assert result is not None
    assert "covering it mends 0% of them, the mirrored place 0%: it is where the thing itself is" in result.why
    assert result.plan is None


def test_nearest_is_by_standardised_distance_and_equals_the_plain_way() -> None:
    random = np.random.default_rng(2)
    known = random.normal(0, 1, (50, 5)) * [1, 10, 100, 1, 1]
    queries = random.normal(0, 1, (9, 5)) * [1, 10, 100, 1, 1]
    rows, distances = Known.of(known).nearest(queries, 4)
    plain = np.linalg.norm((queries[:, None] - known) / (known.std(axis=0) + 1e-6), axis=2)
    assert np.array_equal(rows, np.argsort(plain, axis=1)[:, :4])
    assert distances == pytest.approx(np.sort(plain, axis=1)[:, :4], abs=1e-5)
    assert Known.of(known).nearest(queries, 99)[0].shape == (9, 50)


def test_chance_is_that_of_the_table_and_tiles_count_as_their_photograph() -> None:
    plot = Plot()

    def chance(wrong: int, right: int) -> float:
        return more_often(plot.evidence(), np.arange(WRONG) < wrong, np.arange(RIGHT) < right)

    assert chance(0, 5) == 1
    assert chance(20, 5) < 1e-8
    assert chance(6, 24) == pytest.approx(0.5, abs=0.2)
    plot.units[plot.wrong[:20]] = 0
    assert chance(20, 5) > 1e-4, "twenty that belong together are one"


def test_dark_mistakes_are_told_where_light_mends_them_and_darkness_does_not() -> None:
    plot = Plot()
    plot.true[:] = 0
    plot.predicted[:] = 0
    plot.predicted[plot.wrong] = 1
    plot.pixels[plot.wrong[:12]] = plot.pixels[plot.wrong[:12]] // 4

    def by_light(images: np.ndarray) -> np.ndarray:
        return (images.mean(axis=(1, 2, 3)) < 80).astype(int)

    result = only("quality", plot.evidence(by_light))
    assert result is not None
    assert (set(result.members[:12]), result.short) == (set(range(12)), "are darker than usual")
    assert (result.figures["mended"], result.figures["mended by more of it"]) == (pytest.approx(1), pytest.approx(0))
    assert "taking it from them mends 100%, more of it 0%" in result.why
    assert result.plan is not None
    (step,) = [step for step in result.plan.augmentation if step.kind == "brightness"]
    assert step.range[0] < 0.25  # type: ignore[attr-defined]

    def by_a_level(images: np.ndarray) -> np.ndarray:
        return (np.abs(images.mean(axis=(1, 2, 3)) - 31) < 20).astype(int)

    assert only("quality", plot.evidence(by_a_level)) is None, "what any change mends is no matter of light"


@pytest.mark.parametrize("without", ["right", "training"])
def test_without_right_answers_or_training_images_nothing_is_told_that_needs_them(without: str) -> None:
    plot = Plot()
    plot.true[plot.wrong], plot.predicted[plot.wrong] = 0, 1
    evidence = plot.evidence()
    none = replace(plot.of(np.zeros(0, np.int64)), statistics=np.zeros((0, 1)))
    causes = finish(find_causes(replace(evidence, **{without: none})))
    assert sorted(k for cause in causes for k in cause.members) == list(range(WRONG))
    if without == "training":
        assert {cause.kind for cause in causes} == {"other"}
