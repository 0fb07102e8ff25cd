"""Labels that models contradict which did not learn from the image, or a quick probe where there are none."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding, images_in_words
from attentive_lens.images.faults.quick_probe import Probed, quick_probe

ODDS = 100
"""How many times likelier than the label the other class must be."""
LEAST = 0.5
"""Probability below which an answer is no accusation."""


class Doubts(Finder):
    """Images that models call another class and hold to be a hundred times likelier to be it than what they are called.

    Where runs have images in their validation sets, best as folds that take turns, their answers count: those of models
    that did not train on the image (the principle of Northcutt, Jiang and Chuang 2021, section 3; the odds are ours).
    Models trained too briefly find little, overfitted ones accuse too many; a shortcut, such as a mark, makes false
    accusers of models. All other images are asked about by a quick probe, which needs no run.
    """

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding of the runs and one of the probe, the surest first."""
        yield Progress(0, 1, "looking for doubtful labels")
        answered = _answered(evidence)
        findings = self._by_runs(evidence) if answered.any() else []
        if answered.all():
            return findings
        probed = (yield from quick_probe(evidence)) if evidence.probing else None
        if probed is not None:
            places = [k for k in range(len(probed.places)) if not answered[probed.places[k]]]
            if places:
                findings.append(_by_probe(probed, probed.places[places], probed.classes[places]))
        return findings

    def _by_runs(self, evidence: Evidence) -> list[Finding]:
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
        why = (
            f"{images_in_words(len(ranked))} of {int(answered.sum())} answered by models that did not learn from them"
            " are said to be another"
        )
        return [_finding(why, ranked, predicted[ranked])]


def _answered(evidence: Evidence) -> NDArray[np.bool_]:
    """Images about which a run's answer is known."""
    if evidence.answers is None:
        return np.zeros(len(evidence), bool)
    return np.asarray(np.isfinite(evidence.answers).all(axis=1))


def _by_probe(probed: Probed, places: NDArray[np.int64], classes: NDArray[np.int64]) -> Finding:
    others = probed.looked - probed.planted
    why = (
        f"{images_in_words(len(places))} of {probed.looked} look like another class to a quick probe on plain features,"
        " by their neighbours and by all classifiers that did not learn from them"
        f" ({probed.accuracy:.0%} of its answers are as labelled; of {probed.planted} labels changed for a test it"
        f" doubted {probed.doubted}, of {others} others {probed.others})"
    )
    return _finding(why, places, classes)


def _finding(why: str, places: NDArray[np.int64], classes: NDArray[np.int64]) -> Finding:
    """The surest first, with the class that each is said to be."""
    ranked = tuple(places.tolist())
    actions = (
        Action("flag them", flag=ranked),
        Action(
            f"relabel {images_in_words(len(ranked))} as said",
            relabel=tuple((int(place), int(label)) for place, label in zip(places, classes, strict=True)),
        ),
    )
    remedy = "Look at each; correct the label, or flag what is hard"
    return Finding("doubtful label", why, remedy, ranked, actions)
