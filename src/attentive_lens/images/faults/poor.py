"""Images that carry too little to learn from."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.images.faults.base import Evidence, Finder, Finding
from attentive_lens.plan.progress import Job, Progress

AT_ONCE = 64
SOFT = 0.48
"""Part of its class's usual fine detail below which an image is out of focus."""
FLAT = 0.25
"""Part of its class's usual contrast below which an image is washed out."""
SMALL = 0.5
"""Part of the working size below which a file is too small."""


class Poor(Finder):
    """Out of focus, washed out, or far smaller than the working size; the first two against the image's own class."""

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding of each sort."""
        count = len(evidence.pixels)
        contrast, detail = np.empty(count, np.float32), np.empty(count, np.float32)
        for first in range(0, count, AT_ONCE):
            yield Progress(first, count, "looking for poor images")
            part = evidence.grey[first : first + AT_ONCE]
            contrast[first : first + AT_ONCE] = part.std(axis=(1, 2))
            detail[first : first + AT_ONCE] = fine_detail(part)
        soft, flat = np.zeros(len(contrast), bool), np.zeros(len(contrast), bool)
        for label in range(len(evidence.classes)):
            own = evidence.labels == label
            if own.sum() >= 5:
                flat[own] = contrast[own] < FLAT * np.median(contrast[own])
                soft[own] = detail[own] < SOFT * np.median(detail[own])
        soft &= ~flat
        side = evidence.pixels.shape[1]
        small = evidence.sizes.min(axis=1) < SMALL * side
        sorts = (
            ("out of focus", soft, "show less than half of the fine detail usual in their class", detail),
            ("washed out", flat, "have less than a quarter of the contrast usual in their class", contrast),
            (
                "too small",
                small,
                f"are smaller than half the working size of {side} pixels",
                evidence.sizes.min(axis=1),
            ),
        )
        findings = []
        for kind, which, words, order in sorts:
            places = np.flatnonzero(which)
            if len(places):
                told = f"{len(places)} image{'s' if len(places) > 1 else ''} {words}"
                ranked = places[np.argsort(order[places], kind="stable")]
                findings.append(
                    Finding(kind, told, "Look at them, and leave out what shows nothing", tuple(ranked.tolist()))
                )
        return findings


def fine_detail(grey: NDArray[np.float32]) -> NDArray[np.float32]:
    """Strength of detail one to two pixels wide, as a part of the image's own contrast: N values, 0 or above.

    The deviation of the band between two blurs, of 1 and of 2 pixels, over the deviation of the image. Finer detail
    is left out, for it is mostly the camera's noise.
    """
    one, two = gaussian_filter(grey, (0, 1, 1)), gaussian_filter(grey, (0, 2, 2))
    band = (one - two).std(axis=(1, 2))
    return np.asarray(band / np.maximum(grey.std(axis=(1, 2)), 1e-3), np.float32)
