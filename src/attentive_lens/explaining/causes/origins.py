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
"""Times as many mistakes as the classes alone would give, for a part of the source to be told."""


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
            expected = _expected(evidence, inside, right_inside)
            images = inside.sum() + right.weight * right_inside.sum()
            surplus = inside.sum() - expected
            repeated = evidence.repeated(inside, right_inside)
            mistakes, answers = (round(count / repeated) for count in (inside.sum(), images))
            chance = _tail(mistakes, answers, expected / max(1.0, images))
            often = inside.sum() >= OFTEN * expected
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
            f"{mistakes_in_words(len(members))} are from one part of the source, {word}, beside {beside}: its classes"
            f" would give {expected:.0f} if it were like the rest;"
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


def _expected(evidence: Evidence, inside: NDArray[np.bool_], right_inside: NDArray[np.bool_]) -> float:
    """Mistakes that the part's images would give if each class were answered there as elsewhere.

    A class that is nowhere else is taken as it is: that it is hard is no fault of the part.
    """
    wrong, right = evidence.mistakes, evidence.right
    classes = len(evidence.classes)

    def count(labels: NDArray[np.int64], which: NDArray[np.bool_]) -> NDArray[np.float64]:
        return np.bincount(labels[which], minlength=classes).astype(np.float64)

    wrong_in, right_in = count(wrong.true, inside), right.weight * count(right.true, right_inside)
    wrong_out, right_out = count(wrong.true, ~inside), right.weight * count(right.true, ~right_inside)
    overall = (wrong_out.sum() + 1) / (wrong_out.sum() + right_out.sum() + 2)
    rate = (wrong_out + 2 * overall) / (wrong_out + right_out + 2)  # few images of a class lean on all
    elsewhere = wrong_out + right_out > 0
    return float(np.where(elsewhere, (wrong_in + right_in) * rate, wrong_in).sum())


def _tail(mistakes: int, images: int, rate: float) -> float:
    """Probability of so many mistakes or more among the images, by the binomial distribution."""
    from scipy.stats import binom  # only here: it takes half a second to import

    return float(binom.sf(mistakes - 1, max(mistakes, images), min(1.0, rate)))


def _images(count: int) -> str:
    return "1 image" if count == 1 else f"{count} images"
