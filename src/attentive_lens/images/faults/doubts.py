"""Labels that models contradict which did not learn from the image."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding, images_in_words

ODDS = 100
"""How many times likelier than the label the other class must be."""
LEAST = 0.5
"""Probability below which an answer is no accusation."""


class Doubts(Finder):
    """Images that models call another class and hold to be a hundred times likelier to be it than what they are called.

    Needs runs whose validation sets cover the images, best as folds that take turns: only answers of models that did
    not train on an image count (the principle of Northcutt, Jiang and Chuang 2021, section 3; the odds are ours).
    Models trained too briefly find little, overfitted ones accuse too many; a shortcut, such as a mark, makes false
    accusers of models.
    """

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding, the surest first."""
        yield Progress(0, 1, "looking for doubtful labels")
        if evidence.answers is None:
            return []
        answered: NDArray[np.bool_] = np.asarray(np.isfinite(evidence.answers).all(axis=1))
        answers = np.where(answered[:, None], evidence.answers, 0)
        places = np.arange(len(evidence))
        labelled, predicted = answers[places, evidence.labels], answers.argmax(axis=1)
        sure = answers[places, predicted]
        doubtful = np.flatnonzero((predicted != evidence.labels) & (sure > LEAST) & (sure >= ODDS * labelled))
        if not len(doubtful):
            return []
        ranked = doubtful[np.argsort(labelled[doubtful] / sure[doubtful], kind="stable")]
        count_words = images_in_words(len(ranked))
        why = (
            f"{count_words} of {int(answered.sum())} answered by models that did not learn from them"
            " are said to be another"
        )
        actions = (
            Action("flag them", flag=tuple(ranked.tolist())),
            Action(f"relabel {count_words} as said", relabel=tuple((int(p), int(predicted[p])) for p in ranked)),
        )
        remedy = "Look at each; correct the label, or flag what is hard"
        return [Finding("doubtful label", why, remedy, tuple(ranked.tolist()), actions)]
