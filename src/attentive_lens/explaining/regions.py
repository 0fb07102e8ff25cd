"""Regions of a map, and what each gives to an answer."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import binary_dilation, gaussian_filter, label

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.covering import covered
from attentive_lens.explaining.probe import Probe, Targets

SHARE = 0.1
"""Part of the pixels that are marked."""
MOST = 6
"""Regions listed, at most."""


@dataclass(frozen=True)
class Region:
    """One connected part of the image.

    Attributes
    ----------
    top, left, height, width : float
        Its box, parts of the side, 0–1.
    share : float
        Part of the map's strength in it, 0–1.
    gives : list of float
        How much each of the targets falls when it is covered with the image's mean.
    """

    top: float
    left: float
    height: float
    width: float
    share: float
    gives: list[float]


def marked(map_: NDArray[np.float32]) -> list[NDArray[np.bool_]]:
    """Masks H×W of the regions a map marks: its strongest tenth, smoothed, in connected parts, the strongest first."""
    strength = gaussian_filter(np.abs(np.asarray(map_, np.float64)), 1.5)
    if strength.max() <= 0:
        return []
    parts, count = label(strength >= np.quantile(strength, 1 - SHARE))
    masks = [parts == k for k in range(1, count + 1)]
    masks.sort(key=lambda mask: -float(strength[mask].sum()))
    return [binary_dilation(mask) for mask in masks[:MOST]]


def evaluated(
    probe: Probe, image: Array, targets: Targets, map_: NDArray[np.float32], masks: list[NDArray[np.bool_]]
) -> list[Region]:
    """What regions, marked or drawn by hand, give to each of the targets."""
    if not masks:
        return []
    numbers = probe.values(np.concatenate([image[None], covered(image, masks)]), targets)
    strength = np.abs(np.asarray(map_, np.float64))
    whole = max(float(strength.sum()), 1e-12)
    regions = []
    for without, mask in zip(numbers[1:], masks, strict=True):
        rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
        height, width = mask.shape
        regions.append(
            Region(
                float(rows[0] / height),
                float(columns[0] / width),
                float((rows[-1] + 1 - rows[0]) / height),
                float((columns[-1] + 1 - columns[0]) / width),
                float(strength[mask].sum() / whole),
                [float(v) for v in numbers[0] - without],
            )
        )
    return regions
