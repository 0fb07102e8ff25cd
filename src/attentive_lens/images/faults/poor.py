"""Images that carry too little to learn from."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import Job
from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding, at_a_time, images_in_words

FALLS = -0.8
"""Fineness below which an image shows nothing sharp, where its strongest edges are blurred too."""
BLURRED = 0.5
"""Sharpness of the strongest edges below which they are blurred."""
BELOW_CLASS = -1.0
"""Robust deviations from its class's usual fineness; above, the things themselves are smooth."""
LEAST_SPREAD = 0.15
"""Of a class's fineness: pictures all alike are no measure of what differs."""
FLAT = 0.3
"""Part of its class's usual contrast below which an image may be washed out."""
FAR_FLATTER = -1.7
"""Robust deviations from its class's usual contrast, in logarithms."""
CONTRAST_SPREAD = 0.2
PALE, DARK = 0.2, 0.15
"""Of white: a washed out image has nothing darker, a dark one nothing brighter, but for a hundredth of it."""
BRIGHT = 0.4
"""Of white: the brightest hundredth that is usual in a class of which dark images are no matter of course."""
NOISE = 0.3 / 255
"""Detail of so much counts as none."""
STEEPEST = 60
"""Pixels in which an image is steepest."""
SMALL = 0.5
"""Part of the input size, and of its class's usual size, below which a file is too small."""
MANY = 0.1
"""Part of all images from which small files are no accident: the input size is too large for the collection."""


class Poor(Finder):
    """Out of focus, washed out, dark, or small: each against what is usual in the image's own class.

    Things that are smooth themselves, or pale, or whose pictures differ much in this, are told from poor pictures only
    as far as their class goes; ``benchmarks/real/faults.py`` says how far that is.
    """

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding of each sort."""
        count = len(evidence)
        contrast, fine, edges, low, high = (np.empty(count, np.float32) for _ in range(5))
        for progress, part in at_a_time(count, "looking for poor images"):
            yield progress
            grey = evidence.grey(part)
            contrast[part] = grey.std(axis=(1, 2))
            fine[part], edges[part] = fineness(grey), edge_sharpness(grey)
            low[part], high[part] = np.percentile(grey.reshape(len(part), -1), (1, 99), axis=1)
        below, flat, dark = np.zeros(count, np.float32), np.zeros(count, bool), np.zeros(count, bool)
        scale = (evidence.sizes / np.array(evidence.input_sides)).min(axis=1)
        small = scale < SMALL
        many = small.mean() > MANY
        for label in range(len(evidence.classes)):
            of_class = evidence.labels == label
            if of_class.sum() >= 5:
                flatter = robust(np.log(contrast[of_class] + 1e-4), CONTRAST_SPREAD) < FAR_FLATTER
                flat[of_class] = flatter & (contrast[of_class] < FLAT * np.median(contrast[of_class]))
                dark[of_class] = (high[of_class] < DARK) & (np.median(high[of_class]) > BRIGHT)
                small[of_class] &= many | (scale[of_class] < SMALL * np.median(scale[of_class]))
                if np.median(fine[of_class]) > FALLS:  # else the things themselves are smooth, and nothing can be told
                    below[of_class] = robust(fine[of_class], LEAST_SPREAD)
        flat &= low > PALE
        soft = (fine < FALLS) & (edges < BLURRED) & (below < BELOW_CLASS) & ~dark
        sorts = (
            ("out of focus", soft, "show no sharp edge and less fine detail than is usual in their class", fine),
            ("washed out", flat, "show nothing dark, and less than a third of their class's usual contrast", contrast),
            ("too dark", dark, "show nothing brighter than a seventh of white", high),
        )
        findings = [_finding(kind, np.flatnonzero(which), words, order) for kind, which, words, order in sorts]
        if many:
            findings.append(_too_large(evidence, np.flatnonzero(small), scale))
        else:
            words = (
                f"are smaller than half the input size of {evidence.input_in_words}, and than half their class's usual"
            )
            findings.append(_finding("too small", np.flatnonzero(small), words, scale))
        return [finding for finding in findings if finding is not None]


def _finding(kind: str, places: NDArray[np.intp], words: str, order: NDArray[Any]) -> Finding | None:
    if not len(places):
        return None
    ranked = tuple(places[np.argsort(order[places], kind="stable")].tolist())
    images = images_in_words(len(places))
    actions = (Action(f"exclude {images}", ranked), Action("flag them", flag=ranked))
    return Finding(kind, f"{images} {words}", "Look at them, and leave out what shows nothing", ranked, actions)


def _too_large(evidence: Evidence, places: NDArray[np.intp], scale: NDArray[np.float64]) -> Finding:
    """So many small images are no accident: nothing to do about them, but about the input size."""
    ranked = tuple(places[np.argsort(scale[places], kind="stable")].tolist())
    part = len(places) / len(evidence)
    why = f"{part:.0%} of the images are smaller than half the input size of {evidence.input_in_words}"
    usual = float(np.median(scale))
    fitting = dict.fromkeys(max(8, int(usual * side + 1e-9) // 8 * 8) for side in evidence.input_sides)
    remedy = f"Try an input size of {'×'.join(map(str, fitting))}, or know that small ones are enlarged"
    return Finding("input size", why, remedy, ranked, (Action("flag them", flag=ranked),))


def robust(values: NDArray[np.float32], least: float) -> NDArray[np.float32]:
    """How many robust standard deviations, of no less than ``least``, values lie above their median."""
    middle = np.median(values)
    return np.asarray((values - middle) / max(1.4826 * float(np.median(np.abs(values - middle))), least), np.float32)


def fineness(grey: NDArray[np.float32]) -> NDArray[np.float32]:
    """How detail grows with its fineness, N values for N×H×W images in 0–1: about 0 in photographs that are sharp.

    Logarithm of the energy of detail one to two pixels wide over that of two to four. Blur takes the finer one away
    first, so that it falls however much detail of any width the things themselves have.
    """
    soft = [gaussian_filter(grey, (0, sigma, sigma)) for sigma in (1, 2, 4)]
    finer, coarser = ((np.square(a - b)).mean(axis=(1, 2)) + NOISE**2 for a, b in pairwise(soft))
    return np.asarray(np.log(finer / coarser), np.float32)


def edge_sharpness(grey: NDArray[np.float32]) -> NDArray[np.float32]:
    """Logarithm of how much steeper an image's steepest places are than after a blur of three pixels, N values.

    Up to 1.1 at the edge of a step, 0.3 where a blur of three pixels is in the picture already; higher in texture.
    """
    steep, blurred = (_slope(gaussian_filter(grey, (0, sigma, sigma)))[:, 3:-3, 3:-3] for sigma in (1, 3))
    steep, blurred = steep.reshape(len(grey), -1), blurred.reshape(len(grey), -1)
    count = min(STEEPEST, steep.shape[1])
    if not count:
        return np.zeros(len(grey), np.float32)
    strongest = np.argpartition(-steep, count - 1, axis=1)[:, :count]
    ratios = np.take_along_axis(steep / (blurred + 1 / 255), strongest, axis=1)
    return np.asarray(np.log(ratios.mean(axis=1) + 0.05), np.float32)


def _slope(grey: NDArray[np.float32]) -> NDArray[np.float32]:
    down, across = np.gradient(grey, axis=(1, 2))
    return np.asarray(np.hypot(down, across), np.float32)


def fine_detail(grey: NDArray[np.float32]) -> NDArray[np.float32]:
    """Strength of detail one to two pixels wide, as a part of the image's own contrast: N values, 0 or above.

    The deviation of the band between two blurs, of 1 and of 2 pixels, over the deviation of the image. Finer detail
    is left out, for it is mostly the camera's noise.
    """
    one, two = gaussian_filter(grey, (0, 1, 1)), gaussian_filter(grey, (0, 2, 2))
    band = (one - two).std(axis=(1, 2))
    return np.asarray(band / np.maximum(grey.std(axis=(1, 2)), 1e-3), np.float32)
