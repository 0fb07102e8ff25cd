"""Images that carry too little to learn from."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import Job
from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding, at_a_time, images_in_words

SOFT = 0.48
"""Part of its class's usual fine detail below which an image is out of focus."""
FAR_BELOW = 2.5
"""Robust deviations by which its fine detail must lie below its class's usual, where that varies much."""
FLAT = 0.25
"""Part of its class's usual contrast below which an image is washed out."""
SMALL = 0.5
"""Part of the input size below which a file is too small."""


class Poor(Finder):
    """Out of focus, washed out, or far smaller than the input size; the first two against the image's own class."""

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding of each sort."""
        count = len(evidence)
        contrast, detail = np.empty(count, np.float32), np.empty(count, np.float32)
        for progress, part in at_a_time(count, "looking for poor images"):
            yield progress
            grey = evidence.grey(part)
            contrast[part] = grey.std(axis=(1, 2))
            detail[part] = fine_detail(grey)
        soft, flat = np.zeros(len(contrast), bool), np.zeros(len(contrast), bool)
        for label in range(len(evidence.classes)):
            of_class = evidence.labels == label
            if of_class.sum() >= 5:
                flat[of_class] = contrast[of_class] < FLAT * np.median(contrast[of_class])
                sharp = np.log(np.maximum(detail[of_class], 1e-4))
                spread = 1.4826 * np.median(np.abs(sharp - np.median(sharp)))
                soft[of_class] = sharp < np.median(sharp) + np.minimum(np.log(SOFT), -FAR_BELOW * spread)
        soft &= ~flat
        side = evidence.side
        small = evidence.sizes.min(axis=1) < SMALL * side
        sorts = (
            ("out of focus", soft, "show less than half of the fine detail usual in their class", detail),
            ("washed out", flat, "have less than a quarter of the contrast usual in their class", contrast),
            (
                "too small",
                small,
                f"are smaller than half the input size of {side} pixels",
                evidence.sizes.min(axis=1),
            ),
        )
        findings = []
        for kind, which, words, order in sorts:
            places = np.flatnonzero(which)
            if len(places):
                ranked = tuple(places[np.argsort(order[places], kind="stable")].tolist())
                count_words = images_in_words(len(places))
                actions = (Action(f"exclude {count_words}", ranked), Action("flag them", flag=ranked))
                remedy = "Look at them, and leave out what shows nothing"
                findings.append(Finding(kind, f"{count_words} {words}", remedy, ranked, actions))
        return findings


def fine_detail(grey: NDArray[np.float32]) -> NDArray[np.float32]:
    """Strength of detail one to two pixels wide, as a part of the image's own contrast: N values, 0 or above.

    The deviation of the band between two blurs, of 1 and of 2 pixels, over the deviation of the image. Finer detail
    is left out, for it is mostly the camera's noise.
    """
    one, two = gaussian_filter(grey, (0, 1, 1)), gaussian_filter(grey, (0, 2, 2))
    band = (one - two).std(axis=(1, 2))
    return np.asarray(band / np.maximum(grey.std(axis=(1, 2)), 1e-3), np.float32)
