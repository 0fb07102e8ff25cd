"""From which probability a label is said: chosen on held-out images, by F1, by cost or for a precision.

Only a probability between two that images have makes a difference, so thresholds stand halfway between. A label of few
images keeps a half: what fits few best is mostly chance. What a choice is worth on other images is told by choosing on
one half and looking at the other, both ways, for on the images it was chosen on every choice looks better.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.random import random_generator
from attentive_lens.plan.labels import HALF

F1, COST, PRECISION, FIXED = "F1", "cost", "precision", "fixed"
RULES = (F1, COST, PRECISION, FIXED)
FEWEST = 5
"""Images with a label, and without it, from which its threshold is chosen."""


@dataclass(frozen=True)
class ThresholdRule:
    """What thresholds are chosen by.

    Attributes
    ----------
    by : str
        One of `RULES`: greatest F1; least cost; most images that have the label found at a given precision; a given
        number.
    precision : float
        At least, 0–1, of those said to have it.
    missed, false : float
        What it costs not to say a label that is there, and to say one that is not.
    value : float
        The threshold itself, where it is fixed.
    """

    by: str = F1
    precision: float = 0.9
    missed: float = 1.0
    false: float = 1.0
    value: float = HALF

    @property
    def words(self) -> str:
        """What it is, as it is kept."""
        match self.by:
            case "precision":
                return f"precision {self.precision:g}"
            case "cost":
                return f"cost (missed {self.missed:g}, false {self.false:g})"
            case _:
                return self.by


@dataclass(frozen=True)
class Choice:
    """A label's threshold, and how it came about, in words."""

    value: float
    by: str


def chosen(probabilities: NDArray[np.floating[Any]], there: NDArray[np.bool_], rule: ThresholdRule) -> Choice:
    """The threshold of one label, from probabilities N of images and whether they have it.

    Of equally good ones it is the nearest to a half.
    """
    if rule.by == FIXED:
        return Choice(rule.value, rule.words)
    count = int(there.sum())
    if min(count, len(there) - count) < FEWEST:
        lacking = "have" if count < FEWEST else "lack"
        return Choice(HALF, f"a half: fewer than {FEWEST} images {lacking} it")
    order = np.argsort(-probabilities, kind="stable")
    ranked = probabilities[order].astype(np.float64)
    right = np.concatenate([[0], np.cumsum(there[order])])
    said = np.arange(len(ranked) + 1)
    edges = np.concatenate([[1.0], (ranked[1:] + ranked[:-1]) / 2, [0.0]])
    possible = np.concatenate([[True], ranked[1:] != ranked[:-1], [True]])
    false, missed = said - right, count - right
    words = rule.words
    match rule.by:
        case "F1":
            gain = 2 * right / (said + count)
        case "cost":
            gain = -(rule.missed * missed + rule.false * false)
        case _:
            precision = right / np.maximum(said, 1)
            reached = possible & (precision >= rule.precision) & (said > 0)
            if reached.any():
                gain = np.where(reached, right, -1)
            else:
                gain, words = np.where(said > 0, precision, -1), f"the greatest precision, for {words} is not reached"
    gain = np.where(possible, gain, -np.inf)
    best = np.flatnonzero(gain == gain.max())
    place = best[np.abs(edges[best] - HALF).argmin()]
    return Choice(float(edges[place]), words)


def all_chosen(
    probabilities: NDArray[np.floating[Any]], there: NDArray[np.bool_], rule: ThresholdRule
) -> tuple[Choice, ...]:
    """Of every label, from N×K."""
    return tuple(chosen(probabilities[:, k], there[:, k], rule) for k in range(there.shape[1]))


def on_other_images(
    probabilities: NDArray[np.floating[Any]], there: NDArray[np.bool_], rule: ThresholdRule
) -> NDArray[np.bool_]:
    """What would be said of N images of every label, N×K, each by thresholds chosen on the half it is not in."""
    half = random_generator(0, "halves for thresholds").permutation(len(there)) % 2 == 0
    said = np.zeros(there.shape, bool)
    for own in (half, ~half):
        values = [each.value for each in all_chosen(probabilities[~own], there[~own], rule)]
        said[own] = probabilities[own] > np.array(values)
    return said


def cost_of(said: NDArray[np.bool_], there: NDArray[np.bool_], rule: ThresholdRule) -> float:
    """What the mistakes about all labels cost an image, by the costs of a rule."""
    missed, false = int((there & ~said).sum()), int((said & ~there).sum())
    return (rule.missed * missed + rule.false * false) / max(1, len(there))


def precision_of(said: NDArray[np.bool_], there: NDArray[np.bool_]) -> float | None:
    """Of all labels said, the part that is there; None where none is said."""
    return float((said & there).sum() / said.sum()) if said.any() else None


def recall_of(said: NDArray[np.bool_], there: NDArray[np.bool_]) -> float | None:
    """Of all labels there, the part that is said; None where none is there."""
    return float((said & there).sum() / there.sum()) if there.any() else None


def f1_of(said: NDArray[np.bool_], there: NDArray[np.bool_]) -> tuple[float | None, ...]:
    """Of every label, from N×K: 2 · both / (said + there); None where it is in no image and never said."""
    both, met = (said & there).sum(axis=0), said.sum(axis=0) + there.sum(axis=0)
    return tuple(float(2 * b / m) if m else None for b, m in zip(both.tolist(), met.tolist(), strict=True))


def mean_known(values: tuple[float | None, ...]) -> float | None:
    """Mean of those that are known."""
    known = [value for value in values if value is not None]
    return float(np.mean(known)) if known else None
