"""What can be done about a cause: prepared plans and prepared corrections, each with what trials make of it."""

from __future__ import annotations

import numpy as np

from attentive_lens.desk.requests.causes import Remedy
from attentive_lens.explaining.causes import CauseFound, Evidence
from attentive_lens.plan.plan import Plan

LARGEST = 256
"""Pixels of a side to which the input is enlarged at most."""
UNTRIED = "Not tried: only training tells"
PROVABLE = 5
"""Mistakes that a plan is offered for, at least: if all of fewer were mended, that could still be chance (1 in 16)."""


def remedies_of(cause: CauseFound, evidence: Evidence) -> tuple[Remedy, ...]:
    """What is at hand against a cause, what was tried first."""
    remedies: list[Remedy] = []
    provable = len(cause.members) >= PROVABLE
    if cause.plan is not None and provable:
        remedies.append(_planned(cause, cause.plan))
    if cause.kind in ("label", "unlike training"):
        remedies.append(Remedy("decide", "Look at each", "Correct the label or exclude the image, one by one"))
    may_merge = not evidence.plan.task.several  # having a label and not having it are no two classes to be one
    if may_merge and cause.kind in ("overlap", "other") and (pair := _pair(cause, evidence)) is not None:
        remedies.append(_merged(cause, evidence, pair))
    if cause.kind not in ("label", "place", "channel", "object"):
        remedies.append(Remedy("collect", "Collect such images", f"{UNTRIED}. {_wanted(cause, evidence)}"))
    if cause.kind in ("overlap", "other") and provable:
        remedies += _weighted(cause, evidence)
    if cause.kind in ("overlap", "other", "quality") and provable:
        remedies += _larger(cause, evidence)
    if cause.kind not in ("label", "unlike training"):
        remedies.append(Remedy("decide", "Look at each", "Correct labels or exclude images, one by one"))
    return tuple(remedies)


def _planned(cause: CauseFound, plan: Plan) -> Remedy:
    """The plan that the finder made, with its trial."""
    count, figures = len(cause.members), cause.figures
    if cause.kind == "place":
        turned = figures["mended"]
        forecast = (
            f"Covering the place turns {round(turned * count)} of {count} right on this model, the mirrored place"
            f" {round(figures['mended elsewhere'] * count)}, and spoils {figures['broken']:.1%} of the right answers"
        )
        return Remedy("cover", "Mask the place", forecast, turned, plan.write())
    if cause.kind == "channel":
        turned = figures["mended"]
        forecast = f"Replaced by its mean, mistakes are mended in {turned:.0%}, right answers spoilt in"
        return Remedy("leave out", "Leave the channel out", f"{forecast} {figures['broken']:.1%}", None, plan.write())
    if cause.kind == "object":
        turned = figures["mended"]
        forecast = (
            f"With all but the object covered this model gives {round(turned * count)} of {count} rightly, and spoils"
            f" {figures['broken']:.1%} of the right answers"
        )
        return Remedy("crop", "Train on crops to the object", forecast, turned, plan.write())
    if "mended" in figures:
        turned = figures["mended"]
        forecast = f"Taking it from the images turns {round(turned * count)} of {count} right on this model"
        return Remedy("augment", "Show it in training", forecast, turned, plan.write())
    forecast = (
        f"The same done to other right answers turns {figures.get('turned', 0):.0%} of them wrong: it is what fails"
    )
    return Remedy("augment", "Show it in training", forecast, None, plan.write())


def _pair(cause: CauseFound, evidence: Evidence) -> tuple[int, int] | None:
    """The two classes that are confused most, if these are most of the cause."""
    wrong, members = evidence.mistakes, np.array(cause.members)
    low = np.minimum(wrong.true[members], wrong.predicted[members])
    high = np.maximum(wrong.true[members], wrong.predicted[members])
    pairs, counts = np.unique(np.stack([low, high], axis=1), axis=0, return_counts=True)
    best = int(counts.argmax())
    if counts[best] * 2 < len(members):
        return None
    return int(pairs[best, 0]), int(pairs[best, 1])


def _merged(cause: CauseFound, evidence: Evidence, pair: tuple[int, int]) -> Remedy:
    wrong, members = evidence.mistakes, np.array(cause.members)
    one, other = (evidence.classes[label] for label in pair)
    within = int((np.isin(wrong.true[members], pair) & np.isin(wrong.predicted[members], pair)).sum())
    forecast = (
        f"As one class {within} of {len(members)} are right as they are answered now; {other} is no more told apart"
    )
    turned = within / len(members)
    return Remedy("merge", f"Make {other} part of {one}", forecast, turned, merges=(other, one))


def _wanted(cause: CauseFound, evidence: Evidence) -> str:
    """Which images are missing."""
    return f"Wanted are images like these, of {evidence.classes_in_words(cause.members)}"


def _weighted(cause: CauseFound, evidence: Evidence) -> list[Remedy]:
    """Class weights where the classes of the mistakes are rarer than others."""
    if evidence.plan.loss.class_weights != "none" or not len(evidence.training):
        return []
    counts = np.bincount(evidence.training.true[evidence.training.true >= 0], minlength=len(evidence.classes))
    own = counts[evidence.mistakes.true[list(cause.members)]].mean()
    if own >= 0.7 * counts[counts > 0].mean():
        return []
    plan = evidence.plan.changed({"loss.class_weights": "balanced"})
    forecast = f"{UNTRIED}. Their classes have {own / counts[counts > 0].mean():.0%} of the usual number of images"
    return [Remedy("weight", "Weigh rare classes more", forecast, plan=plan.write())]


def _larger(cause: CauseFound, evidence: Evidence) -> list[Remedy]:
    """A larger input where the files have more pixels than the network sees."""
    preprocessing = evidence.plan.preprocessing
    side = min(preprocessing.sides)
    files = int(np.median(evidence.mistakes.sizes[list(cause.members)].min(axis=1)))
    larger = min(2 * side, files, LARGEST)
    if preprocessing.keeps_scale or larger < 1.25 * side:
        return []
    plan = evidence.plan.changed({"preprocessing.input_size": preprocessing.sized(larger)})
    forecast = f"{UNTRIED}. The files have {files} pixels a side, the network sees {side}"
    return [Remedy("resolution", f"See {plan.preprocessing.size_in_words} pixels", forecast, plan=plan.write())]
