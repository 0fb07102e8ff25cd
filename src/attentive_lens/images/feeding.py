"""Batches for training, made ahead by a thread of its own while the last one is computed with."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.random import random_generator
from attentive_lens.images.augmentation import augment
from attentive_lens.images.pixel_format import eight_bits
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.rows import Pixels
from attentive_lens.images.sampling import draws_of_epoch
from attentive_lens.plan.augmentation import AugmentationStep
from attentive_lens.plan.training import UNIFORM

AHEAD = 2
"""Batches waiting, at most."""


def _all(count: int) -> slice:
    return slice(0, count)


@dataclass(frozen=True)
class Batch:
    """Prepared images with what should be answered: a whole batch, or this process's rows of one.

    Attributes
    ----------
    images : ndarray, N×H×W×C float32
        Prepared.
    targets : ndarray, N×K float32, or N×H×W×C float32
        Each row summing to 1, but for several labels; or images 0–1, which are to be drawn.
    count : int
        Images of the whole batch; as many as there are if left out.
    labels : ndarray, N int64
        Classes of images that are to be drawn.
    """

    images: NDArray[np.float32]
    targets: NDArray[np.float32]
    count: int = -1
    labels: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))

    def __post_init__(self) -> None:
        if self.count < 0:
            object.__setattr__(self, "count", len(self.images))


class Feed:
    """Training batches, epoch by epoch; `waited` counts the seconds that somebody waited for one.

    Parameters
    ----------
    pixels : ndarray, M×H×W×C uint8
        All images at the input size.
    labels : ndarray, M int64
        Class numbers.
    members : ndarray, int64
        Rows of the training set.
    augmentation : sequence of AugmentationStep
        Changes; none leaves the images as they are. Those for colours stand aside where there are none.
    preprocessor : Preprocessor
        Applied last.
    seed, size, classes : int
        Master seed, images in a batch (the last of an epoch may be smaller), and number of classes.
    variants : int
        Augmented variants of each image, which come in turn; 0: a new one at every epoch.
    draws : str
        What is to be drawn: nothing where classes are to be answered, the "augmented" images or the "plain" ones.
    sampling : str
        See `sampling.draws_of_epoch`.
    targets : ndarray, C×K float32, optional
        What should be answered to the images of each label; the label itself if left out.

    Attributes
    ----------
    frozen_outputs : ndarray, V×M×… float32, or None
        What stands in for the prepared images, by variant and member.
    rows : callable
        Which images of a batch of so many are made for training; all, unless other processes make others.
    """

    def __init__(
        self,
        pixels: Pixels,
        labels: NDArray[np.int64],
        members: NDArray[np.int64],
        augmentation: Sequence[AugmentationStep],
        preprocessor: Preprocessor,
        seed: int,
        size: int,
        classes: int,
        variants: int = 0,
        draws: str = "",
        sampling: str = UNIFORM,
        targets: NDArray[np.float32] | None = None,
    ) -> None:
        self.pixels, self.labels, self.members = pixels, labels, members
        self.augmentation = tuple(step for step in augmentation if step.acts_on(preprocessor.settings))
        self.preprocessor, self.seed, self.size = preprocessor, seed, size
        self.classes, self.variants, self.draws, self.sampling = classes, variants, draws, sampling
        self.targets = targets
        self.frozen_outputs: NDArray[np.float32] | None = None
        self.rows: Callable[[int], slice] = _all
        self.waited = 0.0

    def wanted(self, labels: NDArray[np.int64]) -> NDArray[np.float32]:
        """What should be answered to images with these labels, N×K."""
        if self.targets is not None:
            return self.targets[labels]
        targets = np.zeros((len(labels), self.classes), np.float32)
        targets[np.arange(len(labels)), labels] = 1
        return targets

    @property
    def batches(self) -> int:
        """Batches in an epoch."""
        return -(-len(self.members) // self.size)

    def order(self, epoch: int) -> NDArray[np.int64]:
        """What an epoch shows, see `sampling.draws_of_epoch`."""
        return draws_of_epoch(self.labels[self.members], self.sampling, self.seed, epoch)

    def _drawn(self, epoch: int, number: int, order: NDArray[np.int64]) -> tuple[NDArray[np.int64], list[int], int]:
        """Places of a batch's images among the members, and what their augmentation is drawn by: numbers, variant."""
        turns, places = np.divmod(order[number * self.size : (number + 1) * self.size], len(self.members))
        numbers = self.members[places]
        if self.variants:
            return places, numbers.tolist(), epoch % self.variants
        return places, (numbers + turns * len(self.pixels)).tolist(), epoch

    def batch(self, epoch: int, number: int, order: NDArray[np.int64], rows: Callable[[int], slice] = _all) -> Batch:
        """One batch, or some rows of it: a function of its arguments and the seed."""
        places, numbers, variant = self._drawn(epoch, number, order)
        count, wanted = len(places), rows(len(places))
        members = self.members[places]
        labels = self.labels[members]
        own = labels[wanted]
        if self.frozen_outputs is not None:
            return Batch(
                np.ascontiguousarray(self.frozen_outputs[variant % len(self.frozen_outputs), places[wanted]]),
                self.wanted(own),
                count,
            )
        pixels = self.pixels[members]
        variants = augment(pixels, numbers, self.augmentation, self.seed, variant, wanted)
        if self.draws:
            drawn = variants.images if self.draws == "augmented" else self.preprocessor.targets(pixels[wanted])
            return Batch(self.preprocessor.apply(variants.images), drawn.clip(0, 1), count, own)
        shares = variants.shares[:, None]
        targets = (1 - shares) * self.wanted(own) + shares * self.wanted(labels[variants.partners])
        return Batch(self.preprocessor.apply(variants.images), targets, count)

    def pictures(self, epoch: int, number: int, most: int) -> tuple[NDArray[np.uint8], NDArray[np.int64]]:
        """The first images of a batch as they are augmented, K×H×W×C uint8, and their rows; no more than so many."""
        places, numbers, variant = self._drawn(epoch, number, self.order(epoch))
        members = self.members[places]
        wanted = slice(0, min(most, len(members)))
        images = augment(self.pixels[members], numbers, self.augmentation, self.seed, variant, wanted).images
        return eight_bits(self.preprocessor.pixels(images)), members[wanted]

    def prepared(self, variant: int, first: int, last: int) -> NDArray[np.float32]:
        """A variant of some members, from one place among them to another."""
        rows = self.members[first:last]
        return self.preprocessor.apply(
            augment(self.pixels[rows], rows.tolist(), self.augmentation, self.seed, variant).images
        )

    def examples(self, count: int, variant: int) -> Iterator[Batch]:
        """Batches of training images, at least so many if there are; others for another variant."""
        order = random_generator(self.seed, "examples", variant).permutation(len(self.members))
        for number in range(min(self.batches, -(-count // self.size))):
            yield self.batch(variant, number, order)

    def batches_of(self, epoch: int, first: int = 0) -> Iterator[Batch]:
        """The batches of an epoch from ``first`` on, in its own order; made ahead, stopped when it is closed."""
        order = self.order(epoch)
        waiting: queue.Queue[Any] = queue.Queue(AHEAD)
        stop = threading.Event()

        def make() -> None:
            try:
                for number in range(first, self.batches):
                    if not _put(waiting, self.batch(epoch, number, order, self.rows), stop):
                        return
            except BaseException as error:  # noqa: BLE001  # handed to the thread that waits
                _put(waiting, error, stop)

        thread = threading.Thread(target=make, name="feed", daemon=True)
        thread.start()
        try:
            for _ in range(first, self.batches):
                began = time.perf_counter()
                item = waiting.get()
                self.waited += time.perf_counter() - began
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
