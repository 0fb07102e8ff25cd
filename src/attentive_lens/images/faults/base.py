"""What a fault finder gets and gives."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from attentive_lens.plan.progress import Job


@dataclass(frozen=True)
class Finding:
    """Something that may spoil training.

    Attributes
    ----------
    kind : str
        The finder's word.
    why : str
        One sentence: what was found, with its figures.
    remedy : str
        One or two things to do.
    places : tuple of int
        The images, by place; the most telling first.
    """

    kind: str
    why: str
    remedy: str
    places: tuple[int, ...]


@dataclass(frozen=True, eq=False)
class Evidence:
    """A collection as the finders see it.

    Attributes
    ----------
    pixels : ndarray, N×S×S×C uint8
        At the working size.
    labels : ndarray, N int64
        Class numbers.
    sets : tuple of str
        Set of each image.
    classes : tuple of str
        Names by class number.
    sizes : ndarray, N×2 int64
        Height and width of each file.
    """

    pixels: NDArray[np.uint8]
    labels: NDArray[np.int64]
    sets: tuple[str, ...]
    classes: tuple[str, ...]
    sizes: NDArray[np.int64]

    @cached_property
    def grey(self) -> NDArray[np.float32]:
        """Mean over the channels, N×S×S float32 in 0–1."""
        out = np.empty(self.pixels.shape[:3], np.float32)
        for place, image in enumerate(self.pixels):
            out[place] = image.mean(axis=2, dtype=np.float32) / 255
        return out


class Finder(ABC):
    """Base of the finders: one file and one line in the table each."""

    @abstractmethod
    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """Everything of this kind, the gravest first; a job of short steps, for others wait for the worker."""
