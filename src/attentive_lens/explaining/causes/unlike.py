"""Mistakes on images that are unlike all that the model was trained on."""

from __future__ import annotations

import numpy as np

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

OFTEN = 3.0
"""Times as often as right answers that mistakes must lie far for it to be told."""


class Unlike(Finder):
    """Far from every training image, as few right answers are."""

    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """All of them, the farthest first."""
        yield Progress(0, 1, "looking for images unlike all training images")
        wrong, right = evidence.mistakes, evidence.right
        usual, distances, limit = evidence.right_distances, evidence.distances, evidence.far
        far = np.flatnonzero(distances > limit)
        if not len(far):
            return None
        right_far = int((usual > limit).sum())
        often = len(far) / len(wrong) / max(right_far / len(right), 1 / len(right))
        chance = more_often(evidence, distances > limit, usual > limit)
        if len(far) < FEWEST or often < OFTEN or chance > BY_CHANCE:
            return None
        members = tuple(far[np.argsort(-distances[far], kind="stable")].tolist())
        usual_part = 1 - right_far / len(right)
        why = (
            f"{mistakes_in_words(len(far))} are on images unlike all that it was trained on:"
            f" {len(far) / len(wrong):.0%} of the mistakes lie farther from every training image than"
            f" {usual_part:.0%} of the right answers do: {evidence.pairs_in_words(members)}"
        )
        remedy = f"Add training images of their kind, as these show it: {evidence.classes_in_words(members)}"
        figures = {
            "part of the mistakes": len(far) / len(wrong),
            "part of the right answers": right_far / len(right),
            "distance": float(np.median(distances[far])),
            "usual distance": float(np.median(usual)),
        }
        return CauseFound("unlike training", "are unlike all training images", members, why, remedy, figures)
