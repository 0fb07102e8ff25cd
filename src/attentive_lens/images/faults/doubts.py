"""Labels that models contradict which did not learn from the image."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding, images_in_words
from attentive_lens.plan.progress import Job, Progress

FEWEST = 5
"""Images of a class, answered by models that did not learn from them, below which nothing is usual."""


class Doubts(Finder):
    """Images that models are surer to be of another class than they usually are of that class's own images.

    Needs runs whose validation sets cover the images, best as folds that take turns: only answers of models that did
    not train on an image count. Each class has its own bar, the mean probability of the images labelled with it, so a
    model too sure of itself does not accuse everybody. A shortcut, such as a mark, makes false accusers of models.
    Source: Northcutt, Jiang and Chuang 2021, section 3.
    """

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding, the surest first."""
        yield Progress(0, 1, "looking for doubtful labels")
        if evidence.answers is None:
            return []
        answered: NDArray[np.bool_] = np.asarray(np.isfinite(evidence.answers).all(axis=1))
        own = np.where(answered, evidence.answers[np.arange(len(evidence)), evidence.labels], np.nan)
        bars = np.full(len(evidence.classes), np.inf)
        for label in range(len(evidence.classes)):
            mine = answered & (evidence.labels == label)
            if mine.sum() >= FEWEST:
                bars[label] = own[mine].mean()
        answers = np.where(answered[:, None], evidence.answers, 0)
        said = np.where(answers >= bars, answers, 0).argmax(axis=1)
        sure = answers[np.arange(len(evidence)), said]
        doubtful = np.flatnonzero(answered & (said != evidence.labels) & (sure >= bars[said]) & (sure > 0.5))
        if not len(doubtful):
            return []
        ranked = doubtful[np.argsort(-sure[doubtful], kind="stable")]
        told = images_in_words(len(ranked))
        why = f"{told} of {int(answered.sum())} answered by models that did not learn from them are said to be another"
        actions = (
            Action("flag them", flag=tuple(ranked.tolist())),
            Action(f"relabel {told} as said", relabel=tuple((int(p), int(said[p])) for p in ranked)),
        )
        remedy = "Look at each; correct the label, or flag what is hard"
        return [Finding("doubtful label", why, remedy, tuple(ranked.tolist()), actions)]
