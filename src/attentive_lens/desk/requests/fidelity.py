"""How near what a network draws is to real images, and whether it only draws training images again."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.images.pixel_format import PixelArray


@dataclass(frozen=True)
class Nearness:
    """Drawings and real images as points, and how they lie to each other.

    Attributes
    ----------
    distance : float
        Fréchet distance (Heusel 2017), less being better.
    precision, recall : float
        Part of the drawings that look like real images, and of the real images that something drawn looks like
        (Kynkäänniemi 2019).
    """

    distance: float
    precision: float
    recall: float


@dataclass(frozen=True)
class Fidelity:
    """What drawings are like.

    Attributes
    ----------
    run, on
        Whose drawings, and of which set the real images are.
    features, layer : str
        By whose layer's outputs images are compared.
    images, drawings : int
        Compared, as many of each.
    whole : Nearness
        Of all.
    halves : tuple of Nearness
        Of each half of the drawings with a half of the images: how far apart these are is what chance does.
    apart : Nearness
        Of one half of the real images with the other: what drawings could reach, of half as many.
    copies : float or None
        Part of the drawings that are nearer to a training image than 99 of 100 validation images are; None without
        such images.
    accuracy : float or None
        Part of the drawings that the features' model takes for the class they were to be; None where it answers no
        classes, or others, or none was to be drawn.
    by_class : dict
        The same for every class.
    real : float or None
        Part of the real images, as large as drawings are, that it takes for the class on their label.
    classes : tuple of str
    file : str
        Where a picture of drawings and their nearest training images is; empty if nowhere.
    labels : ndarray, K int64
        Classes that the drawings shown were to be, -1 without.
    nearest : ndarray, K int64
        Numbers of the training images nearest to these.
    distances : ndarray, K float64
        To them, in parts of what validation images usually are away from training images.
    drawn, beside : ndarray, K×H×W×C uint8
        These drawings, and those training images.
    """

    run: int
    on: str
    features: str
    layer: str
    images: int
    drawings: int
    whole: Nearness
    halves: tuple[Nearness, ...]
    apart: Nearness
    copies: float | None
    accuracy: float | None
    by_class: dict[str, float]
    real: float | None
    classes: tuple[str, ...]
    file: str
    labels: NDArray[np.int64]
    nearest: NDArray[np.int64]
    distances: NDArray[np.float64]
    drawn: PixelArray
    beside: PixelArray

    def words(self) -> Iterator[str]:
        """Distance, precision and recall with their spread, copies, and classes."""
        low, high = sorted(half.distance for half in self.halves)
        yield (
            f"{self.drawings} drawings of run {self.run} beside {self.images} {self.on} images, by {self.layer} of"
            f" {self.features}: Fréchet distance {self.whole.distance:.3g} (halves {low:.3g} and {high:.3g}; two halves"
            f" of the images {self.apart.distance:.3g})."
        )
        for name in ("precision", "recall"):
            low, high = sorted(getattr(half, name) for half in self.halves)
            yield (
                f"{name.capitalize()} {getattr(self.whole, name):.0%} (halves {low:.0%} and {high:.0%}; two halves of"
                f" the images {getattr(self.apart, name):.0%})."
            )
        if self.copies is not None:
            yield f"{self.copies:.1%} of them are nearer to a training image than 99 of 100 validation images are."
        else:
            yield "Whether they are copies cannot be told: there are no validation images to compare with."
        if self.accuracy is not None:
            beside = f" (real images of this size: {self.real:.0%})" if self.real is not None else ""
            yield f"Taken for the class they were to be: {self.accuracy:.0%}{beside}."
            for name, part in sorted(self.by_class.items(), key=lambda item: item[1]):
                yield f"  {name}: {part:.0%}"
        if self.file:
            yield f"written to {self.file}"


@dataclass(frozen=True)
class MeasureFidelity(Request[Fidelity]):
    """Say how near drawings are to real images, whether they are copies, and of the class they were to be."""

    result: ClassVar[type[object]] = Fidelity
    task: ClassVar[str] = "fidelity.measure"
    doing: ClassVar[str] = "comparing drawings with images"
    workspace: str
    run: int
    features: str = spec(
        "",
        meaning="By what images are compared: a run's number, a model on the Shelf (shelf:motifs) or a model file; the"
        " newest run that answers classes if left out, the Shelf's motifs without one.",
    )
    on: str = spec("training", meaning="Set that the real images are of.")
    count: int = spec(1000, low=20, high=50_000, meaning="Drawings, and images, at most.")
    seed: int = spec(0, low=0, meaning="Of the codes or noise.")
    most: int = spec(24, low=0, high=1000, meaning="Drawings that are shown beside their nearest training images.")
    file: str = spec("", meaning="Where a picture of these goes (.png): each drawing, and the image right of it.")
