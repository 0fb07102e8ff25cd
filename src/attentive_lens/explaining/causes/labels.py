"""Mistakes whose label the images most like them contradict, as the model does."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.explaining.causes.base import NEIGHBOURS, CauseFound, Evidence, Finder, mistakes_in_words

SURE = 0.7
"""Probability of what is said."""
AGREE, OBJECT = 0.5, 0.0
"""Part of the nearest training images that are of the class said, at least, and of the class on the label, at most."""
RELIABLE = 0.1
"""Part of all so sure answers that may be called into question: where more are, the model errs so, not the labels."""


class Labels(Finder):
    """A question, not a verdict: some are what the label says and look otherwise.

    Nearness is by channel statistics, which hold what an image is like, not by the last hidden layer, where every
    sure mistake lies among the class it is taken for.
    """

    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """All of them, the surest first."""
        yield Progress(0, 1, "comparing labels with the most similar training images")
        wrong = evidence.mistakes
        near, _ = evidence.neighbours
        agree = (near == wrong.predicted[:, None]).mean(axis=1)
        contradict = (near == wrong.true[:, None]).mean(axis=1)
        known = evidence.distances <= evidence.far  # who is like nothing has neighbours that mean nothing
        doubtful = np.flatnonzero(known & (wrong.probability >= SURE) & (agree >= AGREE) & (contradict <= OBJECT))
        if not len(doubtful) or near.shape[1] < NEIGHBOURS or len(doubtful) > RELIABLE * _as_sure(evidence, doubtful):
            return None
        members = tuple(doubtful[np.argsort(-(agree * wrong.probability)[doubtful], kind="stable")].tolist())
        why = (
            f"{mistakes_in_words(len(members))} may be labelled wrongly: the model is {SURE:.0%} sure or more, and"
            f" {agree[doubtful].mean():.0%} of the {NEIGHBOURS} most similar training images are of the class said,"
            f" {contradict[doubtful].mean():.0%} of the class on the label: {evidence.pairs_in_words(members)}"
        )
        count = "this label" if len(members) == 1 else f"these {len(members)} labels"
        remedy = f"Look at {count} first: correct or exclude what is labelled wrongly"
        figures = {
            "neighbours of the class said": float(agree[doubtful].mean()),
            "neighbours of the true class": float(contradict[doubtful].mean()),
        }
        return CauseFound("label", "may be labelled wrongly", members, why, remedy, figures)


def _as_sure(evidence: Evidence, doubtful: NDArray[np.int64]) -> float:
    """How many answers are as sure, and agree as much with their neighbours, whether right or doubtful."""
    right, known = evidence.right, evidence.training.true
    near = known[evidence.known.nearest(right.statistics, NEIGHBOURS)[0]]
    agree = (near == right.predicted[:, None]).mean(axis=1)
    return len(doubtful) + right.weight * float(((right.probability >= SURE) & (agree >= AGREE)).sum())
