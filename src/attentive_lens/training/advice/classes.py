"""Classes that are never answered or rare, and validation sets too small to judge by."""

from __future__ import annotations

import numpy as np

from attentive_lens.scoring.intervals import interval
from attentive_lens.training.advice.base import LAST, Advice, Finding, Record, changed, set_to
from attentive_lens.training.journal import EpochEvent

IGNORED = 0.1
"""Part of its images right, at most, of a class that is ignored."""
RARE = 0.7
"""Times the mean number of training images of a class below which one is rare."""
FEWEST_IMAGES = 3
"""Validation images of a class from which on it is judged."""
UNEVEN = 4.0
"""Times the images of the smallest class that the largest has in an imbalance."""
BEHIND = 0.15
"""By how much small classes' accuracy is behind that of all images in an imbalance that does harm."""
WIDE = 0.05
"""Half of an interval of accuracy that is too wide to choose by."""
FEW_OF_CLASS = 5


def accuracies(epoch: EpochEvent, classes: int) -> list[float | None]:
    """Part of each class's validation images that were right; None without any."""
    right, images = np.zeros(classes), np.zeros(classes)
    for true, predicted, count in epoch.by_class.confusion if epoch.by_class is not None else ():
        images[true] += count
        right[true] += count * (true == predicted)
    return [float(r / n) if n else None for r, n in zip(right, images, strict=True)]


class ClassIgnored(Advice):
    """A class whose images are hardly ever right, in a network that has learned others."""

    kind = "class ignored"

    def find(self, run: Record) -> Finding | None:
        """By the answers on the validation images over the last epochs."""
        last = [epoch for epoch in run.judged[-LAST:] if epoch.by_class is not None]
        accuracy = run.last_validation()
        if len(last) < LAST or accuracy is None or accuracy < run.majority + 0.05:
            return None
        count = len(run.classes)
        by_epoch = [accuracies(epoch, count) for epoch in last]
        ignored = [
            k
            for k in range(count)
            if run.validation[k] >= FEWEST_IMAGES
            and run.training[k] < RARE * sum(run.training) / count
            and all((row[k] or 0.0) <= IGNORED for row in by_epoch)
        ]
        if not ignored or run.plan.loss.class_weights == "balanced":
            return None
        since = len(run.judged)
        while since and all((accuracies(run.judged[since - 1], count)[k] or 0.0) <= IGNORED for k in ignored):
            since -= 1
        names = ", ".join(f"«{run.classes[k]}» ({run.training[k]} training images)" for k in ignored[:4])
        one = len(ignored) == 1
        return Finding(
            self.kind, run.judged[min(since, len(run.judged) - 1)].epoch,
            f"of the validation images of {names} no more than {IGNORED:.0%} are right, of all {accuracy:.0%}",
            f"Leaving {'it' if one else 'them'} out costs the network little, because there are few of"
            f" {'it' if one else 'them'} among all images.",
            "Balance the classes in the loss; more images of them help most.",
            "Right answers for them, at the cost of a few for the frequent classes.",
            changed(run.plan, set_to(loss__class_weights="balanced")),
        )  # fmt: skip


class Imbalance(Advice):
    """Classes of very different size, the small ones worse."""

    kind = "imbalance"

    def find(self, run: Record) -> Finding | None:
        """By the numbers of training images, and the accuracy of the small classes."""
        present = [n for n in run.training if n]
        accuracy = run.last_validation()
        last = [epoch for epoch in run.judged[-LAST:] if epoch.by_class is not None]
        if len(present) < 2 or max(present) < UNEVEN * min(present) or accuracy is None or len(last) < LAST:
            return None
        if run.plan.loss.class_weights == "balanced" or run.is_stuck:
            return None
        small = [k for k, n in enumerate(run.training) if 0 < n * UNEVEN <= max(present) and run.validation[k]]
        rows = [accuracies(epoch, len(run.classes)) for epoch in last]
        values = [row[k] for row in rows for k in small]
        theirs = [value for value in values if value is not None]
        if sum(run.validation[k] for k in small) < FEW_OF_CLASS or not theirs or np.mean(theirs) > accuracy - BEHIND:
            return None
        least = min(small, key=lambda k: run.training[k])
        return Finding(
            self.kind, 0,
            f"the largest class has {max(present)} training images and «{run.classes[least]}» {run.training[least]};"
            f" of the small classes {float(np.mean(theirs)):.0%} are right, of all images {accuracy:.0%}",
            "Accuracy is that of the frequent classes; the rare ones hardly count in it, nor in what is learned.",
            "Balance the classes in the loss, and choose the best epoch by balanced accuracy.",
            "A higher balanced accuracy; accuracy itself may fall a little.",
            changed(run.plan, set_to(loss__class_weights="balanced", training__best_by="balanced_accuracy")),
        )  # fmt: skip


class ValidationNoise(Advice):
    """Too few validation images for the difference that is judged."""

    kind = "validation noise"

    def find(self, run: Record) -> Finding | None:
        """By the interval of the best epoch's accuracy, and the smallest class."""
        best = next((epoch for epoch in reversed(run.judged) if epoch.best), None)
        images = sum(run.validation)
        if best is None or best.validation is None or not images:
            return None
        low, high = interval(best.validation.main, images)
        smallest = min(n for n, training in zip(run.validation, run.training, strict=True) if n or training)
        if high - low <= 2 * WIDE and smallest >= FEW_OF_CLASS:
            return None
        rarest = "none at all" if not smallest else f"{smallest}"
        fraction = run.plan.split.validation_fraction
        larger = round(min(0.4, max(fraction + 0.1, 1.5 * fraction)), 2)
        return Finding(
            self.kind, best.epoch,
            f"the best epoch is chosen by {images} validation images, {rarest} of the smallest class: their"
            f" {best.validation.main_in_words} may stand for {low:.1%} to {high:.1%}",
            "Two epochs, or two runs, that differ by less than that do not differ.",
            f"Hold {larger:.0%} of the images out, or use folds.",
            "A narrower interval, and a best epoch that is not the luckiest one.",
            changed(run.plan, set_to(split__validation_fraction=larger)) if larger > fraction > 0 else None,
        )  # fmt: skip
