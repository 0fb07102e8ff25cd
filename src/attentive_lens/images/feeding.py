"""Batches for training, made ahead by a thread of its own while the last one is computed with."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation import augment
from attentive_lens.images.preparation import Levels
from attentive_lens.plan.chance import chance
from attentive_lens.plan.recipe import RecipeStep

AHEAD = 2
"""Batches waiting, at most."""


@dataclass(frozen=True)
class Batch:
    """Prepared images N×S×S×C float32 with their class numbers N int64."""

    images: NDArray[np.float32]
    labels: NDArray[np.int64]


class Feed:
    """Training batches, epoch by epoch.

    Parameters
    ----------
    pixels : ndarray, M×S×S×C uint8
        All images at the working size.
    labels : ndarray, M int64
        Class numbers.
    members : ndarray, int64
        Rows of the training set.
    recipe : sequence of RecipeStep
        Changes; none leaves the images as they are.
    levels : Levels
        Applied last.
    seed, size : int
        Master seed, and images in a batch; the last of an epoch may be smaller.
    """

    def __init__(
        self,
        pixels: NDArray[np.uint8],
        labels: NDArray[np.int64],
        members: NDArray[np.int64],
        recipe: Sequence[RecipeStep],
        levels: Levels,
        seed: int,
        size: int,
    ) -> None:
        self.pixels, self.labels, self.members = pixels, labels, members
        self.recipe, self.levels, self.seed, self.size = recipe, levels, seed, size

    @property
    def batches(self) -> int:
        """Batches in an epoch."""
        return -(-len(self.members) // self.size)

    def batch(self, epoch: int, number: int, order: NDArray[np.int64]) -> Batch:
        """One batch: a function of its arguments and the seed."""
        rows = self.members[order[number * self.size : (number + 1) * self.size]]
        variants = augment(self.pixels[rows], rows.tolist(), self.recipe, self.seed, epoch)
        return Batch(self.levels.apply(variants), self.labels[rows])

    def epoch(self, epoch: int) -> Iterator[Batch]:
        """The batches of an epoch, in its own order; made ahead, and stopped when the iterator is closed."""
        order = chance(self.seed, "order", epoch).permutation(len(self.members))
        waiting: queue.Queue[Any] = queue.Queue(AHEAD)
        stop = threading.Event()

        def make() -> None:
            try:
                for number in range(self.batches):
                    if not _put(waiting, self.batch(epoch, number, order), stop):
                        return
            except BaseException as error:  # noqa: BLE001  # handed to the thread that waits
                _put(waiting, error, stop)

        thread = threading.Thread(target=make, name="feed", daemon=True)
        thread.start()
        try:
            for _ in range(self.batches):
                item = waiting.get()
                if isinstance(item, BaseException):
                    raise item
                yield item
        finally:
            stop.set()
            thread.join()


def _put(waiting: queue.Queue[Any], item: Any, stop: threading.Event) -> bool:
    """Hand an item over; False if nobody wants it any more."""
    while not stop.is_set():
        try:
            waiting.put(item, timeout=0.1)
        except queue.Full:
            continue
        return True
    return False
