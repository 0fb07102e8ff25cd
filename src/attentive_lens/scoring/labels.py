"""How a model that answers several labels did on a set: label by label, by rank, and which labels go together."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.plan.labels import label_set
from attentive_lens.scoring.measures import Share
from attentive_lens.scoring.ranking import area_under_curve, average_precision, label_ranking
from attentive_lens.scoring.thresholds import f1_of, mean_known

Counts: TypeAlias = tuple[tuple[int, ...], ...]
"""Images by two labels."""


@dataclass(frozen=True, eq=False)
class LabelAnswers:
    """What was answered to the images of a set, whatever the thresholds.

    Attributes
    ----------
    on : str
        Name of the set.
    labels : tuple of str
        By number, K.
    numbers : ndarray, N int64
        Every image's number in the catalogue.
    there : ndarray, N×K uint8
        Labels that each image has.
    probabilities : ndarray, N×K float32
        Answers.
    losses : ndarray, N float32
        Of every image, all labels together, without label smoothing and class weights.
    """

    on: str
    labels: tuple[str, ...]
    numbers: NDArray[np.int64]
    there: NDArray[np.uint8]
    probabilities: NDArray[np.float32]
    losses: NDArray[np.float32]


@dataclass(frozen=True)
class OfLabel:
    """How one label did.

    Attributes
    ----------
    name : str
        Of the label.
    threshold : float
        From which probability it is said.
    by : str
        What that was chosen by.
    support : int
        Images that have it.
    precision, recall : Share
        Of those said to have it, that do; of those that have it, that are said to.
    f1 : float or None
        Their harmonic mean; None where it is in no image and never said.
    average_precision, area : float or None
        Average precision, and area under the ROC curve; whatever the threshold.
    missed, false : tuple of int
        Numbers of the images that have it and are not said to, and the other way round; what was surest first.
    """

    name: str
    threshold: float
    by: str
    support: int
    precision: Share
    recall: Share
    f1: float | None
    average_precision: float | None
    area: float | None
    missed: tuple[int, ...]
    false: tuple[int, ...]


@dataclass(frozen=True, eq=False)
class LabelScores:
    """Of all labels on one set.

    Attributes
    ----------
    run : int
        Its number.
    on : str
        Name of the set.
    images : int
        How many, N.
    labels : tuple of str
        By number, K.
    loss : float
        Mean, all labels together.
    exact_match, label_accuracy : Share
        Images of which every label is said rightly; of all answers, has it or not, those that are right.
    nothing_said : Share
        What label accuracy would be if no label were ever said: what it is worth.
    macro_f1, micro_f1 : float or None
        Mean of the labels' F1, and F1 of all answers together.
    mean_average_precision, chance : float or None
        Mean over labels, and what images in any order would get: the part that has a label, on average.
    label_ranking_average_precision, coverage, ranking_loss : float or None
        Of the labels of each image, by rank, see `ranking.label_ranking`.
    by_label : tuple of OfLabel
        Every label.
    together, said_together, exchanged : tuple of tuple of int, K×K
        Images that have both labels (one of them on the diagonal); that are said to; and that have the row's label,
        which is missed, and are falsely said to have the column's.
    numbers : ndarray, N int64
        Of the images.
    there, said : ndarray, N×K uint8
        Labels they have, and are said to have.
    probabilities : ndarray, N×K float32
        Answers.
    groups : ndarray, N int64
        One number for images that belong together, and may be answered alike.
    """

    run: int
    on: str
    images: int
    labels: tuple[str, ...]
    loss: float
    exact_match: Share
    label_accuracy: Share
    nothing_said: Share
    macro_f1: float | None
    micro_f1: float | None
    mean_average_precision: float | None
    chance: float | None
    label_ranking_average_precision: float | None
    coverage: float | None
    ranking_loss: float | None
    by_label: tuple[OfLabel, ...]
    together: Counts
    said_together: Counts
    exchanged: Counts
    numbers: NDArray[np.int64]
    there: NDArray[np.uint8]
    said: NDArray[np.uint8]
    probabilities: NDArray[np.float32]
    groups: NDArray[np.int64]

    @cached_property
    def places(self) -> dict[int, int]:
        """The row of every image, by its number."""
        return {image: row for row, image in enumerate(self.numbers.tolist())}

    def names(self, row: NDArray[np.uint8]) -> str:
        """The labels of a row K, in words."""
        return label_set(name for name, on in zip(self.labels, row.tolist(), strict=True) if on)

    @cached_property
    def wrong(self) -> tuple[int, ...]:
        """Numbers of the images with a label that is said wrongly, those with most such labels first."""
        mistakes = (self.there != self.said).sum(axis=1)
        order = np.lexsort((self.numbers, -mistakes))
        return tuple(self.numbers[[k for k in order if mistakes[k]]].tolist())


def label_scores(
    run: int,
    answers: LabelAnswers,
    thresholds: tuple[float, ...],
    by: tuple[str, ...],
    groups: NDArray[np.int64] | None = None,
) -> LabelScores:
    """Of answers, a label being said above its threshold; ``by`` is what each was chosen by.

    ``groups``, N, are one number for images that belong together; each is by itself if left out.
    """
    own = np.arange(len(answers.numbers)) if groups is None else groups
    there, probabilities = answers.there.astype(bool), answers.probabilities
    said = probabilities > np.asarray(thresholds, np.float32)
    labels = tuple(
        _of_label(name, thresholds[k], by[k], answers.numbers, there[:, k], said[:, k], probabilities[:, k], own)
        for k, name in enumerate(answers.labels)
    )
    right, count = said == there, len(there)
    cells = np.repeat(own, there.shape[1])
    both, met = int((said & there).sum()), int(said.sum() + there.sum())
    precisions = tuple(each.average_precision for each in labels)
    having = [float(there[:, k].mean()) for k in range(there.shape[1]) if there[:, k].any()]
    missed, false = (there & ~said).astype(np.int64), (said & ~there).astype(np.int64)
    has, says = there.astype(np.int64), said.astype(np.int64)
    return LabelScores(
        run,
        answers.on,
        count,
        answers.labels,
        float(answers.losses.mean(dtype=np.float64)),
        Share.by_group(right.all(axis=1), own),
        Share.by_group(right.ravel(), cells),
        Share.by_group(~there.ravel(), cells),
        mean_known(f1_of(said, there)),
        2 * both / met if met else None,
        mean_known(precisions),
        float(np.mean(having)) if having else None,
        *label_ranking(probabilities, there),
        labels,
        _counts(has.T @ has),
        _counts(says.T @ says),
        _counts(missed.T @ false),
        answers.numbers,
        answers.there,
        said.astype(np.uint8),
        probabilities,
        own,
    )


def _counts(table: NDArray[np.int64]) -> Counts:
    return tuple(tuple(row) for row in table.tolist())


def _of_label(
    name: str,
    threshold: float,
    by: str,
    numbers: NDArray[np.int64],
    there: NDArray[np.bool_],
    said: NDArray[np.bool_],
    probabilities: NDArray[np.float32],
    groups: NDArray[np.int64],
) -> OfLabel:
    support = int(there.sum())
    missed, false = np.flatnonzero(there & ~said), np.flatnonzero(said & ~there)
    surest_missed = missed[np.argsort(probabilities[missed], kind="stable")]
    surest_false = false[np.argsort(-probabilities[false], kind="stable")]
    return OfLabel(
        name,
        threshold,
        by,
        support,
        Share.by_group(there[said], groups[said]),
        Share.by_group(said[there], groups[there]),
        f1_of(said[:, None], there[:, None])[0],
        average_precision(probabilities, there),
        area_under_curve(probabilities, there),
        tuple(numbers[surest_missed].tolist()),
        tuple(numbers[surest_false].tolist()),
    )


__all__ = ["LabelAnswers", "LabelScores", "OfLabel", "label_scores"]
