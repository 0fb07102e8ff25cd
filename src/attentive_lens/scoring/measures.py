"""Measures of a model's answers on a set, each with what it rests on: per class, by rank, by confidence, by chance.

Formulas: precision, recall, F1 (van Rijsbergen 1979, chapter 7); Wilson's interval (1927); expected calibration error
(Naeini, Cooper & Hauskrecht 2015, with bins of one width); temperature scaling (Guo, Pleiss, Sun & Weinberger 2017).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from attentive_lens.plan.measures import MEASURES
from attentive_lens.scoring.answers import SetAnswers
from attentive_lens.scoring.intervals import interval, interval_by_group
from attentive_lens.scoring.more_measures import more_measured

TOPS = (1, 2, 3, 5)
BINS = 10
THRESHOLDS = 100
"""Steps of a hundredth at which unsure answers may be withheld."""
TOP = 5
"""Classes among which the true one is looked for, class by class."""


@dataclass(frozen=True)
class Share:
    """A part of so many, with its 95 % interval; all None of nothing.

    Attributes
    ----------
    count, of : int
        How many of how many.
    value, low, high : float or None
        0–1; the interval allows for images that belong together, where shares are `by_group`.
    """

    count: int
    of: int
    value: float | None
    low: float | None
    high: float | None

    @property
    def words(self) -> str:
        """With its interval, in hundredths."""
        if self.value is None or self.low is None or self.high is None:
            return "–"
        return f"{self.value:.1%} ({self.low * 100:.0f}–{self.high * 100:.0f})"

    @property
    def bounds(self) -> tuple[float, float]:
        """Of the interval; of nothing all there is."""
        return (0.0, 1.0) if self.low is None or self.high is None else (self.low, self.high)

    @classmethod
    def made(cls, count: int, of: int) -> Share:
        """From counts."""
        if not of:
            return cls(0, 0, None, None, None)
        low, high = interval(count / of, of)
        return cls(count, of, count / of, low, high)

    @classmethod
    def by_group(cls, hits: NDArray[np.bool_], groups: NDArray[np.int64]) -> Share:
        """Of N images by groups in which they may be alike, see `interval_by_group`; one group tells of no other."""
        share, several = cls.made(int(hits.sum()), len(hits)), len(np.unique(groups))
        if several == len(hits):
            return share
        low, high = interval_by_group(hits, groups) if several > 1 else (0.0, 1.0)
        return replace(share, low=low, high=high)


@dataclass(frozen=True)
class Overview:
    """A set's scores in a few figures.

    Attributes
    ----------
    accuracy : Share
        Answered rightly.
    loss : float
        Mean, of the function the model was trained by.
    top : tuple of tuple
        k and the share of images whose true class is among the k that scored highest, for k below the classes.
    balanced_accuracy, macro_f1 : float or None
        Means over the classes that have images (F1: or were said).
    chance, majority : float or None
        What guessing evenly, and always saying the class with most images, would get.
    more : tuple of tuple
        Name and value of every measure that a package brings.
    """

    accuracy: Share
    loss: float
    top: tuple[tuple[int, Share], ...]
    balanced_accuracy: float | None
    macro_f1: float | None
    chance: float | None
    majority: float | None
    more: tuple[tuple[str, float], ...] = ()

    @property
    def more_in_words(self) -> tuple[tuple[str, str], ...]:
        """Those of packages, to be read."""
        return tuple((MEASURES[name].label, f"{value:.3f}") for name, value in self.more if name in MEASURES)


@dataclass(frozen=True)
class OfClass:
    """How one class did.

    Attributes
    ----------
    name : str
        Of the class.
    precision, recall : Share
        Right among those said to be of it; right among those of it.
    f1 : float or None
        Harmonic mean of the two; None where it has no images and was never said.
    support : int
        Images of it.
    confidence : float or None
        Mean probability of the answer over its images.
    taken_for : str
        The class it is most often taken for; empty where it never is.
    taken : int
        How often.
    top5 : float or None
        Part of its images for which it is among the five classes that score highest; None without images, or where
        there are no more than five classes.
    """

    name: str
    precision: Share
    recall: Share
    f1: float | None
    support: int
    confidence: float | None
    taken_for: str
    taken: int
    top5: float | None = None


@dataclass(frozen=True)
class Bin:
    """Answers whose probability lies between two ends.

    Attributes
    ----------
    low, high : float
        The ends.
    right, images : int
        Right ones, and all.
    confidence : float or None
        Their mean probability.
    """

    low: float
    high: float
    right: int
    images: int
    confidence: float | None


@dataclass(frozen=True)
class Confusion:
    """Two classes of which one is taken for the other."""

    true: str
    predicted: str
    images: int
    of: int


@dataclass(frozen=True)
class Measures:
    """All that is measured of a set's answers; what speaks of probabilities is empty for raw scores.

    Attributes
    ----------
    overview : Overview
        In a few figures.
    by_class : tuple of OfClass
        Every class, in the order of the classes.
    confusions : tuple of Confusion
        Every pair of classes of which one was taken for the other, the most frequent first.
    calibration : tuple of Bin
        Answers by their probability.
    calibration_error : float or None
        How far accuracy lies from probability, 0–1.
    accepted, accepted_right : tuple of int
        Answers that are at least so sure, and the right ones among them, for every hundredth from 0 to 1.
    """

    overview: Overview
    by_class: tuple[OfClass, ...]
    confusions: tuple[Confusion, ...]
    calibration: tuple[Bin, ...]
    calibration_error: float | None
    accepted: tuple[int, ...]
    accepted_right: tuple[int, ...]

    def withheld(self, step: int) -> tuple[Share, Share]:
        """Accepted answers, of all, and right ones, of those accepted, where those less sure than step/100 are not."""
        accepted, right = self.accepted[step], self.accepted_right[step]
        return Share.made(accepted, self.accepted[0]), Share.made(right, accepted)


def measures_of(scores: SetAnswers) -> Measures:
    """All of one set."""
    known = scores.output != "none"
    sure, right = _sure_and_right(scores)
    steps = np.arange(THRESHOLDS + 1) / THRESHOLDS if known else np.zeros(0)
    accepted = [len(each) - np.searchsorted(np.sort(each), steps) for each in (sure, sure[right])]
    return Measures(
        overview(scores),
        per_class(scores),
        confusions(scores),
        calibration(scores) if known else (),
        calibration_error(scores) if known else None,
        *(tuple(counts.tolist()) for counts in accepted),
    )


def overview(scores: SetAnswers) -> Overview:
    """Of one set."""
    matrix = scores.confusion
    support = matrix.sum(axis=1)
    images = int(matrix.sum())
    classes = per_class(scores)
    recalls = [each.recall.value for each in classes if each.recall.value is not None]
    f1s = [each.f1 for each in classes if each.f1 is not None]
    ranks = ranks_of_true(scores)
    return Overview(
        Share.by_group(scores.predicted == scores.true, scores.groups),
        scores.loss,
        tuple((k, Share.by_group(ranks < k, scores.groups)) for k in TOPS if 1 < k < len(scores.classes)),
        float(np.mean(recalls)) if recalls else None,
        float(np.mean(f1s)) if f1s else None,
        1 / len(scores.classes) if scores.classes else None,
        float(support.max() / images) if images else None,
        tuple(more_measured(scores.probabilities, scores.true).items()),
    )


def per_class(scores: SetAnswers) -> tuple[OfClass, ...]:
    """Of every class, in the order of the classes."""
    matrix = scores.confusion
    predicted, support = matrix.sum(axis=0), matrix.sum(axis=1)
    true = scores.true
    sure = np.array([answer.probability for answer in scores.answers], np.float64)
    sums = np.bincount(true, sure, len(scores.classes))
    near = ranks_of_true(scores) < TOP
    among = np.bincount(true, near, len(scores.classes))
    several = len(scores.classes) > TOP
    members = [
        np.split(np.argsort(labels, kind="stable"), np.cumsum(counts)[:-1])
        for labels, counts in ((scores.predicted, predicted), (true, support))
    ]
    result = []
    for k, name in enumerate(scores.classes):
        others = matrix[k].copy()
        others[k] = 0
        most = int(others.argmax()) if len(others) else 0
        right, met = int(matrix[k, k]), int(support[k] + predicted[k])
        said, own = members[0][k], members[1][k]
        result.append(
            OfClass(
                name,
                Share.by_group(true[said] == k, scores.groups[said]),
                Share.by_group(scores.predicted[own] == k, scores.groups[own]),
                2 * right / met if met else None,
                int(support[k]),
                float(sums[k] / support[k]) if support[k] else None,
                scores.classes[most] if others[most] else "",
                int(others[most]),
                float(among[k] / support[k]) if several and support[k] else None,
            )
        )
    return tuple(result)


def confusions(scores: SetAnswers) -> tuple[Confusion, ...]:
    """Every pair of classes of which one was taken for the other, the most frequent first."""
    matrix = scores.confusion
    support = matrix.sum(axis=1)
    pairs = [(int(matrix[t, s]), int(t), int(s)) for t, s in np.argwhere(matrix) if t != s]
    names = scores.classes
    return tuple(
        Confusion(names[t], names[s], count, int(support[t]))
        for count, t, s in sorted(pairs, key=lambda pair: (-pair[0], -pair[0] / support[pair[1]], pair[1], pair[2]))
    )


def ranks_of_true(scores: SetAnswers) -> NDArray[np.int64]:
    """How many classes scored higher than the true one, for every image, N."""
    true = scores.true
    if not len(true):
        return np.zeros(0, np.int64)
    own = scores.probabilities[np.arange(len(true)), true][:, None]
    return np.asarray((scores.probabilities > own).sum(axis=1), np.int64)


def calibration(scores: SetAnswers, bins: int = BINS) -> tuple[Bin, ...]:
    """Answers by their probability, in bins of one width from 0 to 1."""
    sure, right = _sure_and_right(scores)
    place = np.minimum((sure * bins).round(5).astype(np.int64), bins - 1)  # 0.7 of single precision is 0.7
    counts, rights = np.bincount(place, minlength=bins), np.bincount(place, right, bins)
    sums = np.bincount(place, sure, bins)
    return tuple(
        Bin(k / bins, (k + 1) / bins, int(rights[k]), int(n), float(sums[k] / n) if n else None)
        for k, n in enumerate(counts.tolist())
    )


def calibration_error(scores: SetAnswers, bins: int = BINS) -> float | None:
    """Expected calibration error: how far accuracy lies from probability, mean over the images; None without any."""
    parts = [each for each in calibration(scores, bins) if each.images]
    images = sum(each.images for each in parts)
    if not images:
        return None
    return sum(abs(each.right - (each.confidence or 0.0) * each.images) for each in parts) / images


def fitted_temperature(scores: SetAnswers) -> float | None:
    """By which raw scores are divided so that the set's loss is least; None where answers are no probabilities.

    Softmax answers are enough for it: their logarithms are the raw scores but for a constant an image.
    """
    if scores.output != "softmax" or not len(scores.answers):
        return None
    from scipy.optimize import minimize_scalar  # only here: it takes half a second to import

    true = scores.true
    raw = np.log(np.maximum(scores.probabilities.astype(np.float64), 1e-30))

    def loss(log_temperature: float) -> float:
        scaled = raw / np.exp(log_temperature)
        scaled -= scaled.max(axis=1, keepdims=True)
        own = scaled[np.arange(len(true)), true]
        return float((np.log(np.exp(scaled).sum(axis=1)) - own).mean())

    result = minimize_scalar(loss, bounds=(-3.0, 3.0), method="bounded")
    return float(np.exp(result.x))


def _sure_and_right(scores: SetAnswers) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    sure = np.array([answer.probability for answer in scores.answers], np.float64)
    right = scores.predicted == scores.true
    return sure, right
