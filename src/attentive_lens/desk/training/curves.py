"""A run's epochs as curves and matrices to be drawn."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from attentive_lens.training.figures import ByClass, Figures
from attentive_lens.training.journal import EpochEvent

Points = tuple[tuple[float, float], ...]


def curve(epochs: Sequence[EpochEvent], part: str, measure: str) -> Points:
    """A measure of a part over the epochs in which it is known; «loss 2» is that of the third class."""
    kind, _, number = measure.partition(" ")
    points = []
    for epoch in epochs:
        figures: Figures | None = getattr(epoch, part)
        if number:
            value = _of_class(epoch.by_class, kind, int(number)) if part == "validation" else None
        else:
            value = figures.of(kind) if figures is not None else None
        if value is not None:
            points.append((float(epoch.epoch), float(value)))
    return tuple(points)


def _of_class(by_class: ByClass | None, kind: str, number: int) -> float | None:
    if by_class is None:
        return None
    if kind == "loss":
        return by_class.losses[number] if number < len(by_class.losses) else None
    cells = [(predicted, count) for true, predicted, count in by_class.confusion if true == number]
    images = sum(count for _, count in cells)
    return sum(count for predicted, count in cells if predicted == number) / images if images else None


def smoothed(points: Points, epochs: int) -> Points:
    """Each point's mean with those about it, as many before as after, fewer at the ends."""
    values, half = [y for _, y in points], epochs // 2
    means = []
    for k, (x, _) in enumerate(points):
        reach = min(half, k, len(points) - 1 - k)
        part = values[k - reach : k + reach + 1]
        means.append((x, sum(part) / len(part)))
    return tuple(means)


def answered(epochs: Sequence[EpochEvent]) -> list[EpochEvent]:
    """Epochs whose answers on the validation images were noted."""
    return [epoch for epoch in epochs if epoch.by_class is not None]


def confusion(epoch: EpochEvent, classes: Sequence[str]) -> tuple[list[str], NDArray[np.int64]]:
    """Names of the classes, those unknown by number, and images by true class and class said, K×K."""
    cells = epoch.by_class.confusion if epoch.by_class is not None else ()
    count = max([len(classes), *(max(true, predicted) + 1 for true, predicted, _ in cells)])
    counts = np.zeros((count, count), np.int64)
    for true, predicted, images in cells:
        counts[true, predicted] = images
    return [*classes, *(f"class {k + 1}" for k in range(len(classes), count))], counts
