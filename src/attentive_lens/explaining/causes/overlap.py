"""Pairs of classes that lie on top of each other in what the network sees."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.causes.base import NEIGHBOURS, CauseFound, Evidence, Finder, mistakes_in_words
from attentive_lens.explaining.channel_statistics import Known

MIXED = 0.3
"""Part of the nearest training images of either class that are of the other one; half if nothing tells them apart."""
PART = 0.05
"""Of all mistakes, that a pair must make up."""
FEWEST = 8


class Overlap(Finder):
    """Two classes mistaken for each other whose images are each other's neighbours too."""

    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """The most frequent pair."""
        wrong = evidence.mistakes
        low, high = np.minimum(wrong.true, wrong.predicted), np.maximum(wrong.true, wrong.predicted)
        pairs, counts = np.unique(np.stack([low, high], axis=1), axis=0, return_counts=True)
        for k in np.argsort(-counts, kind="stable"):
            yield Progress(0, 1, "comparing classes with each other")
            if counts[k] < max(FEWEST, PART * len(wrong)):
                break
            one, other = int(pairs[k, 0]), int(pairs[k, 1])
            mixed = mixing(evidence, one, other)
            if mixed is not None and mixed >= MIXED:
                return self._told(evidence, one, other, np.flatnonzero((low == one) & (high == other)), mixed)
        return None

    def _told(self, evidence: Evidence, one: int, other: int, members: NDArray[np.int64], mixed: float) -> CauseFound:
        wrong, right = evidence.mistakes, evidence.right
        names = (evidence.classes[one], evidence.classes[other])
        accuracy, merged = (count / evidence.scored for count in (right.total, right.total + len(members)))
        members = members[np.argsort(-wrong.probability[members], kind="stable")]
        why = (
            f"{mistakes_in_words(len(members))} confuse {names[0]} with {names[1]}, which overlap: of the {NEIGHBOURS}"
            f" most similar training images {mixed:.0%} are of the other class, 50% if nothing told them apart"
            f" (both counted alike): {evidence.pairs_in_words(members.tolist())}"
        )
        remedy = (
            f"Add training images that tell {names[0]} from {names[1]}, or make them one class: with that the accuracy"
            f" would be {merged:.1%} ({accuracy:.1%} now)"
        )
        figures = {"neighbours of the other class": mixed, "accuracy": accuracy, "accuracy as one class": merged}
        short = f"confuse {names[0]} with {names[1]}"
        return CauseFound("overlap", short, tuple(members.tolist()), why, remedy, figures)


def mixing(evidence: Evidence, one: int, other: int) -> float | None:
    """Part of the nearest training images of two classes' images, right and wrong, that are of the other class.

    Only training images of the two count, each class as much as the other; None where there are too few.
    """
    training = evidence.training
    of_pair = np.flatnonzero((training.true == one) | (training.true == other))
    sizes = [(training.true[of_pair] == label).sum() for label in (one, other)]
    if min(sizes) < NEIGHBOURS:
        return None
    known = Known(evidence.known.mean, evidence.known.std, evidence.known.rows[of_pair])
    queries: list[Array] = []
    true: list[NDArray[np.int64]] = []
    weights: list[NDArray[np.float64]] = []
    for answered in (evidence.mistakes, evidence.right) if len(evidence.right) else (evidence.mistakes,):
        chosen = (answered.true == one) | (answered.true == other)
        queries.append(answered.statistics[chosen])
        true.append(answered.true[chosen])
        weights.append(np.full(int(chosen.sum()), answered.weight))
    labels, shares = np.concatenate(true), np.concatenate(weights)
    near = training.true[of_pair][known.nearest(np.concatenate(queries), NEIGHBOURS)[0]]
    alike = near == labels[:, None]
    of_class, of_other = (np.where(labels == one, *pair).astype(np.float64) for pair in (sizes, sizes[::-1]))
    strange, familiar = (~alike).sum(axis=1) / of_other, alike.sum(axis=1) / of_class
    per_image = strange / (strange + familiar)
    by_class = [np.average(per_image[labels == label], weights=shares[labels == label])
                for label in (one, other) if (labels == label).any()]  # fmt: skip
    return float(np.mean(by_class))
