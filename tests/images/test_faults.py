"""Planted faults are found, and nothing is found where nothing was planted."""

from __future__ import annotations

import io
from dataclasses import replace
from unittest.mock import patch

import numpy as np
import pytest
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.demo.slide import Mark, photograph
from attentive_lens.images.faults import FAULTS, Evidence, Finding, find_faults, marks

KINDS = ("netted", "smooth", "winged")


def evidence(
    pixels: np.ndarray, labels: np.ndarray, sets: list[str] | None = None, size: int = 64, classes: int = 3
) -> Evidence:
    sizes = np.full((len(pixels), 2), size, np.int64)
    return Evidence(pixels, labels, tuple(sets or ["training"] * len(pixels)), tuple("abcdef"[:classes]), sizes)


def grains(n: int = 90, mark: Mark | None = None, marked: int = 0, seed: int = 1) -> tuple[np.ndarray, np.ndarray]:
    """Photographs of three types in turn; of type ``marked`` four in five carry the mark."""
    shots = [
        photograph(
            KINDS[k % 3],
            random_generator(seed, "faults test", k),
            64,
            mark if mark and k % 3 == marked and k % 5 else None,
        ).pixels
        for k in range(n)
    ]
    return np.stack(shots), np.arange(n) % 3


def result(kind: str, seen: Evidence) -> list[Finding]:
    return finish(FAULTS[kind].find(seen))


def copied(image: np.ndarray, seed: int) -> np.ndarray:
    """The same photograph once more: shifted, lit otherwise, noisy, packed as JPEG."""
    random = np.random.default_rng(seed)
    moved = np.roll(image, random.integers(-2, 3, 2), (0, 1)) * random.uniform(0.92, 1.08)
    noisy = np.clip(moved + random.normal(0, 3, image.shape), 0, 255).astype(np.uint8)
    packed = io.BytesIO()
    Image.fromarray(noisy).save(packed, "JPEG", quality=85)
    with Image.open(packed) as unpacked:
        return np.array(unpacked)


def test_nothing_is_found_in_sound_images() -> None:
    assert finish(find_faults(evidence(*grains()))) == []


def test_copies_are_found_and_named_as_leaks_when_they_stand_in_two_sets() -> None:
    pixels, labels = grains(60)
    copies = np.stack([pixels[4], copied(pixels[10], 1), copied(pixels[21], 2)])
    seen = evidence(
        np.concatenate([pixels, copies]),
        np.concatenate([labels, [labels[4], labels[10], (labels[21] + 1) % 3]]),
        ["training"] * 60 + ["training", "test", "validation"],
    )
    findings = result("duplicates", seen)
    assert [(f.kind, f.groups) for f in findings] == [
        ("leak", ((10, 61),)),
        ("contradiction", ((21, 62),)),
        ("duplicate", ((4, 60),)),
    ]
    assert findings[0].why == "1 picture stands in more than one set (2 images)"
    assert findings[1].actions[0].flag == (21, 62)


@pytest.mark.parametrize(
    "mark",
    [
        Mark(),
        Mark(x=0.87, y=0.12, absorbance=(0.2, 1.6, 1.9)),
        Mark(x=0.13, y=0.5, absorbance=(1.2, 1.2, 1.2), radius=0.05),
    ],
)
@pytest.mark.parametrize("marked", [0, 2])
def test_a_mark_that_goes_with_one_class_is_found_wherever_and_in_whatever_colour(mark: Mark, marked: int) -> None:
    findings = result("marks", evidence(*grains(150, mark, marked)))
    assert [f.kind for f in findings] == ["mark"]
    assert f"«{'abc'[marked]}»" in findings[0].why
    carriers = {k for k in range(150) if k % 3 == marked and k % 5}
    assert len(carriers & set(findings[0].places)) >= 0.75 * len(carriers)
    assert len(set(findings[0].places) - carriers) <= 0.1 * len(carriers)


def test_a_mark_on_all_classes_alike_is_no_shortcut() -> None:
    shots = [
        photograph(KINDS[k % 3], random_generator(1, "all", k), 64, Mark() if k % 2 else None).pixels
        for k in range(120)
    ]
    assert result("marks", evidence(np.stack(shots), np.arange(120) % 3)) == []


def test_images_that_carry_too_little_are_found_and_sorted() -> None:
    pixels, labels = grains(90)
    for k in (7, 30):
        pixels[k] = photograph(KINDS[k % 3], random_generator(1, "faults test", k), 64, blur=3.0).pixels
    pixels[50] = (225 + (pixels[50].astype(float) - 128) * 0.05).astype(np.uint8)
    findings = {f.kind: set(f.places) for f in result("poor images", evidence(pixels, labels))}
    assert findings == {"out of focus": {7, 30}, "washed out": {50}}
    small = result("poor images", evidence(pixels, labels, size=20))
    assert "smaller than half the input size" in small[-1].why


def test_rare_and_tiny_classes_are_named() -> None:
    labels = np.array([0] * 60 + [1] * 60 + [2] * 60 + [3] * 12 + [4])
    flat = np.zeros((len(labels), 8, 8, 3), np.uint8)
    findings = result("balance", evidence(flat, labels, classes=5))
    assert [(f.kind, len(f.places)) for f in findings] == [("small class", 1), ("rare class", 12)]
    assert "only 1 image" in findings[0].why


def test_many_tiny_classes_are_told_as_one_and_cost_no_more_than_few() -> None:
    labels = np.concatenate([np.repeat(np.arange(6), 3), np.full(30, 6), np.full(30, 7)])
    flat = np.zeros((len(labels), 8, 8, 3), np.uint8)
    names = tuple(f"type {k}" for k in range(8))
    seen = replace(evidence(flat, labels), classes=names)
    (finding,) = result("balance", seen)
    assert (finding.kind, len(finding.places)) == ("small class", 18)
    assert finding.why.startswith("6 classes have fewer than 10 images")
    assert "«type 0», the smallest, has 3 images" in finding.why
    with patch.object(marks, "_middle_and_distance", wraps=marks._middle_and_distance) as medians:
        result("marks", seen)
    assert medians.call_count == 3  # of two classes, and of all small ones together


@pytest.mark.parametrize("kind", FAULTS)
@pytest.mark.parametrize("shape", [(1, 4, 4, 3), (3, 5, 5, 1), (25, 16, 16, 3)])
def test_every_finder_takes_few_small_and_grey_images(kind: str, shape: tuple[int, ...]) -> None:
    pixels = np.random.default_rng(0).integers(0, 256, shape).astype(np.uint8)
    for finding in result(kind, evidence(pixels, np.arange(len(pixels)) % 2, classes=min(2, len(pixels)))):
        assert finding.places
        assert finding.why
        assert finding.remedy


def test_labels_that_unseen_models_contradict_are_doubtful_where_another_is_a_hundred_times_likelier() -> None:
    labels = np.arange(60) % 3
    answers = np.full((60, 3), 0.1, np.float32)
    answers[np.arange(60), labels] = 0.8
    answers[labels == 2, 2] = 0.55  # a class models are never sure of
    answers[7] = (0.092, 0.008, 0.9)  # labelled 1, and 2 is 112 times likelier
    answers[12] = (0.012, 0.9, 0.088)  # labelled 0, and 1 only 75 times likelier
    answers[15] = (0.001, 0.45, 0.549)  # labelled 0, surely not, but nearly as likely 1 as 2
    answers[20] = np.nan
    flat = np.zeros((60, 8, 8, 3), np.uint8)
    seen = evidence(flat, labels)
    assert result("doubtful labels", seen) == []
    (finding,) = result("doubtful labels", replace(seen, answers=answers))
    assert finding.places == (15, 7)
    assert "of 59 answered" in finding.why
    assert finding.actions[1].relabel == ((15, 2), (7, 2))


def test_actions_leave_the_copy_in_the_test_set_and_cover_marks_in_training() -> None:
    pixels, labels = grains(60)
    seen = evidence(
        np.concatenate([pixels, copied(pixels[10], 1)[None]]),
        np.append(labels, labels[10]),
        ["training"] * 60 + ["test"],
    )
    (leak,) = result("duplicates", seen)
    assert leak.actions[0].exclude == (10,)
    (mark,) = result("marks", evidence(*grains(150, Mark(), 0)))
    assert mark.actions[0].step is not None
    assert mark.actions[0].step.kind == "random erasing"


def test_images_not_in_use_are_not_looked_at() -> None:
    pixels, labels = grains(60)
    twice = np.concatenate([pixels, pixels[:3]])
    rows = np.arange(60)
    seen = replace(evidence(pixels, labels), pixels=twice, rows=rows)
    assert finish(find_faults(seen)) == []
    shifted = replace(seen, rows=np.arange(3, 63), labels=np.roll(labels, -3))
    assert result("duplicates", shifted) == []


def test_many_alike_images_are_compared_in_bounded_memory() -> None:
    flat = np.repeat(np.random.default_rng(0).integers(0, 256, (1, 16, 16, 3)), 300, axis=0).astype(np.uint8)
    (finding,) = result("duplicates", evidence(flat, np.zeros(300, np.int64), classes=1))
    assert len(finding.places) == 300
