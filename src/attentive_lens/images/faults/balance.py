"""Classes too small to learn, or far out of balance."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.images.faults.base import Evidence, Finder, Finding, images_in_words

FEWEST = 10
RARE = 0.25
"""Part of the usual class's images below which a class is rare."""
MANY = 5
"""Classes of a kind above which they are told as one."""


class Balance(Finder):
    """Counts of the classes' images, against ten and against the median class."""

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding for each class, the smallest first; one for all where many classes are so."""
        yield Progress(0, 1, "looking for rare classes")
        counts = np.bincount(evidence.labels, minlength=len(evidence.classes))
        usual = float(np.median(counts))
        order = np.argsort(counts, kind="stable")
        small = [int(label) for label in order if counts[label] < FEWEST]
        rare = [int(label) for label in order if FEWEST <= counts[label] < RARE * usual]
        few = f"fewer than {FEWEST} images", "too few to learn from and to be judged by"
        findings = _findings(evidence, counts, small, "small class", few, "Add images of it, or leave the class out")
        less = f"less than a quarter of the usual {usual:.0f} images", "accuracy alone will hide their mistakes"
        remedy = "Add images of it; accuracy alone will hide its mistakes"
        return [*findings, *_findings(evidence, counts, rare, "rare class", less, remedy, usual)]


def _findings(
    evidence: Evidence,
    counts: NDArray[np.int64],
    labels: Sequence[int],
    kind: str,
    together: tuple[str, str],
    remedy: str,
    usual: float = 0.0,
) -> list[Finding]:
    """One for each class, or for all of them: what they have and what comes of it."""
    if len(labels) > MANY:
        places = tuple(np.flatnonzero(np.isin(evidence.labels, labels)).tolist())
        fewest = f"«{evidence.classes[labels[0]]}», the smallest, has {images_in_words(int(counts[labels[0]]))}"
        why = f"{len(labels)} classes have {together[0]}, {together[1]}: {fewest}"
        return [Finding(kind, why, "Add images of them, or leave these classes out", places)]
    findings = []
    for label in labels:
        has = images_in_words(int(counts[label]))
        name = evidence.classes[label]
        usually = f"«{name}» has {has}, where the classes usually have {usual:.0f}"
        why = usually if usual else f"«{name}» has only {has}: {together[1]}"
        findings.append(Finding(kind, why, remedy, tuple(np.flatnonzero(evidence.labels == label).tolist())))
    return findings
