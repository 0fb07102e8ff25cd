"""Requests to runs whose networks draw: codes of images, images of codes, and images drawn again."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.telling import signed
from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.images.pixel_format import PixelArray

WAYS = {
    "samples": "codes drawn at random",
    "manifold": "a grid over two codes, at the normal distribution's quantiles",
    "between": "the way from one image's codes to another's",
}
"""What images are drawn of."""
OF_WHAT = "; ".join(f"{way}: {words}" for way, words in WAYS.items())
PICTURES, ARRAYS = (".png",), (".npy", ".npz")
"""Endings of the files that images are written to: one picture of all, or the numbers themselves."""
OF_CLASS = "The class that is to be drawn, by a network that is told it; each in turn if left out."
WHERE = "Where they go: a picture of all (.png), or the numbers (.npy, or .npz with the codes)."


@dataclass(frozen=True)
class Drawn:
    """Images that a network drew.

    Attributes
    ----------
    run : int
    of : str
        What they were drawn of, in words.
    columns : int
        How many stand in a row of the picture.
    size : int
        Codes that an image is drawn of.
    file : str
        Where they were written; empty if nowhere.
    classes : tuple of str
        By class number.
    images : ndarray, N×H×W×C uint8
    codes : ndarray, N×D float32
        Of each.
    labels : ndarray, N int64
        Class that each was to be; -1 where the network is told none.
    """

    run: int
    of: str
    columns: int
    size: int
    file: str
    classes: tuple[str, ...]
    images: PixelArray
    codes: NDArray[np.float32]
    labels: NDArray[np.int64]

    def words(self) -> Iterator[str]:
        """How many, of what, and where they are."""
        images = f"{len(self.images)} image{'' if len(self.images) == 1 else 's'}"
        yield f"{images} drawn by run {self.run}: {self.of}."
        if self.file:
            yield f"written to {self.file}"


@dataclass(frozen=True)
class DrawImages(Request[Drawn]):
    """Draw images: of random codes, over a grid of two codes, or on the way between two images."""

    result: ClassVar[type[object]] = Drawn
    task: ClassVar[str] = "drawing.draw"
    doing: ClassVar[str] = "drawing"
    workspace: str
    run: int
    way: str = spec("samples", choices=tuple(WAYS), meaning=f"Of what: {OF_WHAT}.")
    count: int = spec(
        36,
        low=1,
        high=10_000,
        meaning="Images; of a manifold the nearest square of it, of classes a row each.",
    )
    seed: int = spec(0, low=0, meaning="Of the random codes.")
    across: int = spec(1, low=1, meaning="Of a manifold: the code that changes from left to right, from 1.")
    down: int = spec(2, low=1, meaning="Of a manifold: the code that changes from top to bottom.")
    first: int = spec(0, low=0, meaning="Of a way between: number of the image where it begins.")
    second: int = spec(0, low=0, meaning="And of that where it ends.")
    class_name: str = spec("", label="class", meaning=OF_CLASS)
    file: str = spec("", meaning=WHERE)


@dataclass(frozen=True)
class Decode(Request[Drawn]):
    """Draw images of codes that a file holds, a row an image: as «encode» writes them, or your own."""

    result: ClassVar[type[object]] = Drawn
    task: ClassVar[str] = "drawing.decode"
    doing: ClassVar[str] = "drawing"
    arguments: ClassVar[tuple[str, ...]] = ("codes",)
    workspace: str
    run: int
    codes: str = spec("", meaning="File of codes, .csv, .npy or .npz.")
    class_name: str = spec("", label="class", meaning=OF_CLASS)
    file: str = spec("", meaning=WHERE)
    values: tuple[float, ...] = ()


@dataclass(frozen=True)
class Encoded:
    """Codes of a set's images, and how well they are drawn again.

    Attributes
    ----------
    run, on
        Whose, and which set.
    images, size : int
        Images, and codes of each.
    bound, reconstruction, divergence : float
        Means over the images in nats: the lower bound of the log likelihood, minus the log likelihood by one code
        drawn for each, and the divergence of the codes' distributions.
    samples : int
        Codes of each image that the estimate stands on; 0 without one.
    likelihood : float or None
        The importance-weighted estimate of the log likelihood, nearer than the bound the more samples.
    file : str
        Where the codes were written; empty if nowhere.
    classes : tuple of str
        By class number.
    numbers : ndarray, N int64
        In the catalogue.
    labels : ndarray, N int64
        Class numbers, -1 where the model does not know it.
    codes, deviations : ndarray, N×D float32
        Means and standard deviations of each image's codes; the latter 0 without a distribution.
    losses : ndarray, N float64
        Of each image, reconstruction and divergence together.
    """

    run: int
    on: str
    images: int
    size: int
    bound: float
    reconstruction: float
    divergence: float
    samples: int
    likelihood: float | None
    file: str
    classes: tuple[str, ...]
    numbers: NDArray[np.int64]
    labels: NDArray[np.int64]
    codes: NDArray[np.float32]
    deviations: NDArray[np.float32]
    losses: NDArray[np.float64]

    def words(self) -> Iterator[str]:
        """The bound with its parts, and where the codes are."""
        parts = f"reconstruction {self.reconstruction:,.1f}, divergence {self.divergence:.1f}".replace("-", "\u2212")
        yield (
            f"{self.images} {self.on} images as {self.size} codes each: lower bound {signed(self.bound, ',.1f')} nats"
            f" an image ({parts})."
        )
        if self.likelihood is not None:
            yield f"By {self.samples} codes each the log likelihood is about {signed(self.likelihood, ',.1f')} nats."
        if self.file:
            yield f"written to {self.file}"


@dataclass(frozen=True)
class EncodeImages(Request[Encoded]):
    """Give every image of a set its codes, and say how likely the images are by them."""

    result: ClassVar[type[object]] = Encoded
    task: ClassVar[str] = "drawing.encode"
    doing: ClassVar[str] = "encoding"
    workspace: str
    run: int
    on: str = "validation"
    samples: int = spec(0, low=0, high=10_000, meaning="Codes of each image for an estimate by importance; 0: none.")
    file: str = spec("", meaning="Where the codes go: a table (.csv), or the numbers (.npy, or .npz with all else).")


@dataclass(frozen=True)
class Reconstructed:
    """Images beside what is drawn of their codes.

    Attributes
    ----------
    run, on
        Whose, and of which set.
    in_all : int
        Images of the set.
    error : float
        Root of the mean squared difference, in parts of the range of pixels, over the set.
    by_class : dict
        The same for each class.
    classes : tuple of str
    file : str
        Where the picture is; empty if nowhere.
    numbers, labels : ndarray, N int64
        Of those shown, by what was asked for first.
    errors : ndarray, N float64
        Of those shown.
    images, drawn : ndarray, N×H×W×C uint8
    """

    run: int
    on: str
    in_all: int
    error: float
    by_class: dict[str, float]
    classes: tuple[str, ...]
    file: str
    numbers: NDArray[np.int64]
    labels: NDArray[np.int64]
    errors: NDArray[np.float64]
    images: PixelArray
    drawn: PixelArray

    def words(self) -> Iterator[str]:
        """How far off drawings are, by class, and which image is worst."""
        of_all = f"{self.in_all} {self.on} images drawn again"
        yield f"{of_all}, off by {self.error:.3f} of the range of pixels (root mean square)."
        for name, error in sorted(self.by_class.items(), key=lambda item: -item[1]):
            yield f"  {name}: {error:.3f}"
        if len(self.numbers):
            yield f"first: image {self.numbers[0]}, off by {self.errors[0]:.3f}"
        if self.file:
            yield f"written to {self.file}"


@dataclass(frozen=True)
class Reconstruct(Request[Reconstructed]):
    """Draw a set's images again from their codes, the worst first, and say how far off each class is."""

    result: ClassVar[type[object]] = Reconstructed
    task: ClassVar[str] = "drawing.reconstruct"
    doing: ClassVar[str] = "drawing images again"
    workspace: str
    run: int
    on: str = "validation"
    most: int = spec(24, low=0, high=1000, meaning="Images that are shown.")
    first: str = spec("worst", choices=("worst", "best", "number"), meaning="Which images come first.")
    file: str = spec("", meaning="Where a picture goes (.png): each image, drawn again, and the difference.")
