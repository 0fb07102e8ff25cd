"""What can be told of labels before anything is trained: a classifier on fixed features, image by image unseen."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, breathe
from attentive_lens.core.random import random_generator
from attentive_lens.images.faults.base import Evidence
from attentive_lens.images.fixed_features import features_of
from attentive_lens.images.plain_classifier import PlainClassifier, Scaling, waves

MOST = 6000
"""Images that are looked at, at most."""
FEWEST = 60
FOLDS, TIMES = 5, 3
"""Parts that take turns, and how often they are drawn anew."""
NEIGHBOURS, AGREE, OBJECT = 10, 0.5, 0.1
"""The most similar images, the part of them that is of the class said, at least, and of that on the label, at most."""
PLANTED = 0.03
"""Part of the labels that is changed to see how good the probe is."""
WRONG, FALSE = 0.03, 0.005
"""Part of the labels that may be wrong before any is changed, and part of all that may be doubted besides those."""
CHANCE = 0.003
"""Probability, at most, that as many changed labels are doubted by chance, were they doubted no oftener than others."""
MARGINS = np.arange(0.3, 1.21, 0.05)


@dataclass(frozen=True)
class Probed:
    """What a quick probe says of labels.

    Attributes
    ----------
    places : ndarray, M int64
        Images whose label it doubts, the surest first.
    classes : ndarray, M int64
        What it says of each.
    looked : int
        Images that were looked at.
    accuracy : float
        Part of them that it answers as their label does, none of them learned from.
    planted, doubted : int
        Labels that were changed to test it, and how many of those it doubted.
    others : int
        Labels it doubted besides then.
    """

    places: NDArray[np.int64]
    classes: NDArray[np.int64]
    looked: int
    accuracy: float
    planted: int
    doubted: int
    others: int


def quick_probe(evidence: Evidence) -> Job[Probed | None]:
    """Labels that neighbours and all of several classifiers contradict, none of which learned from the image.

    A `PlainClassifier` on fixed features, with folds. How far apart said and label must be is set by labels that are
    changed for a test: the least margin at which no more others are doubted than if three of a hundred were wrong, and
    one of two hundred besides. None where there is no such margin, for the features do not tell these classes apart
    well enough, or where there are too few images.
    """
    places = np.unique(np.linspace(0, len(evidence) - 1, min(MOST, len(evidence))).astype(int))
    labels, classes = evidence.labels[places], len(evidence.classes)
    if len(places) < FEWEST or len(np.unique(labels)) < 2:
        return None
    doing = "comparing images with their classes"
    features = yield from features_of(lambda part: evidence.prepared(places[part]), len(places), doing)
    features = Scaling.of(features).apply(features)
    nearest = _nearest(features)
    of = waves(features)
    rng = random_generator(0, "labels changed to test the quick probe")
    changed = labels.copy()
    chosen = rng.permutation(len(labels))[: max(1, round(PLANTED * len(labels)))]
    changed[chosen] = (changed[chosen] + rng.integers(1, classes, len(chosen))) % classes
    margin, _ = _doubts(of, nearest, changed, classes)
    is_planted = np.zeros(len(labels), bool)
    is_planted[chosen] = True
    limit = next((m for m in MARGINS if _tells_apart(margin[is_planted] >= m, margin[~is_planted] >= m)), None)
    if limit is None:
        return None
    of_planted, others = int((margin[is_planted] >= limit).sum()), int((margin[~is_planted] >= limit).sum())
    margin, predicted = _doubts(of, nearest, labels, classes)
    doubted = np.flatnonzero(margin >= limit)
    doubted = doubted[np.argsort(-margin[doubted], kind="stable")]
    right = float((predicted == labels).mean())
    return Probed(places[doubted], predicted[doubted], len(places), right, len(chosen), of_planted, others)


def _tells_apart(changed: NDArray[np.bool_], others: NDArray[np.bool_]) -> bool:
    """Whether changed labels are doubted, and others seldom enough."""
    most = FALSE + WRONG * changed.mean()
    if others.mean() > most + np.sqrt(most * (1 - most) / len(others)):
        return False
    rate, count = max(float(others.mean()), 1 / len(others)), len(changed)
    by_chance = sum(
        math.comb(count, k) * rate**k * (1 - rate) ** (count - k) for k in range(int(changed.sum()), count + 1)
    )
    return by_chance < CHANCE


def _nearest(features: NDArray[np.float32]) -> NDArray[np.int64]:
    """Places of the most similar other images, N×10."""
    count = min(NEIGHBOURS, len(features) - 1)
    squares = (features**2).sum(axis=1)
    rows = []
    for first in range(0, len(features), 256):
        breathe()
        part = slice(first, first + 256)
        apart = squares - 2 * features[part] @ features.T
        apart[np.arange(len(apart)), np.arange(first, first + len(apart))] = np.inf
        rows.append(np.argpartition(apart, count - 1, axis=1)[:, :count])
    return np.concatenate(rows)


def _doubts(
    of: NDArray[np.float32], nearest: NDArray[np.int64], labels: NDArray[np.int64], classes: int
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """By how much another class is ahead of the label, 0 where anybody disagrees on that; and the class said."""
    answers = np.stack([_unseen(of, labels, classes, time) for time in range(TIMES)])
    mean = answers.mean(axis=0)
    predicted, images = mean.argmax(axis=1), np.arange(len(labels))
    agreed = (answers.argmax(axis=2) == predicted).all(axis=0)
    near = labels[nearest]
    agreed &= (near == predicted[:, None]).mean(axis=1) >= AGREE
    agreed &= (near == labels[:, None]).mean(axis=1) <= OBJECT
    margin = mean[images, predicted] - mean[images, labels]
    return np.where(agreed & (predicted != labels), margin, 0.0), predicted


def _unseen(of: NDArray[np.float32], labels: NDArray[np.int64], classes: int, time: int) -> NDArray[np.float64]:
    """Answers N×K by classifiers that did not learn from the image."""
    fold = random_generator(time, "folds of the quick probe").permutation(len(labels)) % FOLDS
    answers = np.empty((len(labels), classes))
    for k in range(FOLDS):
        learned = PlainClassifier.fit(of[fold != k], labels[fold != k], classes)
        answers[fold == k] = learned.answers(of[fold == k])
    return answers
