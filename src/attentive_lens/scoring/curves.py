"""A class against all others over every threshold: precision by recall, true by false positives, and their areas.

Formulas: the area under the ROC curve is the probability that an image of the class scores higher than another, ties
counting half (Hanley & McNeil 1982); average precision is the sum of precisions weighted by the steps of recall.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.scoring.scores import Scores


@dataclass(frozen=True)
class ClassCurves:
    """Curves of one class.

    Attributes
    ----------
    thresholds : ndarray, P float64
        Scores from which on an image is said to be of the class, from the highest down.
    precision, recall, false_positives : ndarray, P float64
        At each of them: right among those said, found among those of the class, and said among the others, 0–1.
    average_precision, area : float or None
        Areas under precision by recall, and recall by false positives; None where all images or none are of the class.
    """

    thresholds: NDArray[np.float64]
    precision: NDArray[np.float64]
    recall: NDArray[np.float64]
    false_positives: NDArray[np.float64]
    average_precision: float | None
    area: float | None


@dataclass(frozen=True)
class Areas:
    """Areas under a class's curves; None where all images or none are of the class."""

    name: str
    roc_area: float | None
    average_precision: float | None


def areas_of(scores: Scores) -> tuple[Areas, ...]:
    """Of every class, against all others."""
    curves = [curves_of(scores, number) for number in range(len(scores.classes))]
    return tuple(
        Areas(name, each.area, each.average_precision) for name, each in zip(scores.classes, curves, strict=True)
    )


def curves_of(scores: Scores, number: int) -> ClassCurves:
    """Of the class of that number, against all others."""
    values = scores.probabilities[:, number].astype(np.float64)
    of_it = scores.true == number
    order = np.argsort(-values, kind="stable")
    ranked, hits = values[order], of_it[order]
    last = np.flatnonzero(np.append(np.diff(ranked) != 0, True)) if len(ranked) else np.zeros(0, np.int64)
    result, predicted = np.cumsum(hits)[last].astype(np.float64), (last + 1).astype(np.float64)
    positives, negatives = int(of_it.sum()), int((~of_it).sum())
    precision = result / predicted
    recall = result / positives if positives else np.zeros(len(result))
    false = (predicted - result) / negatives if negatives else np.zeros(len(result))
    if not positives or not negatives:
        return ClassCurves(ranked[last], precision, recall, false, None, None)
    steps = np.diff(recall, prepend=0.0)
    across, up = np.append(0.0, false), np.append(0.0, recall)
    area = float((np.diff(across) * (up[1:] + up[:-1]) / 2).sum())
    return ClassCurves(ranked[last], precision, recall, false, float((precision * steps).sum()), area)
