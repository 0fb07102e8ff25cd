"""Covering the image piece by piece."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.covering import covered
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod

PARTS = 8
"""A square's side is this part of the image's."""


class Occlusion(MapMethod):
    """How much the number falls when a grey square covers the pixel, mean over the squares that do.

    Notes
    -----
    Units of the number. Squares of an eighth of the side, half a side apart, in the image's mean colour. Source:
    Zeiler & Fergus 2014, section 4.2. It needs no gradient and so is a check on the methods that do.
    """

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        height, width = image.shape[:2]
        side = max(1, round(min(height, width) / PARTS))
        step = max(1, side // 2)
        places = [
            (slice(max(0, r), r + side), slice(max(0, c), c + side))
            for r in range(-step, height, step)
            for c in range(-step, width, step)
            if r + side > 0 and c + side > 0
        ]
        numbers = probe.values(np.concatenate([image[None], covered(image, places)]), targets)
        fall = numbers[0] - numbers[1:]
        sums = np.zeros((len(targets.weights), height, width))
        counts = np.zeros((height, width))
        for difference, place in zip(fall, places, strict=True):
            sums[:, place[0], place[1]] += difference[:, None, None]
            counts[place] += 1
        return (sums / np.maximum(counts, 1)).astype(np.float32)
