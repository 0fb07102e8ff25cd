"""Mistakes whose label the most similar images contradict, and classifiers that need no network, as the model does."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.random import random_generator
from attentive_lens.explaining.causes.base import NEIGHBOURS, Answered, CauseFound, Evidence, Finder, mistakes_in_words
from attentive_lens.images.fixed_features import features_of
from attentive_lens.images.plain_classifier import PlainClassifier, Scaling, waves

SURE = 0.7
"""Probability of what is said."""
AGREE, OBJECT = 0.5, 0.0
"""Part of the nearest training images that are of the class said, at least, and of the class on the label, at most."""
CLASSIFIERS, HELD = 5, 0.3
"""Plain classifiers that are asked, and the part of the training images that each of them does not learn from."""
CHANCE_TIMES, TELLS = 2.0, 0.7
"""Part of sure right answers that plain classifiers must uphold for their word to count: so many times what chance
would, and in any case so many."""
RELIABLE = 0.1
"""Part of all so sure answers that may be called into question: where more are, the model errs so, not the labels."""


class Labels(Finder):
    """A question, not a verdict: some are what the label says and look otherwise.

    Nearness is by channel statistics, which hold what an image is like, not by the last hidden layer, where every
    sure mistake lies among the class it is taken for. Those neighbours are still the network's: so classifiers on
    plain features, each of which learned from other training images, must all say what it says, too.
    """

    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """All of them, the surest first."""
        yield Progress(0, 1, "comparing labels with the most similar training images")
        wrong = evidence.mistakes
        near, _ = evidence.neighbours
        agree = (near == wrong.predicted[:, None]).mean(axis=1)
        contradict = (near == wrong.true[:, None]).mean(axis=1)
        known = evidence.distances <= evidence.far  # who is like nothing has neighbours that mean nothing
        doubtful = np.flatnonzero(known & (wrong.probability >= SURE) & (agree >= AGREE) & (contradict <= OBJECT))
        if not len(doubtful) or near.shape[1] < NEIGHBOURS:
            return None
        plain = yield from _PlainClassifiers.of(evidence)
        doubtful = doubtful[(yield from plain.agree(evidence, wrong.part(doubtful)))]
        supported, part = yield from _supported(evidence, plain)
        as_sure = len(doubtful) + evidence.right.weight * supported
        tells = part >= min(CHANCE_TIMES / len(evidence.classes), TELLS)
        if not len(doubtful) or not tells or len(doubtful) > RELIABLE * as_sure:
            return None
        members = tuple(doubtful[np.argsort(-(agree * wrong.probability)[doubtful], kind="stable")].tolist())
        reliable = 1 - len(doubtful) / as_sure
        why = (
            f"{mistakes_in_words(len(members))} may be labelled wrongly: the model is {SURE:.0%} sure or more,"
            f" {agree[doubtful].mean():.0%} of the {NEIGHBOURS} most similar training images are of the class said,"
            f" {contradict[doubtful].mean():.0%} of the class on the label, and {CLASSIFIERS} classifiers that need no"
            f" network say the same; {reliable:.0%} of all answers of that kind are as labelled:"
            f" {evidence.pairs_in_words(members)}"
        )
        count = "this label" if len(members) == 1 else f"these {len(members)} labels"
        remedy = f"Look at {count} first: correct or exclude what is labelled wrongly"
        figures = {
            "neighbours of the class said": float(agree[doubtful].mean()),
            "neighbours of the true class": float(contradict[doubtful].mean()),
            "answers of that kind as labelled": float(reliable),
        }
        return CauseFound("label", "may be labelled wrongly", members, why, remedy, figures)


class _PlainClassifiers:
    """Some classifiers on plain features, each of other training images; no image is asked of one that saw it."""

    def __init__(self, scaling: Scaling, learned: list[tuple[PlainClassifier, NDArray[np.int64]]]) -> None:
        self._scaling = scaling
        self._learned = learned

    @classmethod
    def of(cls, evidence: Evidence) -> Job[_PlainClassifiers]:
        training, classes = evidence.training, len(evidence.classes)
        features = yield from _features(evidence, training)
        scaling = Scaling.of(features)
        of = waves(scaling.apply(features))
        learned = []
        for number in range(CLASSIFIERS):
            yield Progress(number, CLASSIFIERS, "asking classifiers that need no network")
            rng = random_generator(number, "training images of a plain classifier")
            seen = np.flatnonzero(rng.random(len(training)) >= HELD)
            learned.append((PlainClassifier.fit(of[seen], training.true[seen], classes), training.rows[seen]))
        return cls(scaling, learned)

    def agree(self, evidence: Evidence, answered: Answered) -> Job[NDArray[np.bool_]]:
        """Whether every one that did not learn from an image says of it what the model says, and one there is."""
        of = waves(self._scaling.apply((yield from _features(evidence, answered))))
        alike, unseen = np.ones(len(answered), bool), np.zeros(len(answered), bool)
        for classifier, rows in self._learned:
            new = ~np.isin(answered.rows, rows)
            alike &= ~new | (classifier.answers(of).argmax(axis=1) == answered.predicted)
            unseen |= new
        return alike & unseen


def _features(evidence: Evidence, of: Answered) -> Job[NDArray[np.float32]]:
    places, doing = np.arange(len(of)), "looking at images without a network"
    return (yield from features_of(lambda part: evidence.images(of, places[part]), len(of), doing))


def _supported(evidence: Evidence, plain: _PlainClassifiers) -> Job[tuple[float, float]]:
    """How many right answers looked at are as sure, and agree as much with neighbours and plain classifiers.

    And which part of those that are as sure, and agree with their neighbours, these are.
    """
    right, known = evidence.right, evidence.training.true
    if not len(right):
        return 0.0, 0.0
    near = known[evidence.known.nearest(right.statistics, NEIGHBOURS)[0]]
    agree = (near == right.predicted[:, None]).mean(axis=1)
    as_sure = np.flatnonzero((right.probability >= SURE) & (agree >= AGREE))
    if not len(as_sure):
        return 0.0, 0.0
    agreed = yield from plain.agree(evidence, right.part(as_sure))
    return float(agreed.sum()), float(agreed.mean())
