"""Grey pictures trained as coloured ones, classes that colour alone gives away, and a few coloured among grey ones."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.images.faults.base import (
    OWN_CHANNELS,
    Action,
    Evidence,
    Finder,
    Finding,
    at_a_time,
    images_in_words,
)

COLOURLESS = 2.0
"""Levels, on average, by which the channels of a grey picture differ at most: packing alters them a little."""
VIVID, SPOT = 40, 0.0015
"""Levels by which the channels of a pixel that has colour differ, beyond what packing does, and the part of a picture
that such pixels must fill for it to be no grey one: six of 64×64."""
ALL = 0.98
"""Part of some images from which they are called all."""
FEWEST = 10
MOSTLY = 0.8
"""Part of the pictures that is grey where colour is the exception."""
FEW, OFTENER = 5, 4.0
"""Coloured pictures of a class from which on it is named, and times as often as in the others."""


class Colour(Finder):
    """Whether all pictures are grey, or all but a few, or all of some class and hardly any of another."""

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding of each kind."""
        if evidence.pixels.shape[3] != 3 or evidence.trained_in == OWN_CHANNELS or not len(evidence):
            return []
        grey, spotted = np.empty(len(evidence), bool), np.empty(len(evidence), bool)
        for progress, part in at_a_time(len(evidence), "looking for grey pictures"):
            yield progress
            images = evidence.images(part).astype(np.int16)
            apart = np.abs(images[..., :2] - images[..., 1:])
            vivid = np.ptp(images, axis=3) >= VIVID
            spotted[part] = vivid.mean(axis=(1, 2)) >= SPOT
            grey[part] = (apart.mean(axis=(1, 2, 3)) <= COLOURLESS) & ~spotted[part]
        few = _few_coloured(evidence, grey, spotted)
        if grey.mean() >= ALL:
            return [*few, *(self._all_grey(evidence, grey) if evidence.trained_in != "grey" else [])]
        counts = np.bincount(evidence.labels, minlength=len(evidence.classes))
        parts = np.bincount(evidence.labels, weights=grey, minlength=len(evidence.classes)) / np.maximum(counts, 1)
        colourless = np.flatnonzero((parts >= ALL) & (counts >= FEWEST))
        coloured = np.flatnonzero((parts <= 1 - ALL) & (counts >= FEWEST))
        if not len(colourless) or not len(coloured):
            return few
        if evidence.trained_in == "grey":
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


def _few_coloured(evidence: Evidence, grey: NDArray[np.bool_], spotted: NDArray[np.bool_]) -> list[Finding]:
    """Pictures with colour in a set of grey ones: a stamp, a pen, another camera."""
    if not grey.mean() >= MOSTLY or not spotted.any():
        return []
    places = np.flatnonzero(spotted)
    counts = np.bincount(evidence.labels, minlength=len(evidence.classes))
    own = np.bincount(evidence.labels[places], minlength=len(evidence.classes))
    most = int(own.argmax())
    of_class = ""
    if own[most] >= FEW and own[most] * (len(evidence) - counts[most]) > OFTENER * counts[most] * (
        own.sum() - own[most]
    ):
        of_class = (
            f", {own[most]} of them among the {counts[most]} of «{evidence.classes[most]}»: a network may learn the"
            " colour in place of the thing"
        )
    others = "all others" if (grey | spotted).all() else f"{int(grey.sum())}"
    why = f"{images_in_words(len(places))} of {len(evidence)} have colour, and {others} are grey{of_class}"
    flag = Action("flag them", flag=tuple(places.tolist()))
    as_grey = Action("train on grey pictures", settings={"preprocessing.colour_space": "grey"})
    remedy = "Look at what is coloured; if it is no part of the thing, train on grey pictures"
    actions = (flag,) if evidence.trained_in == "grey" else (flag, as_grey)
    return [Finding("coloured among grey", why, remedy, tuple(places.tolist()), actions)]
