"""Whether a map can be believed, measured."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.losses import softmax
from attentive_lens.engine.network import Network
from attentive_lens.explaining.covering import covered
from attentive_lens.plan.chance import chance

SHARE = 0.05
"""Part of the pixels deleted."""
LEAST = 0.02
"""A class below this probability has nothing to lose, and a difference below it tells nothing of the map."""
DRAWS = 8
"""Random deletions that the map's is compared with."""


@dataclass(frozen=True)
class Deletion:
    """What deleting pixels does to a class's probability.

    Attributes
    ----------
    before : float
        Probability of the untouched image, 0–1.
    marked : float
        After deleting what the map marks most.
    random : float
        After deleting as many pixels elsewhere at random, mean of several draws.
    """

    before: float
    marked: float
    random: float

    @property
    def passed(self) -> bool | None:
        """Whether deleting what is marked takes clearly more than deleting at random; None with nothing to lose."""
        return self.marked < self.random - LEAST if self.before >= LEAST else None


def deletion(network: Network, image: Array, map_: NDArray[np.float32], target: int, seed: int = 0) -> Deletion:
    """Delete the pixels a map marks most, and as many random ones, and see what is left of the answer.

    The random ones are drawn in squares of the size that pixels of a map hang together in (5×5), for single
    random pixels are noise a network has never seen, and would flatter every map.

    Parameters
    ----------
    network : Network
        Trained.
    image : ndarray, H×W×C
        Prepared.
    map_ : ndarray, H×W float32
        It is smoothed over 5×5 pixels before the greatest are chosen.
    target : int
        Class the map is for.
    seed : int
        Decides the random draws.

    Notes
    -----
    Deleted pixels take the image's mean, see `covering.filling`. Petsiuk 2018, section 4.1, with one fixed share in
    place of the curve. A map that marks the class's pixels passes; so may one that marks any large object.
    """
    height, width = map_.shape
    count = max(1, round(SHARE * map_.size))
    order = np.argsort(-_smoothed(map_), axis=None, kind="stable")
    masks = [np.zeros((height, width), bool) for _ in range(DRAWS + 2)]
    masks[1].reshape(-1)[order[:count]] = True
    for draw in range(DRAWS):
        random = chance(seed, "deletion", draw)
        mask = masks[draw + 2]
        while mask.sum() < count:
            r, c = random.integers(0, height), random.integers(0, width)
            mask[max(0, r - 2) : r + 3, max(0, c - 2) : c + 3] = True
    found = softmax(network.forward(covered(image, masks)).outputs[network.answers])[:, target]
    return Deletion(float(found[0]), float(found[1]), float(found[2:].mean()))


def _smoothed(map_: NDArray[np.float32]) -> NDArray[np.float64]:
    """Mean over 5×5 pixels, the border repeated, by sums of sums."""
    wide = np.pad(map_.astype(np.float64), 2, mode="edge")
    sums = np.pad(wide.cumsum(axis=0).cumsum(axis=1), ((1, 0), (1, 0)))
    return np.asarray((sums[5:, 5:] - sums[:-5, 5:] - sums[5:, :-5] + sums[:-5, :-5]) / 25)
