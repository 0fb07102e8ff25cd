"""What goes in: augmentation too strong or of no effect, and images that are not normalised."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from attentive_lens.plan.augmentation import DEFAULT_AUGMENTATION, AugmentationStep
from attentive_lens.scoring.intervals import Z
from attentive_lens.training.advice.base import FEWEST_EPOCHS, Advice, Finding, Record, changed, set_to
from attentive_lens.training.advice.fitting import LEARNED, over_fits_since

BEHIND, FAR_BEHIND = 0.05, 0.15
"""By how much augmented training images are less often right than untouched validation images, in the same network
without dropout, where augmentation is too strong: one that is strong by its settings, and any."""
USUAL, EXTREME = 2.5, 6.0
"""Strengths of an augmentation beyond the usual and far beyond it, see `strength`."""
LOOKED = 6
"""Last epochs whose looks at augmented images are taken together."""
FEWEST_LOOKED = 60
"""Augmented images that must have been looked at."""
WEAK = 0.4
"""Strength of an augmentation, that of one usual step being its probability, below which it hardly does anything."""
OFF_CENTRE, FLAT, STEEP = 1.5, 0.25, 4.0
"""Mean over standard deviation, and least and greatest standard deviation, of images that are not normalised."""


class AugmentationTooStrong(Advice):
    """Augmented training images are much harder than the others."""

    kind = "augmentation too strong"

    def find(self, run: Record) -> Finding | None:
        """By the accuracy on both at the end of the last epochs, the augmented ones behind though they are learned."""
        if not run.plan.augmentation or len(run.judged) < FEWEST_EPOCHS:
            return None
        epochs = run.judged[-LOOKED:]
        looks = [epoch.health for epoch in epochs if epoch.health is not None and epoch.health.right is not None]
        images = sum(look.images for look in looks)
        if images < FEWEST_LOOKED or run.is_stuck:
            return None
        augmented = sum(look.right or 0 for look in looks) / images
        validation = float(np.mean([epoch.validation.main for epoch in epochs if epoch.validation is not None]))
        chance = Z * math.sqrt(max(1e-9, augmented * (1 - augmented)) / images)
        strong = sum(map(strength, run.plan.augmentation))
        least = max(BEHIND, chance / 2) if strong > USUAL else max(FAR_BEHIND, chance)
        if strong > EXTREME and validation < LEARNED:
            least = -BEHIND  # neither is learned: what makes both hard is in the plan
        if validation - augmented < least or augmented > 0.9:
            return None
        return Finding(
            self.kind, 0,
            f"of augmented training images {augmented:.1%} are right, of untouched validation images {validation:.1%}",
            "Most of what is learned is to undo the changes, some of which may hide what tells the classes apart.",
            "Halve the ranges and probabilities of the augmentation.",
            "Training that gets further in the same epochs.",
            changed(run.plan, lambda plan: plan.with_augmentation(tuple(scaled(s, 0.5) for s in plan.augmentation))),
        )  # fmt: skip


class AugmentationOfNoEffect(Advice):
    """Images are learned by heart in spite of an augmentation."""

    kind = "augmentation of no effect"

    def find(self, run: Record) -> Finding | None:
        """By over-fitting, with changes that are small or rare beside the usual ones."""
        if not run.plan.augmentation or len(run.judged) < FEWEST_EPOCHS or len(run.judged) < len(run.epochs):
            return None
        since = over_fits_since(run.judged)
        if since is None or sum(map(strength, run.plan.augmentation)) > WEAK:
            return None
        training, validation = run.last_training()[0], run.last_validation() or 0.0
        kinds = ", ".join(step.kind for step in run.plan.augmentation)
        known = {step.kind for step in run.plan.augmentation}
        more = tuple(step for step in DEFAULT_AUGMENTATION if step.kind not in known)
        return Finding(
            self.kind, since,
            f"with {kinds} alone it over-fits since epoch {since}: {training:.1%} of the training images are right and"
            f" {validation:.1%} of the validation images",
            "The changes are so small or rare that every image is soon known by heart, with them or without.",
            "Double the ranges and probabilities, and add what is usual besides.",
            "Over-fitting that begins later, and a smaller distance between the curves.",
            changed(
                run.plan,
                lambda plan: plan.with_augmentation((*(scaled(step, 2) for step in plan.augmentation), *more)),
            ),
        )  # fmt: skip


def strength(step: AugmentationStep) -> float:
    """A step's probability, times its range's width over the usual one where it has a range."""
    bounds, usual = getattr(step, "range", None), getattr(type(step)(), "range", None)
    if not isinstance(bounds, tuple) or not isinstance(usual, tuple) or usual[1] <= usual[0]:
        return step.probability
    return step.probability * float(bounds[1] - bounds[0]) / float(usual[1] - usual[0])


def scaled(step: AugmentationStep, times: float) -> AugmentationStep:
    """A step with its probability multiplied, and its range about what changes nothing, 0 or 1, where that is in it."""
    changes: dict[str, object] = {"probability": min(1.0, step.probability * times)}
    bounds, known = getattr(step, "range", None), step.specs().get("range")
    if isinstance(bounds, tuple) and known is not None:
        low, high = bounds
        still = 0.0 if low <= 0 <= high else 1.0 if low < 1 < high else None
        if still is not None:
            least = known.low if known.low is not None else -math.inf
            most = known.high if known.high is not None else math.inf
            changes["range"] = (max(least, still + (low - still) * times), min(most, still + (high - still) * times))
    return replace(step, **changes)  # type: ignore[arg-type]


class NotNormalised(Advice):
    """Prepared images whose values lie far from zero, or close together."""

    kind = "input not normalised"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By mean and standard deviation of the prepared images."""
        mean, std = run.input_mean, run.input_std
        if mean is None or std is None or not run.epochs:
            return None
        if abs(mean) <= OFF_CENTRE * std and FLAT <= std <= STEEP:
            return None
        first = next((node.layer.kind for node in run.plan.network.nodes), "")
        if "normalisation" in first:
            return None
        how = run.plan.preprocessing.normalisation
        return Finding(
            self.kind, 1, f"with «{how}» the images' values have mean {mean:.2f} and standard deviation {std:.2f}",
            "First layers begin with large sums that are the same for every image, and learn slowly.",
            "Standardise: less the training mean, over the training standard deviation.",
            "A loss that falls faster in the first epochs.",
            changed(run.plan, set_to(preprocessing__normalisation="standardise")),
        )  # fmt: skip
