"""Labels are doubted before any training where they were changed, and nowhere else."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.images.faults.quick_probe import (
    FALSE,
    NEIGHBOURS,
    WRONG,
    Probed,
    _doubts,
    _nearest,
    quick_probe,
)
from attentive_lens.images.fixed_features import SIDE, fixed_features
from attentive_lens.images.plain_classifier import RIDGE, WAVES, PlainClassifier, waves
from tests.images.test_faults import evidence, result

COUNT = 360


@pytest.fixture(scope="module")
def shots() -> tuple[np.ndarray, np.ndarray]:
    """Lying waves, standing waves, and both, of any phase and strength, under noise."""
    rng, labels = np.random.default_rng(7), np.arange(COUNT) % 3
    rows, columns = np.mgrid[0:64, 0:64] / 64
    pictures = []
    for label in labels:
        lying, standing = (np.sin(2 * np.pi * (rng.uniform(3, 6) * at + rng.random())) for at in (rows, columns))
        wave = (lying, standing, (lying + standing) / 2)[label] * rng.uniform(20, 60)
        colour = rng.uniform(80, 170, 3)
        pictures.append(colour + wave[:, :, None] + rng.normal(0, 15, (64, 64, 3)))
    return np.stack(pictures).clip(0, 255).astype(np.uint8), labels


def probe_of(pixels: np.ndarray, labels: np.ndarray) -> Probed | None:
    return finish(quick_probe(evidence(pixels, labels)))


def test_changed_labels_are_doubted_and_few_others(shots: tuple[np.ndarray, np.ndarray]) -> None:
    pixels, labels = shots
    changed = labels.copy()
    chosen = np.arange(5, COUNT, 36)
    changed[chosen] = (changed[chosen] + 1) % 3
    probed = probe_of(pixels, changed)
    assert probed is not None
    right = set(probed.places.tolist()) & set(chosen.tolist())
    assert len(right) >= 0.6 * len(chosen)
    assert len(probed.places) - len(right) <= 0.02 * COUNT
    assert all(
        label == labels[place] for place, label in zip(probed.places, probed.classes, strict=True) if place in right
    )
    assert probed.looked == COUNT
    assert 0.8 < probed.accuracy < 1
    assert 0 < probed.doubted <= probed.planted == round(0.03 * COUNT)
    assert probed.others <= (FALSE + WRONG) * COUNT + 3
    clean = probe_of(pixels, labels)
    assert clean is not None
    assert len(clean.places) <= 0.02 * COUNT


def test_shuffled_labels_and_pictures_without_a_difference_doubt_nothing(shots: tuple[np.ndarray, np.ndarray]) -> None:
    pixels, labels = shots
    shuffled = probe_of(pixels, np.random.default_rng(1).permutation(labels))
    assert shuffled is None or len(shuffled.places) <= 0.01 * COUNT
    noise = np.random.default_rng(2).integers(0, 256, pixels.shape).astype(np.uint8)
    same = probe_of(noise, labels)
    assert same is None or len(same.places) <= 0.01 * COUNT
    assert probe_of(pixels[:40], labels[:40]) is None, "too few"
    assert probe_of(pixels, np.zeros(COUNT, np.int64)) is None, "one class"


def test_the_finder_asks_the_probe_where_no_run_answered(shots: tuple[np.ndarray, np.ndarray]) -> None:
    pixels, labels = shots
    changed = labels.copy()
    chosen = np.arange(5, COUNT, 36)
    changed[chosen] = (changed[chosen] + 1) % 3
    seen = evidence(pixels, changed)
    (alone,) = result("doubtful labels", seen)
    assert alone.kind == "doubtful label"
    assert "quick probe" in alone.why
    assert [action.relabel for action in alone.actions][1] == tuple(
        (place, int(labels[place])) if place in chosen else pair
        for place, pair in zip(alone.places, alone.actions[1].relabel, strict=True)
    )
    answers = np.full((COUNT, 3), np.nan, np.float32)
    half = COUNT // 2
    answers[:half] = np.eye(3, dtype=np.float32)[labels[:half]]
    of_runs, of_probe = result("doubtful labels", replace(seen, answers=answers))
    assert set(of_runs.places) == {place for place in chosen if place < half}
    assert of_probe.places == tuple(place for place in alone.places if place >= half)
    everywhere = np.eye(3, dtype=np.float32)[labels]
    (by_runs,) = result("doubtful labels", replace(seen, answers=everywhere))
    assert set(by_runs.places) == set(chosen.tolist())


def test_learning_breathes_between_pieces_and_they_change_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    rng, breaths = np.random.default_rng(3), []
    features, labels = rng.standard_normal((700, 30)).astype(np.float32), rng.integers(0, 3, 700)
    whole = waves(features)
    answers = PlainClassifier.fit(whole, labels, 3).answers(whole)
    monkeypatch.setattr("attentive_lens.images.plain_classifier.AT_ONCE", 100)
    monkeypatch.setattr("attentive_lens.images.plain_classifier.breathe", lambda: breaths.append(1))
    assert waves(features) == pytest.approx(whole, abs=1e-5)
    assert len(breaths) == 7
    assert PlainClassifier.fit(whole, labels, 3).answers(whole) == pytest.approx(answers, abs=1e-3)
    assert len(breaths) == 14
    slow = PlainClassifier.fit(whole, labels, 3).weights
    centred = whole.astype(np.float64) - whole.mean(axis=0)
    wanted = np.eye(3)[labels]
    exact = np.linalg.solve(
        centred.T @ centred + RIDGE * 700 * np.eye(WAVES), centred.T @ (wanted - wanted.mean(axis=0))
    )
    assert slow == pytest.approx(exact, abs=1e-4)


@pytest.mark.parametrize(("side", "channels"), [(64, 3), (32, 1), (40, 3), (8, 1), (96, 3)])
def test_features_are_numbers_of_one_length_that_follow_the_picture(side: int, channels: int) -> None:
    pixels = np.random.default_rng(0).integers(0, 256, (5, side, side, channels)).astype(np.uint8)
    features = fixed_features(pixels)
    assert features.dtype == np.float32
    assert np.isfinite(features).all()
    assert features.shape[1] == fixed_features(np.zeros((1, SIDE, SIDE, channels), np.uint8)).shape[1]
    assert fixed_features(pixels[2:3])[0] == pytest.approx(features[2], abs=1e-6), "each image by itself"
    assert np.abs(features[0] - features[1]).max() > 0.01


def test_edges_are_told_by_their_direction_and_flat_pictures_have_none() -> None:
    stripes = np.zeros((1, SIDE, SIDE, 1), np.uint8)
    stripes[:, ::8], stripes[:, 1::8], stripes[:, 2::8], stripes[:, 3::8] = 200, 200, 200, 200
    lying, standing = fixed_features(stripes), fixed_features(stripes.transpose(0, 2, 1, 3))
    assert np.abs(lying - standing).max() > 0.1
    flat = fixed_features(np.full((1, SIDE, SIDE, 3), 90, np.uint8))
    coloured = fixed_features(np.full((1, SIDE, SIDE, 3), (200, 40, 40), np.uint8))
    assert np.count_nonzero(np.abs(flat) > 1e-3) == 16 + 1, "the means of luma, and one bin of the histogram"
    assert np.abs(coloured - flat).max() > 0.5


def test_neighbours_of_the_label_and_classifiers_that_disagree_end_a_doubt(monkeypatch: pytest.MonkeyPatch) -> None:
    labels = np.array([0] * 20 + [1] * 20)
    near = np.tile(np.arange(20, 30), (40, 1))  # all of class 1
    near[1, :2] = 2, 3
    near[2, :6] = range(3, 9)
    answers = np.tile([0.1, 0.9], (3, 40, 1))
    answers[1, 3] = 0.9, 0.1
    monkeypatch.setattr("attentive_lens.images.faults.quick_probe._unseen", lambda *words: answers[words[-1]])
    margin, predicted = _doubts(np.zeros((40, 1), np.float32), near, labels, 2)
    assert predicted.tolist() == [1] * 40
    assert np.flatnonzero(margin).tolist() == [0, *range(4, 20)], "1 and 2 have neighbours that object, 3 is disputed"
    assert margin[0] == pytest.approx(0.8)


def test_the_nearest_are_those_with_the_least_distance() -> None:
    features = np.random.default_rng(0).normal(size=(300, 6)).astype(np.float32)
    near = _nearest(features)
    apart = ((features[:, None] - features[None]) ** 2).sum(axis=2)
    np.fill_diagonal(apart, np.inf)
    assert near.shape == (300, NEIGHBOURS)
    for place, others in enumerate(near):
        assert set(others.tolist()) == set(np.argsort(apart[place])[:NEIGHBOURS].tolist())
    few = _nearest(features[:4])
    assert [sorted(row.tolist()) for row in few] == [[k for k in range(4) if k != own] for own in range(4)]
