"""Processes that compute one network together, each its share of every batch; sums are the same bits for any number.

A batch is cut into pieces by its work alone, a power of two of them, and sums are taken pairwise along a fixed tree
over the pieces: neighbours first, then pairs of neighbours. Each of 1, 2, 4 … processes computes a whole branch of it,
and the branches meet by recursive doubling (Thakur, Rabenseifner & Gropp 2005, section 4.4).
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.plan.pieces import pieces_of

S = TypeVar("S", bound=np.generic)


class Ranks:
    """The processes that compute together: of this class only one, the subclass knows others.

    Attributes
    ----------
    index, count : int
        Which of how many processes this one is, from 0.
    local : int
        How many of them run on this machine.
    """

    index: int = 0
    count: int = 1
    local: int = 1

    def swap(self, partner: int, values: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """Give another process bytes and take as many of its own, which it swaps at the same time."""
        raise LookupError(f"process {partner} of {self.count}")

    def gather(self, values: NDArray[S]) -> list[NDArray[S]]:
        """The arrays of one dtype that all processes give at the same time, by their index."""
        return [values]

    def gather_words(self, words: str) -> list[str]:
        """Words of all, by their index."""
        return [bytes(each).decode() for each in self.gather(np.frombuffer(words.encode(), np.uint8))]

    def say(self, do: str, **values: object) -> None:
        """Tell the others, who follow this process, what is done next; nothing where nobody follows."""


ALONE = Ranks()


class Cut:
    """How a batch is cut into pieces, and which of them this process computes.

    Parameters
    ----------
    count : int
        Images in the batch.
    multiply_adds : int
        What one image costs forward.
    ranks : Ranks
        Who computes them.

    Attributes
    ----------
    count : int
        As given.
    spans : list of tuple of int
        First image of each of this process's pieces, and the one after its last, in the batch.
    first : int
        Number of the first of these pieces.
    """

    def __init__(self, count: int, multiply_adds: int, ranks: Ranks = ALONE) -> None:
        pieces = pieces_of(count * multiply_adds)
        edges = [count * k // pieces for k in range(pieces + 1)]
        spans = [(a, b) for a, b in pairwise(edges) if a < b]
        self.ranks, self.count = ranks, count
        # A batch of fewer images than pieces is computed by everybody, as pieces are where processes outnumber them.
        self.branches = min(ranks.count, pieces) if len(spans) == pieces else 1
        own = len(spans) // self.branches
        self.first = ranks.index % self.branches * own
        self.spans = spans[self.first : self.first + own]

    @property
    def rows(self) -> slice:
        """Images of the batch that this process computes."""
        return slice(self.spans[0][0], self.spans[-1][1]) if self.spans else slice(0, 0)

    def sum(self, parts: list[list[Array]]) -> list[Array]:
        """Sums over the batch of what each piece of this process gives, a list of arrays of one shape for all.

        The first piece's arrays are overwritten.
        """
        step = 1
        while step < len(parts):
            for place in range(0, len(parts) - step, 2 * step):
                for mine, other in zip(parts[place], parts[place + step], strict=True):
                    mine += other
            step *= 2
        total = parts[0]
        distance = 1
        while distance < self.branches:
            for mine, other in zip(total, self._swapped(self.ranks.index ^ distance, total), strict=True):
                mine += other
            distance *= 2
        return total

    def _swapped(self, partner: int, arrays: Sequence[Array]) -> list[Array]:
        packed = np.concatenate([np.ascontiguousarray(array).reshape(-1).view(np.uint8) for array in arrays])
        received, place, out = self.ranks.swap(partner, packed), 0, []
        for array in arrays:
            out.append(received[place : place + array.nbytes].view(array.dtype).reshape(array.shape))
            place += array.nbytes
        return out
