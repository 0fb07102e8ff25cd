"""What a model did on some images: loss, right answers, every measure, and which class was taken for which."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.records import PlainTable
from attentive_lens.scoring.more_measures import more_measured
from attentive_lens.scoring.ranking import mean_average_precision
from attentive_lens.training.figures import ByClass, Figures

TOP = 5


@dataclass(frozen=True)
class Metrics:
    """Mean loss, without label smoothing and class weights, and number of right answers over some images.

    Attributes
    ----------
    loss : float
        Mean.
    right : int or None
        Answered rightly; None where no classes are answered.
    images : int
        All.
    more : mapping
        Measures of `plan.measures` besides accuracy and loss, where they are known.
    by_class : ByClass or None
        Where it is known.
    """

    loss: float
    right: int | None
    images: int
    more: Mapping[str, float] = field(default_factory=dict)
    by_class: ByClass | None = None

    @property
    def accuracy(self) -> float | None:
        """Part answered rightly, 0–1; None where no classes are answered."""
        if self.right is None:
            return None
        return self.right / self.images if self.images else 0.0

    @property
    def figures(self) -> dict[str, float]:
        """Every measure that is known, by its name."""
        accuracy = {} if self.accuracy is None else {"accuracy": self.accuracy}
        return {**accuracy, "loss": self.loss, **self.more}

    def noted(self) -> PlainTable:
        """As it stands in the journal."""
        values = asdict(Figures.made(self.figures))
        return {name: value for name, value in values.items() if value not in (None, {})}


def measured(scores: NDArray[Any], losses: NDArray[np.float64], labels: NDArray[np.int64]) -> Metrics:
    """Of all images of a set.

    Balanced accuracy and macro F1 are means over the classes that have images (F1: or were said), so that a class
    that is in no image and never said changes nothing.

    Parameters
    ----------
    scores : ndarray, M×K
        The answers.
    losses : ndarray, M
        Of each image.
    labels : ndarray, M
        True classes.
    """
    predicted = scores.argmax(axis=1)
    classes = scores.shape[1]
    counts = np.bincount(labels * classes + predicted, minlength=classes * classes).reshape(classes, classes)
    right, true, answered = counts.diagonal(), counts.sum(axis=1), counts.sum(axis=0)
    true_scores = scores[np.arange(len(labels)), labels][:, None]
    ahead = (scores > true_scores).sum(axis=1)
    seen, met = true > 0, (true + answered) > 0
    sums = np.bincount(labels, losses, classes)
    cells = np.argwhere(counts)
    return Metrics(
        float(losses.mean()) if len(losses) else 0.0,
        int(right.sum()),
        len(labels),
        {
            "top_5": float((ahead < TOP).mean()) if len(labels) else 0.0,
            "balanced_accuracy": float((right[seen] / true[seen]).mean()) if seen.any() else 0.0,
            "macro_f1": float((2 * right[met] / (true + answered)[met]).mean()) if met.any() else 0.0,
            "mean_average_precision": mean_average_precision(scores, labels[:, None] == np.arange(classes)),
            **more_measured(scores, labels),
        },
        ByClass(
            tuple((int(t), int(s), int(counts[t, s])) for t, s in cells),
            tuple(round(float(total / n), 6) if n else None for total, n in zip(sums, true, strict=True)),
        ),
    )


def measured_labels(scores: NDArray[Any], losses: NDArray[np.float64], there: NDArray[np.bool_]) -> Metrics:
    """Of all images of a set that may have several labels; a label is said above 0.5.

    Parameters
    ----------
    scores : ndarray, M×K
        Raw scores.
    losses : ndarray, M
        Of each image.
    there : ndarray, M×K bool
        The labels of each.
    """
    said = scores > 0
    both, any_of_both = (said & there).sum(axis=0), said.sum(axis=0) + there.sum(axis=0)
    met = any_of_both > 0
    return Metrics(
        float(losses.mean()) if len(losses) else 0.0,
        int((said == there).all(axis=1).sum()),
        len(there),
        {
            "macro_f1": float((2 * both[met] / any_of_both[met]).mean()) if met.any() else 0.0,
            "label_accuracy": float((said == there).mean()) if there.size else 0.0,
            "mean_average_precision": mean_average_precision(scores, there),
        },
    )
