"""What the curves of a run say: over-fitting, under-fitting, an early end, too few images to choose by."""

from __future__ import annotations

import math
from collections import Counter

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.runs import RunView
from attentive_lens.training.journal import EpochEvent
from attentive_lens.workspace import Run

FEWEST_EPOCHS = 6
"""Below, curves say nothing."""
SMOOTHED = 3
"""Epochs over which losses are averaged."""
RISES = 1.1
"""Times its least that the validation loss must be at the end for over-fitting to be named."""
FALLS = 0.96
"""Times the fifth of the epochs before that the validation loss of the last fifth must be, at most, to still fall."""
LEARNED = 0.75
"""Training accuracy, under augmentation and dropout, below which a network may under-fit."""
APART = 0.05
"""Accuracy by which training may be ahead of validation in a network that under-fits."""
WIDE = 0.05
"""Half of an interval of accuracy that is too wide to choose by."""
FEW_OF_CLASS = 5
Z = 1.96


def said_by_curves(run: Run, view: RunView) -> list[str]:
    """One sentence or two for each thing to know; the state of a run that is still trained is said as it is."""
    sentences = []
    epochs = [epoch for epoch in view.epochs if epoch.validation is not None]
    if len(epochs) >= FEWEST_EPOCHS:
        for sentence in (_over_fitting(epochs), _unfinished(epochs, view), _under_fitting(epochs, view)):
            if sentence:
                sentences.append(sentence)
                break
    if view.state != "training" and epochs:
        sentences += _few_to_choose_by(run, view)
    return sentences


def over_fits_since(epochs: list[EpochEvent]) -> int | None:
    """The epoch from which the validation loss rose while the training loss fell on; None without it."""
    validation, training = _losses(epochs)
    means = np.convolve(validation, np.ones(SMOOTHED) / SMOOTHED, "valid")
    least = int(means.argmin())
    if least >= len(means) - SMOOTHED or means[-1] < RISES * means[least]:
        return None
    if training[-SMOOTHED:].mean() >= training[least : least + SMOOTHED].mean():
        return None
    return epochs[least + SMOOTHED // 2].epoch + 1


def still_falls(epochs: list[EpochEvent]) -> bool:
    """Whether the validation loss fell on until the last epochs."""
    validation, _ = _losses(epochs)
    part = max(2, len(validation) // 5)
    late = int(validation.argmin()) >= len(validation) - max(2, len(validation) // 10)
    return bool(late and validation[-part:].mean() <= FALLS * validation[-2 * part : -part].mean())


def interval(accuracy: float, images: int) -> tuple[float, float]:
    """Of an accuracy on so many images, 95 % (Wilson 1927)."""
    middle = (accuracy + Z**2 / (2 * images)) / (1 + Z**2 / images)
    half = Z / (1 + Z**2 / images) * math.sqrt(accuracy * (1 - accuracy) / images + Z**2 / (4 * images**2))
    return max(0.0, middle - half), min(1.0, middle + half)


def _losses(epochs: list[EpochEvent]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Validation and training losses."""
    validation = [epoch.validation.loss for epoch in epochs if epoch.validation is not None]
    return np.array(validation), np.array([epoch.training.loss for epoch in epochs])


def _over_fitting(epochs: list[EpochEvent]) -> str:
    since = over_fits_since(epochs)
    if since is None:
        return ""
    return (
        f"Over-fitting since epoch {since}: the validation loss rises while the training loss falls. More images, more"
        " augmentation, dropout or weight decay help; the best epoch is kept."
    )


def _unfinished(epochs: list[EpochEvent], view: RunView) -> str:
    if view.state != "done" or not still_falls(epochs):
        return ""
    return f"The validation loss still fell when the {view.planned} epochs were over: train longer."


def _under_fitting(epochs: list[EpochEvent], view: RunView) -> str:
    last = epochs[-SMOOTHED:]
    training = float(np.mean([epoch.training.accuracy for epoch in last]))
    validation = float(np.mean([epoch.validation.accuracy for epoch in last if epoch.validation is not None]))
    if view.state == "training" or training >= LEARNED or training - validation > APART:
        return ""
    return (
        f"Under-fitting: no more than {training:.0%} of the training images themselves were right while they were"
        " learned from. A larger network, more epochs, a higher learning rate, or less augmentation and dropout help."
    )


def _few_to_choose_by(run: Run, view: RunView) -> list[str]:
    noted, best = run.images(), view.best
    if noted is None or best is None or best.validation is None:
        return []
    labels = [label for label, name in zip(noted[0].tolist(), noted[1], strict=False) if name == "validation"]
    if not labels:
        return []
    counts = Counter(labels)
    low, high = interval(best.validation.accuracy, len(labels))
    known = set(noted[0].tolist())
    smallest = min(counts.get(label, 0) for label in known)
    if high - low <= 2 * WIDE and smallest >= FEW_OF_CLASS:
        return []
    rarest = "none at all" if not smallest else "1" if smallest == 1 else f"{smallest}"
    return [
        f"The best epoch is chosen by {len(labels)} validation images, {rarest} of the smallest class: their"
        f" {best.validation.accuracy:.1%} may stand for {low:.1%} to {high:.1%}. Hold more images out, or use folds."
    ]
