"""What a fault finder gets and gives."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.preprocessing import made_square
from attentive_lens.images.rows import Pixels
from attentive_lens.plan.augmentation import AugmentationStep


@dataclass(frozen=True)
class Action:
    """Something that can be done about a finding at once.

    Attributes
    ----------
    word : str
        On its button: «exclude 3 images».
    exclude, flag : tuple of int
        Images to leave out, and to mark, by place.
    relabel : tuple of (int, int)
        Images, by place, and the class number each is to get.
    together : tuple of tuple of int
        Groups of images, by place, of which each is to stand in one set.
    step : AugmentationStep or None
        A change for training to add to the augmentation.
    settings : dict
        Settings of the plan, by dotted key, that end it.
    """

    word: str
    exclude: tuple[int, ...] = ()
    flag: tuple[int, ...] = ()
    relabel: tuple[tuple[int, int], ...] = ()
    together: tuple[tuple[int, ...], ...] = ()
    step: AugmentationStep | None = None
    settings: dict[str, str] = field(default_factory=dict)


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
    actions : tuple of Action
        What can be done at once, the best first.
    groups : tuple of tuple of int
        The places again, by what belongs together; empty if they are all of one sort.
    spot : tuple of float or None
        Where in the images: row and column of its middle and its side, parts of the image's side.
    """

    kind: str
    why: str
    remedy: str
    places: tuple[int, ...]
    actions: tuple[Action, ...] = ()
    groups: tuple[tuple[int, ...], ...] = ()
    spot: tuple[float, float, float] | None = None


OWN_CHANNELS = "channels"


@dataclass(frozen=True, eq=False)
class Evidence:
    """A collection as the finders see it; an image's place is its position among those in use.

    Attributes
    ----------
    pixels : ndarray, M×H×W×C uint8 or float32
        At the input size; may be memory-mapped and larger than memory. Finders see those that are not square stretched
        to their longer side, so that parts of a side are the same in both.
    labels : ndarray, N int64
        Class numbers.
    sets : tuple of str
        Set of each image.
    classes : tuple of str
        Names by class number.
    sizes : ndarray, N×2 int64
        Height and width of each file.
    rows : ndarray, N int64, or None
        Where in ``pixels`` each image is; None if they are all in use.
    answers : ndarray, N×K float32, or None
        Mean probabilities of models that did not train on the image; NaN where there are none.
    names : tuple of str
        Name of each image, as the split reads it; empty if they have none that tell anything.
    probing : bool
        Whether plain features can tell something of the classes: of one label among several they hardly do.
    trained_in : str
        Colour space of the plan; `OWN_CHANNELS` where it names channels that are no colours.
    """

    pixels: Pixels
    labels: NDArray[np.int64]
    sets: tuple[str, ...]
    classes: tuple[str, ...]
    sizes: NDArray[np.int64]
    rows: NDArray[np.int64] | None = None
    answers: NDArray[np.float32] | None = None
    names: tuple[str, ...] = ()
    trained_in: str = "RGB"
    probing: bool = True

    def __len__(self) -> int:
        """Images in use."""
        return len(self.labels)

    @property
    def side(self) -> int:
        """Pixels of a side, as the finders see images."""
        return int(max(self.pixels.shape[1:3]))

    @property
    def input_sides(self) -> tuple[int, int]:
        """Rows and columns of the input."""
        return self.pixels.shape[1], self.pixels.shape[2]

    @property
    def input_in_words(self) -> str:
        """«64 pixels», or «28×20 pixels»."""
        return f"{'×'.join(str(side) for side in dict.fromkeys(self.input_sides))} pixels"

    def images(self, places: NDArray[np.int64]) -> PixelArray:
        """Some images, n×H×W×C: uint8, or float32 from 0 to 255."""
        images = self.prepared(places)
        return images if images.dtype == np.uint8 else np.asarray(images * np.float32(255), np.float32)

    def prepared(self, places: NDArray[np.int64]) -> PixelArray:
        """The same as the network's preprocessing takes them, see `PixelArray`."""
        return made_square(np.asarray(self.pixels[places if self.rows is None else self.rows[places]]))

    def grey(self, places: NDArray[np.int64]) -> NDArray[np.float32]:
        """Mean over the channels of some images, n×H×W float32 in 0–1."""
        return np.asarray(self.images(places).mean(axis=3, dtype=np.float32) / 255, np.float32)


class Finder(ABC):
    """Base of the finders: one file and one line in the table each."""

    @abstractmethod
    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """Everything of this kind, the gravest first; a job of short steps, for others wait for the worker."""


def at_a_time(count: int, doing: str, step: int = 16) -> Iterator[tuple[Progress, NDArray[np.int64]]]:
    """Places of so many images in turn, with the progress to yield before each part: a few milliseconds of filters."""
    for first in range(0, count, step):
        yield Progress(first, count, doing), np.arange(first, min(first + step, count))


def images_in_words(count: int) -> str:
    """«1 image», «7 images»."""
    return "1 image" if count == 1 else f"{count} images"
