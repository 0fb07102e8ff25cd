"""What a finder of causes gets and gives."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.causes.grouping import Group
from attentive_lens.explaining.channel_statistics import Known
from attentive_lens.explaining.trials import CoverTrial
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.rows import Pixels
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor

FEWEST = 5
"""Mistakes from which a group is told."""
BY_CHANCE = 0.001
"""Probability that a difference is chance, below which it is told; divided by how many were looked at."""
MOST_PAIRS = 3
"""Confusions of a group that are named, the most frequent first."""
MOST_CLASSES = 3
NEIGHBOURS = 15
NEAREST = 3
"""Training images whose mean distance is an image's distance from all of them."""
USUAL = 0.98
"""Part of the right answers that lie no farther: beyond is far."""


@dataclass(frozen=True, eq=False)
class Answered:
    """Some images and what the model answers to them.

    Attributes
    ----------
    rows : ndarray, N int64
        Where their pixels are.
    true, predicted : ndarray, N int64
        Classes.
    probability : ndarray, N float
        Of what is said.
    sizes : ndarray, N×2 int64
        Height and width of each file.
    origins : tuple of tuple of str
        Where each is from, in words: «folder left bench», «source 2», «PNG files».
    units : ndarray, N int64
        What belongs together, as tiles of one photograph do, has one number.
    statistics : ndarray, N×D
        Channel statistics.
    measures : dict
        Word → N values, see `quality.MEASURES`.
    total : int
        How many there are of which these are a fair part.
    """

    rows: NDArray[np.int64]
    true: NDArray[np.int64]
    predicted: NDArray[np.int64]
    probability: NDArray[np.float64]
    sizes: NDArray[np.int64]
    origins: tuple[tuple[str, ...], ...]
    units: NDArray[np.int64]
    statistics: Array
    measures: dict[str, NDArray[np.float64]]
    total: int

    def __len__(self) -> int:
        """Images."""
        return len(self.rows)

    def part(self, places: NDArray[np.int64]) -> Answered:
        """Some of them alone."""
        return Answered(
            self.rows[places],
            self.true[places],
            self.predicted[places],
            self.probability[places],
            self.sizes[places],
            tuple(self.origins[k] for k in places),
            self.units[places],
            self.statistics[places],
            {word: values[places] for word, values in self.measures.items()},
            len(places),
        )

    @property
    def weight(self) -> float:
        """How many images each of these stands for."""
        return self.total / max(1, len(self))


@dataclass(frozen=True, eq=False)
class Evidence:
    """The mistakes of a run on a set, and what they can be compared with.

    Attributes
    ----------
    predictor : Predictor
        The model that made them.
    plan : Plan
        It was trained by.
    pixels : ndarray, M×H×W×C uint8
        All images at the input size; may be larger than memory.
    mistakes, right : Answered
        Of the set: wrong answers, and a fair part of the right ones.
    training : Answered
        A fair part of the training images.
    groups : tuple of Group
        The mistakes by what their maps rest on.
    scored : int
        Images of the set.
    covered : Mapping
        How much of each pixel is the object's, H×W, by the row of an image whose outline is known.
    """

    predictor: Predictor
    plan: Plan
    pixels: Pixels
    mistakes: Answered
    right: Answered
    training: Answered
    groups: tuple[Group, ...]
    scored: int
    covered: Mapping[int, NDArray[np.float32]] = field(default_factory=dict)

    def repeated(self, inside: NDArray[np.bool_], right_inside: NDArray[np.bool_]) -> float:
        """How many of the images that have something belong together, on average.

        Tiles of one photograph share its colours and are mistaken together: so many count as one.
        """
        units = np.concatenate([self.mistakes.units[inside], self.right.units[right_inside]])
        return max(1.0, len(units) / max(1, len(np.unique(units))))

    @property
    def classes(self) -> tuple[str, ...]:
        """Names by class number."""
        return self.predictor.classes

    @cached_property
    def known(self) -> Known:
        """The training images, to compare others with."""
        return Known.of(self.training.statistics)

    @cached_property
    def neighbours(self) -> tuple[NDArray[np.int64], Array]:
        """Classes of the nearest training images of each mistake, and their distances: N×`NEIGHBOURS`."""
        rows, distances = self.known.nearest(self.mistakes.statistics, NEIGHBOURS)
        return self.training.true[rows], distances

    def left(self, places: NDArray[np.int64]) -> Evidence:
        """The same for some of the mistakes alone, of which nothing is known yet."""
        position = {int(place): k for k, place in enumerate(places)}
        groups = []
        for group in self.groups:
            members = [position[k] for k in group.members.tolist() if k in position]
            if members:
                groups.append(replace(group, members=np.array(members, np.int64)))
        return replace(self, mistakes=self.mistakes.part(places), groups=tuple(groups))

    @cached_property
    def distances(self) -> NDArray[np.float64]:
        """Of each mistake from the training images, N."""
        return np.asarray(self.neighbours[1][:, :NEAREST].mean(axis=1))

    @cached_property
    def right_distances(self) -> NDArray[np.float64]:
        """Of each right answer from the training images."""
        return np.asarray(self.known.nearest(self.right.statistics, NEAREST)[1].mean(axis=1))

    @property
    def far(self) -> float:
        """The distance from which an image is unlike all training images; infinite with too few right answers."""
        enough = len(self.right) >= 1 / (1 - USUAL) and len(self.training) >= NEAREST
        return float(np.quantile(self.right_distances, USUAL)) if enough else np.inf

    def images(self, of: Answered, places: NDArray[np.int64]) -> PixelArray:
        """Some of the images, n×H×W×C."""
        return np.asarray(self.pixels[of.rows[places]])

    def confusions(self, members: Sequence[int]) -> list[tuple[tuple[str, str], int]]:
        """The most frequent pairs of true and said class among some mistakes."""
        wrong = self.mistakes
        pairs = Counter((self.classes[wrong.true[k]], self.classes[wrong.predicted[k]]) for k in members)
        return pairs.most_common(MOST_PAIRS)

    def classes_in_words(self, members: Sequence[int]) -> str:
        """The classes on the labels of some mistakes, the most frequent first: «a (7), b (2)»."""
        counts = Counter(self.classes[self.mistakes.true[k]] for k in members)
        return ", ".join(f"{name} ({count})" for name, count in counts.most_common(MOST_CLASSES))

    def pairs_in_words(self, members: Sequence[int]) -> str:
        """«a said to be b (7), b said to be c (2)»."""
        return ", ".join(
            f"{true} said to be {predicted} ({count})" for (true, predicted), count in self.confusions(members)
        )


@dataclass(frozen=True, eq=False)
class CauseFound:
    """Mistakes that come from the same thing, so far as can be tried and counted.

    Attributes
    ----------
    kind : str
        A word: "place", "channel", "object", "quality", "origin", "label", "unlike training", "overlap", or "other".
    short : str
        What the mistakes do, after their number: «rest on one place».
    members : tuple of int
        Places among the mistakes, the most typical first.
    why, remedy : str
        One sentence each, without a full stop: what was found and tried, with its figures; what to do.
    figures : dict
        What was measured, by words: parts 0–1, or in the unit that the word names.
    plan : Plan or None
        The plan that should end it, if a plan can.
    group, trial : Group and CoverTrial, or None
        The maps' group, and what came of covering its place.
    """

    kind: str
    short: str
    members: tuple[int, ...]
    why: str
    remedy: str
    figures: dict[str, float]
    plan: Plan | None = None
    group: Group | None = None
    trial: CoverTrial | None = None


class Finder(ABC):
    """Base of the finders: one file and one line in the table each.

    Attributes
    ----------
    compares : bool
        Whether mistakes are compared with training images, so that nothing can be told without any.
    """

    compares: ClassVar[bool] = True

    @abstractmethod
    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """The largest cause of this kind, or none; a job of short steps. It is asked again about the mistakes left."""


def mistakes_in_words(count: int) -> str:
    """«1 mistake», «7 mistakes»."""
    return "1 mistake" if count == 1 else f"{count} mistakes"


def more_often(evidence: Evidence, inside: NDArray[np.bool_], right_inside: NDArray[np.bool_]) -> float:
    """Probability that as many of the mistakes, or more, have something that some right answers have, by chance.

    The hypergeometric tail of a 2×2 table (Fisher's exact test, one-sided), what belongs together counted as one.
    """
    from scipy.stats import hypergeom  # only here: it takes half a second to import

    repeated = evidence.repeated(inside, right_inside)
    counts = (inside.sum(), right_inside.sum(), len(inside), len(right_inside))
    wrong, right, wrong_of, right_of = (round(count / repeated) for count in counts)
    return float(hypergeom.sf(wrong - 1, wrong_of + right_of, wrong + right, wrong_of))
