"""Random numbers as a function of what they are for, never of how many were drawn before.

Every number comes from a Philox generator (Salmon 2011, «Parallel random numbers: as easy as 1, 2, 3») whose
key is made of the master seed, a purpose and places such as epoch and image. Prefetching, resuming and the
thread count therefore cannot shift it.
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.random.bit_generator import ISeedSequence
from numpy.typing import NDArray


@dataclass(frozen=True)
class _Key(ISeedSequence):
    """A Philox key as it is: handed over so, no entropy is fetched from the machine, which takes longest."""

    words: NDArray[np.uint64]

    def generate_state(self, n_words: int, dtype: Any = np.uint64) -> Any:
        """The key's two words, which is what Philox asks for."""
        del n_words, dtype
        return self.words


def random_generator(seed: int, purpose: str, *places: int) -> np.random.Generator:
    """A generator of its own for one purpose and place.

    Parameters
    ----------
    seed : int
        Master seed of the plan, 0 or above.
    purpose : str
        What the numbers are for, such as ``"order"`` or ``"dropout 2"``.
    *places : int
        Up to three whole numbers, 0 or above: epoch, batch, image.

    Returns
    -------
    numpy.random.Generator
        The same one for the same arguments, on every machine.
    """
    if len(places) > 3:
        raise ValueError(f"at most three places, got {len(places)}")
    key = np.array([seed & 0xFFFF_FFFF_FFFF_FFFF, zlib.crc32(purpose.encode())], np.uint64)
    counter = np.array([0, *places, *([0] * (3 - len(places)))], np.uint64)
    return np.random.Generator(np.random.Philox(_Key(key), counter=counter))  # type: ignore[arg-type]  # the stubs know one kind


def some_of(count: int, most: int, purpose: str) -> NDArray[np.int64]:
    """Places of at most so many of ``count`` things, drawn by lot and in their order; the same for the same words."""
    if count <= most:
        return np.arange(count)
    return np.sort(random_generator(0, purpose).choice(count, most, replace=False))
