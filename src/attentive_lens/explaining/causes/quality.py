"""Mistakes on images of poorer or other quality than usual: right answers are given that quality before it is told."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.explaining.causes.base import (
    BY_CHANCE,
    FEWEST,
    CauseFound,
    Evidence,
    Finder,
    mistakes_in_words,
    more_often,
)
from attentive_lens.explaining.causes.measures import MEASURES
from attentive_lens.explaining.trials import predicted_of
from attentive_lens.plan.augmentation import AugmentationStep
from attentive_lens.plan.plan import Plan

TAILS = (0.05, 0.1, 0.2)
"""Parts of a class's training images within whose extreme values mistakes may gather."""
OFTEN = 2.0
"""Times as often as right answers that mistakes must have such a value."""
TURNS = 0.2
"""Part of the right answers that must turn once they are given the same quality."""
MENDS = 0.25
"""Part of the mistakes, more than by as much of a change the other way, that giving them their class's usual value must
mend, where that can be done."""
CONTROLS = 128
FEWEST_OF_CLASS = 20
"""Training images of a class from which its own values are usual; below, those of all classes."""


class Quality(Finder):
    """Each measure's low and high values, against what is usual in the image's own class."""

    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """The measure and end that gathers most mistakes and turns right answers."""
        causes: list[CauseFound] = []
        for number, (word, measure) in enumerate(MEASURES.items()):
            if word == "file size" and evidence.plan.preprocessing.keeps_scale:
                continue  # files of few pixels are no coarser
            for high in (False, True):
                yield Progress(number, len(MEASURES), "giving right answers the quality of mistakes")
                if measure.short(high):
                    causes += _tried(evidence, word, high)
        return max(causes, key=lambda cause: len(cause.members), default=None)


def _tried(evidence: Evidence, word: str, high: bool) -> list[CauseFound]:
    """The cause that values of a measure at one end are, if they gather mistakes and the model minds them."""
    measure, wrong, right = MEASURES[word], evidence.mistakes, evidence.right
    extreme, right_extreme = (_ranks(evidence, word, of, high) for of in ("mistakes", "right"))
    tail = _gathering(evidence, extreme, right_extreme)
    if tail is None:
        return []
    members = np.flatnonzero(extreme <= tail)
    usual = _usual(evidence, word)
    ratio = float(np.median(wrong.measures[word][members] / np.maximum(usual[wrong.true[members]], 1e-6)))
    controls = np.flatnonzero((right_extreme > max(TAILS)) & np.isin(right.true, wrong.true[members]))
    controls = controls[:: max(1, len(controls) // CONTROLS)]
    if len(controls) < FEWEST:
        return []
    imitated, strength = measure.imitated(evidence.images(right, controls), ratio * usual[right.true[controls]])
    turned = float((predicted_of(evidence.predictor, imitated) != right.predicted[controls]).mean())
    if turned < TURNS:
        return []
    part, right_part = len(members) / len(wrong), float((right_extreme <= tail).mean())
    figures = {"turned": turned, "times the usual": ratio}
    figures |= {"part of the mistakes": part, "part of the right answers": right_part}
    undone = ""
    if measure.undone:
        mended, further = _undone(evidence, word, members[: 2 * CONTROLS], usual, ratio)
        if mended - further < MENDS:
            return []
        figures |= {"mended": mended, "mended by more of it": further}
        undone = f", and taking it from them mends {mended:.0%}, more of it {further:.0%}"
    members = members[np.argsort(extreme[members], kind="stable")]
    short, step = measure.short(high), measure.step(strength)
    why = (
        f"{mistakes_in_words(len(members))} {short} in their class, {part:.0%} of the mistakes and {right_part:.0%} of"
        f" the right answers: other right answers given the same ({word} {ratio:.2f} times the usual) turn in"
        f" {turned:.0%}{undone}: {evidence.pairs_in_words(members.tolist())}"
    )
    remedy = f"Show training such images with the augmentation step {step.kind}, and train again"
    plan = with_step(evidence.plan, step)
    return [CauseFound("quality", short, tuple(members.tolist()), why, remedy, figures, plan)]


def _gathering(evidence: Evidence, extreme: NDArray[np.float64], right_extreme: NDArray[np.float64]) -> float | None:
    """The part of extreme values within which mistakes gather least by chance, if they gather."""
    gathering: list[tuple[float, float]] = []
    for tail in TAILS:
        inside, right_inside = extreme <= tail, right_extreme <= tail
        often = inside.mean() >= OFTEN * (right_inside.sum() / max(1, len(right_inside)))
        chance = more_often(evidence, inside, right_inside)
        if inside.sum() >= FEWEST and often and chance <= BY_CHANCE / (len(TAILS) * len(MEASURES)):
            gathering.append((chance, tail))
    return min(gathering)[1] if gathering else None


def _undone(
    evidence: Evidence, word: str, members: NDArray[np.int64], usual: NDArray[np.float64], ratio: float
) -> tuple[float, float]:
    """Part of some mistakes that is answered rightly with the usual value, and with as much more of their own."""
    wrong, measure = evidence.mistakes, MEASURES[word]
    true, images = wrong.true[members], evidence.images(wrong, members)
    targets = (usual[true], ratio * wrong.measures[word][members])
    parts = [
        float((predicted_of(evidence.predictor, measure.imitated(images, target)[0]) == true).mean())
        for target in targets
    ]
    return parts[0], parts[1]


def with_step(plan: Plan, step: AugmentationStep) -> Plan:
    """The plan with a step in its augmentation, in place of one of its kind."""
    kinds = [other.kind for other in plan.augmentation]
    if step.kind not in kinds:
        return plan.with_augmentation((*plan.augmentation, step))
    return plan.with_augmentation(tuple(step if other.kind == step.kind else other for other in plan.augmentation))


def _usual(evidence: Evidence, word: str) -> NDArray[np.float64]:
    """Median of each class's training images, K; of all of them for a class with few."""
    values, labels = evidence.training.measures[word], evidence.training.true
    medians = np.full(len(evidence.classes), np.median(values))
    for label in np.unique(labels):
        if (labels == label).sum() >= FEWEST_OF_CLASS:
            medians[label] = np.median(values[labels == label])
    return medians


def _ranks(evidence: Evidence, word: str, of: str, high: bool) -> NDArray[np.float64]:
    """Part of the training images of its class with a more extreme value than each image, equal ones by half."""
    answered = evidence.mistakes if of == "mistakes" else evidence.right
    usual, labels = evidence.training.measures[word], evidence.training.true
    ranks = np.ones(len(answered))
    for label in np.unique(answered.true):
        chosen = answered.true == label
        known = usual[labels == label] if (labels == label).sum() >= FEWEST_OF_CLASS else usual
        ordered = np.sort(-known if high else known)
        values = -answered.measures[word][chosen] if high else answered.measures[word][chosen]
        below, through = (np.searchsorted(ordered, values, side) for side in ("left", "right"))
        ranks[chosen] = (below + through) / 2 / max(1, len(ordered))
    return ranks
