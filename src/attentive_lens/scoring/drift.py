"""How the images of a day, or of a folder, differ from those a model was judged on: measure by measure, beyond chance.

Every measure is cut into bins by the held-out images' own quantiles, so that a day is a handful of counts: it can be
kept, added to and compared at any time, and no image of it need be kept.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from attentive_lens.scoring.intervals import interval

BINS = 20
"""Of each measure, alike in held-out images."""
BY_CHANCE = 0.01
"""Probability that a day without a difference is told to have one; divided by how many measures are looked at."""
LEAST = 0.2
"""Distance between two distributions, 0 to 1, below which a difference is not told however certain it is."""
SMALL = 0.2
"""Deviations that a mean must have moved for a direction to be told."""
FEATURE = "feature "
"""How the names of the network's features begin."""
MOST_WORDS = 3
"""Measures named in a sentence."""
FEWEST = 20
"""Images of a day below which nothing is told of it."""


@dataclass(frozen=True, eq=False)
class DriftReference:
    """What held-out images are like, for others to be compared with.

    Attributes
    ----------
    measures : tuple of str
        What was measured of each image, M.
    classes : tuple of str
        The model's, K.
    edges : ndarray, M×(B−1) float64
        Values between the bins of each measure.
    values : ndarray, N×M float64
        The measures of each held-out image.
    predicted : ndarray, N int64
        The class that is said of each.
    words : tuple of pairs of str
        What images with low and with high values of a measure do, as «are darker than usual»; M, empty where there are
        no words for it.
    """

    measures: tuple[str, ...]
    classes: tuple[str, ...]
    edges: NDArray[np.float64]
    values: NDArray[np.float64]
    predicted: NDArray[np.int64]
    words: tuple[tuple[str, str], ...] = ()

    @classmethod
    def of(
        cls,
        measures: Sequence[str],
        classes: Sequence[str],
        values: NDArray[np.float64],
        predicted: NDArray[np.int64],
        words: Sequence[tuple[str, str]] = (),
    ) -> DriftReference:
        """From the measures of held-out images, N×M, and the classes that are said of them, N."""
        edges = np.quantile(values, np.arange(1, BINS) / BINS, axis=0).T
        return cls(tuple(measures), tuple(classes), edges, values, predicted, tuple(words))

    @cached_property
    def bins(self) -> NDArray[np.uint8]:
        """The bin that each held-out image lies in, N×M."""
        return bins_of(self.values, self.edges)

    @cached_property
    def std(self) -> NDArray[np.float64]:
        """Deviation of each measure, M."""
        return np.asarray(np.maximum(self.values.std(axis=0), 1e-9))

    def __len__(self) -> int:
        """Held-out images."""
        return len(self.values)

    def weighted_as(self, mix: NDArray[np.int64]) -> NDArray[np.float64]:
        """Weights of the held-out images, N, with which the classes said come in the proportions of a day, K counts."""
        own = np.bincount(self.predicted, minlength=len(self.classes))
        share = np.divide(mix, own, out=np.zeros(len(own)), where=own > 0)
        return np.asarray(share[self.predicted])


def bins_of(values: NDArray[np.float64], edges: NDArray[np.float64]) -> NDArray[np.uint8]:
    """The bins, N×M, that values N×M lie in; a value on an edge lies below it."""
    columns = [np.searchsorted(own, column, side="left") for own, column in zip(edges, values.T, strict=True)]
    return np.stack(columns, axis=1).astype(np.uint8)


@dataclass
class DriftCounts:
    """What is kept of a day's images.

    Attributes
    ----------
    images : int
        How many were measured.
    bins : ndarray, M×B int64
        Of them in each bin of each measure.
    sums : ndarray, M float64
        Of each measure.
    predicted : ndarray, K int64
        Of them by the class said.
    unlike : int
        Of them unlike all training images.
    """

    images: int
    bins: NDArray[np.int64]
    sums: NDArray[np.float64]
    predicted: NDArray[np.int64]
    unlike: int = 0

    @classmethod
    def empty(cls, reference: DriftReference) -> DriftCounts:
        """Before the first image."""
        measures, classes = len(reference.measures), len(reference.classes)
        bins, predicted = np.zeros((measures, BINS), np.int64), np.zeros(classes, np.int64)
        return cls(0, bins, np.zeros(measures), predicted)

    def add(
        self,
        reference: DriftReference,
        values: NDArray[np.float64],
        predicted: NDArray[np.int64],
        unlike: int = 0,
    ) -> None:
        """Further images: their measures N×M, the classes said of them, how many are unlike all training images."""
        places = bins_of(values, reference.edges)
        for measure, own in enumerate(places.T):
            self.bins[measure] += np.bincount(own, minlength=BINS)
        self.images += len(values)
        self.sums += values.sum(axis=0)
        self.predicted += np.bincount(predicted, minlength=len(self.predicted))
        self.unlike += unlike


@dataclass(frozen=True)
class Shift:
    """How a measure of a day's images differs from that of held-out images said to be of the same classes.

    Attributes
    ----------
    measure : str
    distance : float
        Kolmogorov and Smirnov's: the largest difference between the shares of images below any value, 0 to 1.
    by_chance : float
        What so few images come to without a difference, at most.
    deviations : float
        By how much the day's mean is above, in deviations of the held-out images.
    differs : bool
        Whether it is more than chance, and enough to be told.
    words : str
        What the images do, as «are darker than usual».
    """

    measure: str
    distance: float
    by_chance: float
    deviations: float
    differs: bool
    words: str = ""

    @property
    def is_feature(self) -> bool:
        """Whether it is one of the network's features, which have no names."""
        return self.measure.startswith(FEATURE)

    def __str__(self) -> str:
        """As «are darker than usual (brightness −1.3 deviations)»; where the mean is the same, by how it is spread."""
        if abs(self.deviations) < SMALL:
            return f"have {self.measure} otherwise spread"
        by = f"{self.measure} {self.deviations:+.1f} deviations".replace("-", "−")
        return f"{self.words} ({by})" if self.words else f"have {by}"


@dataclass(frozen=True)
class Drift:
    """A day's images beside held-out ones.

    Attributes
    ----------
    name : str
        The day, or what else the images have in common.
    images : int
        How many were measured.
    shifts : tuple of Shift
        By measure, the largest distance first.
    unlike : float
        Part of them unlike all training images; of held-out images it is 2 %.
    unlike_interval : tuple of float
        Of that part, 95 %.
    mix : float
        Part of the images that would have to be of another class for the classes said to come as in held-out images.
    mix_differs : bool
        Whether that is more than chance, and enough to be told.
    predicted : dict
        Images by the class said.
    differs : bool
        Whether the images look otherwise, whatever their classes.
    sentence : str
        All that in words, without the name.
    """

    name: str
    images: int
    shifts: tuple[Shift, ...]
    unlike: float
    unlike_interval: tuple[float, float]
    mix: float
    mix_differs: bool
    predicted: dict[str, int]
    differs: bool
    sentence: str


def drift(name: str, counts: DriftCounts, reference: DriftReference) -> Drift:
    """A day's images beside held-out ones.

    Held-out images are weighted so that the classes said come as on that day: a day of one class alone has another mix,
    and its images may look as they always do. A distance is told that exceeds both `LEAST` and what chance gives in one
    day of `BY_CHANCE` (Smirnov 1948, both samples' sizes; of weighted images as many count as would vary alike, Kish
    1965), the mix by Pearson's χ² of both rows of counts.
    """
    weights = reference.weighted_as(counts.predicted)
    worth = float(weights.sum() ** 2 / max(1e-12, (weights**2).sum()))
    limit = math.inf
    if counts.images and worth:
        each = BY_CHANCE / len(reference.measures)
        limit = math.sqrt(-math.log(each / 2) / 2 * (1 / counts.images + 1 / worth))
    shifts = [_shift(reference, counts, measure, weights, limit) for measure in range(len(reference.measures))]
    mix, mixed_by_chance = _mix(counts.predicted, np.bincount(reference.predicted, minlength=len(reference.classes)))
    mix_differs = counts.images >= FEWEST and mix >= LEAST and mixed_by_chance < BY_CHANCE
    predicted = dict(zip(reference.classes, counts.predicted.tolist(), strict=True))
    shifts.sort(key=lambda shift: -shift.distance)
    share = counts.unlike / counts.images if counts.images else 0.0
    far = interval(share, counts.images) if counts.images else (0.0, 1.0)
    return Drift(
        name,
        counts.images,
        tuple(shifts),
        share,
        far,
        mix,
        mix_differs,
        predicted,
        any(shift.differs for shift in shifts),
        _sentence(counts.images, shifts, share, far, mix if mix_differs else 0.0, predicted),
    )


def _sentence(
    images: int,
    shifts: Sequence[Shift],
    unlike: float,
    far: tuple[float, float],
    mix: float,
    predicted: Mapping[str, int],
) -> str:
    if images < FEWEST:
        return f"{images} images are too few to tell whether they differ from held-out ones."
    differing = sorted((shift for shift in shifts if shift.differs), key=lambda shift: shift.is_feature)
    features = [shift for shift in differing if shift.is_feature]
    differing = [shift for shift in differing if shift not in features[1:]]  # one stands for all
    words = [str(shift) for shift in differing]
    more = f", and {len(words) - MOST_WORDS} more measures" if len(words) > MOST_WORDS else ""
    looks = f"{', '.join(words[:MOST_WORDS])}{more}" if words else "look as held-out ones do"
    strange = f"{unlike:.0%} are unlike all training images ({far[0]:.0%} to {far[1]:.0%}; usual are 2%)"
    most = max(predicted, key=lambda name: predicted[name])
    mixed = f" Classes come in another mix: {mix:.0%} would have to be of another, most are {most}." if mix else ""
    return f"{images} images {looks}; {strange}.{mixed}"


def _shift(
    reference: DriftReference, counts: DriftCounts, measure: int, weights: NDArray[np.float64], limit: float
) -> Shift:
    own = counts.bins[measure] / max(1, counts.images)
    usual = np.bincount(reference.bins[:, measure], weights, BINS) / max(1e-12, weights.sum())
    distance = float(np.abs(np.cumsum(own) - np.cumsum(usual)).max()) if counts.images else 0.0
    deviations = 0.0
    if counts.images:
        mean = float(weights @ reference.values[:, measure]) / max(1e-12, float(weights.sum()))
        deviations = (float(counts.sums[measure]) / counts.images - mean) / float(reference.std[measure])
    differs = counts.images >= FEWEST and distance > max(LEAST, limit)
    words = reference.words[measure][deviations > 0] if reference.words else ""
    return Shift(reference.measures[measure], distance, min(1.0, limit), deviations, differs, words)


def _mix(own: NDArray[np.int64], usual: NDArray[np.int64]) -> tuple[float, float]:
    """How far the proportions of two rows of K counts are apart, 0 to 1, and how often chance gives as much."""
    if not own.sum() or not usual.sum():
        return 0.0, 1.0
    mix = float(np.abs(own / own.sum() - usual / usual.sum()).sum() / 2)
    from scipy.stats import chi2_contingency  # only here: the window looks at results, and computes none

    occurring = (own + usual) > 0
    if occurring.sum() < 2:
        return mix, 1.0
    return mix, float(chi2_contingency(np.stack([own[occurring], usual[occurring]]), correction=False).pvalue)
