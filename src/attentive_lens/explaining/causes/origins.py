"""Mistakes that come from one part of the source: a folder, a camera, a format, names that begin alike."""

from __future__ import annotations

from collections import Counter

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.explaining.causes.base import (
    BY_CHANCE,
    FEWEST,
    Answered,
    CauseFound,
    Evidence,
    Finder,
    mistakes_in_words,
)

OFTEN = 1.5
"""Times as many mistakes as chance gives within the classes, for a part of the source to be told."""


class Origins(Finder):
    """A part of the source in which the same classes are answered wrongly far more often than elsewhere."""

    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """The part with the largest surplus of mistakes."""
        yield Progress(0, 1, "comparing parts of the source")
        wrong, right = evidence.mistakes, evidence.right
        counts = Counter(word for words in wrong.origins for word in words)
        words = sorted(word for word, count in counts.items() if count >= FEWEST)
        best: tuple[float, str, float] | None = None
        for word in words:
            inside, right_inside = _within(wrong, word), _within(right, word)
            counts_of = _counts(evidence, inside, right_inside)
            expected = _expected(*counts_of[1:])
            repeated = evidence.repeated(inside, right_inside)
            chance = _chance(*(np.round(count / repeated).astype(np.int64) for count in counts_of))
            surplus, often = inside.sum() - expected, inside.sum() >= OFTEN * expected
            if often and chance <= BY_CHANCE / len(words) and (best is None or surplus > best[0]):
                best = (surplus, word, expected)
        return None if best is None else self._told(evidence, best[1], best[2])

    def _told(self, evidence: Evidence, word: str, expected: float) -> CauseFound:
        wrong, right, training = evidence.mistakes, evidence.right, evidence.training
        inside, right_inside = _within(wrong, word), _within(right, word)
        members = np.flatnonzero(inside)
        members = members[np.argsort(-wrong.probability[members], kind="stable")]
        answered = round(right.weight * right_inside.sum())
        trained = _within(training, word)
        part = float(trained.mean()) if len(training) else 0.0
        images = round(training.weight * trained.sum())
        beside = "1 right answer" if answered == 1 else f"{answered} right answers"
        learned = f"{_images(images)} from there ({part:.0%} of the training images) were trained on"
        why = (
            f"{mistakes_in_words(len(members))} are from one part of the source, {word}, beside {beside}: dealt out"
            f" within the classes, it would hold {expected:.1f} of them;"
            f" {learned if images else 'no image from there was trained on'}:"
            f" {evidence.pairs_in_words(members.tolist())}"
        )
        most = evidence.classes_in_words(members.tolist())
        if images == 0:
            remedy = f"Put images from there into the training set, of {most} first"
        else:
            remedy = f"Add training images from there, of {most} first; look at what is different there"
        figures = {"mistakes": float(len(members)), "expected": expected, "part of the training images": part}
        return CauseFound("origin", f"are from {word}", tuple(members.tolist()), why, remedy, figures)


def _within(answered: Answered, word: str) -> NDArray[np.bool_]:
    return np.array([word in words for words in answered.origins], bool)


def _counts(
    evidence: Evidence, inside: NDArray[np.bool_], right_inside: NDArray[np.bool_]
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """By class, K: mistakes and images of the part, mistakes and images of all."""
    wrong, right = evidence.mistakes, evidence.right
    classes = len(evidence.classes)

    def count(labels: NDArray[np.int64]) -> NDArray[np.float64]:
        return np.bincount(labels, minlength=classes).astype(np.float64)

    wrong_in, wrong_all = count(wrong.true[inside]), count(wrong.true)
    right_in, right_all = right.weight * count(right.true[right_inside]), right.weight * count(right.true)
    return wrong_in, wrong_in + right_in, wrong_all, wrong_all + right_all


def _expected(images_in: NDArray[np.float64], wrong: NDArray[np.float64], images: NDArray[np.float64]) -> float:
    """Mistakes that the part holds on average where each class's mistakes are dealt out among its images.

    A class that is nowhere else keeps its own: that it is hard is no fault of the part.
    """
    return float((images_in * wrong / np.maximum(images, 1)).sum())


def _chance(
    wrong_in: NDArray[np.int64], images_in: NDArray[np.int64], wrong: NDArray[np.int64], images: NDArray[np.int64]
) -> float:
    """Probability of so many mistakes or more in the part where each class's are dealt out among its images.

    Exact: hypergeometric within a class (Fisher 1935), convolved over the classes. No rate is taken as known.
    """
    from scipy.stats import hypergeom  # only here: it takes half a second to import

    whole = np.ones(1)
    for inside, bad, every in zip(images_in, wrong, images, strict=True):
        every, bad = max(int(every), int(bad)), int(bad)
        inside = min(int(inside), every)
        if inside and bad:
            whole = np.convolve(whole, hypergeom.pmf(np.arange(min(inside, bad) + 1), every, bad, inside))
    return float(min(1.0, whole[int(wrong_in.sum()) :].sum()))


def _images(count: int) -> str:
    return "1 image" if count == 1 else f"{count} images"
