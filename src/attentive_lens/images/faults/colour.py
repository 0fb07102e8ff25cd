"""Grey pictures trained as coloured ones, and classes that colour alone gives away."""

from __future__ import annotations

import numpy as np

from attentive_lens.core.jobs import Job
from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding, at_a_time, images_in_words

COLOURLESS = 2.0
"""Levels, on average, by which the channels of a grey picture differ at most: packing alters them a little."""
ALL = 0.98
"""Part of some images from which they are called all."""
FEWEST = 10


class Colour(Finder):
    """Whether all pictures are grey, or all of some class and hardly any of another."""

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding of each kind."""
        if evidence.pixels.shape[3] != 3 or not len(evidence):
            return []
        grey = np.empty(len(evidence), bool)
        for progress, part in at_a_time(len(evidence), "looking for grey pictures"):
            yield progress
            images = evidence.images(part).astype(np.int16)
            apart = np.abs(images[..., :2] - images[..., 1:]).mean(axis=(1, 2, 3))
            grey[part] = apart <= COLOURLESS
        if grey.mean() >= ALL:
            return self._all_grey(evidence, grey) if evidence.trained_in != "grey" else []
        counts = np.bincount(evidence.labels, minlength=len(evidence.classes))
        parts = np.bincount(evidence.labels, weights=grey, minlength=len(evidence.classes)) / np.maximum(counts, 1)
        colourless = np.flatnonzero((parts >= ALL) & (counts >= FEWEST))
        coloured = np.flatnonzero((parts <= 1 - ALL) & (counts >= FEWEST))
        if not len(colourless) or not len(coloured) or evidence.trained_in == "grey":
            return []
        names = ", ".join(f"«{evidence.classes[k]}»" for k in colourless)
        others = ", ".join(f"«{evidence.classes[k]}»" for k in coloured)
        why = f"all pictures of {names} are grey and all of {others} are coloured: a network tells them by that alone"
        places = tuple(np.flatnonzero(np.isin(evidence.labels, colourless)).tolist())
        action = Action("train on grey pictures", settings={"preprocessing.colour_space": "grey"})
        return [Finding("grey classes", why, "Train on grey pictures, or add coloured ones of them", places, (action,))]

    def _all_grey(self, evidence: Evidence, grey: np.ndarray) -> list[Finding]:
        places = tuple(np.flatnonzero(grey).tolist())
        count = f"all {len(evidence)} images" if grey.all() else f"{images_in_words(len(places))} of {len(evidence)}"
        why = f"{count} are grey and are trained on as coloured: three channels that say the same"
        action = Action("train on grey pictures", settings={"preprocessing.colour_space": "grey"})
        remedy = "Train on grey pictures: the first layer needs a third of the weights, and predictions of coloured"
        return [Finding("grey pictures", why, f"{remedy} files are grey too", places, (action,))]
