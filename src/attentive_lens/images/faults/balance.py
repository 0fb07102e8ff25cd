"""Classes too small to learn, or far out of balance."""

from __future__ import annotations

import numpy as np

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.images.faults.base import Evidence, Finder, Finding, images_in_words

FEWEST = 10
RARE = 0.25
"""Part of the usual class's images below which a class is rare."""


class Balance(Finder):
    """Counts of the classes' images, against ten and against the median class."""

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding for each class, the smallest first."""
        yield Progress(0, 1, "looking for rare classes")
        counts = np.bincount(evidence.labels, minlength=len(evidence.classes))
        usual = float(np.median(counts))
        findings = []
        for label in np.argsort(counts, kind="stable"):
            count, name = int(counts[label]), evidence.classes[int(label)]
            places = tuple(np.flatnonzero(evidence.labels == label).tolist())
            images = images_in_words(count)
            if count < FEWEST:
                why = f"«{name}» has only {images}: too few to learn from and to be judged by"
                findings.append(Finding("small class", why, "Add images of it, or leave the class out", places))
            elif count < RARE * usual:
                why = f"«{name}» has {images}, where the classes usually have {usual:.0f}"
                findings.append(
                    Finding("rare class", why, "Add images of it; accuracy alone will hide its mistakes", places)
                )
        return findings
