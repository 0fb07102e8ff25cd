"""The request that takes a model of another program in."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class Imported:
    """A model of ours, from a file of the standard.

    Attributes
    ----------
    file : str
        Where it is.
    layers, weights : int
        How many it has.
    classes : tuple of str
        Names by class number.
    input_size : tuple of int
        Rows and columns of its image.
    output : str
        What makes answers of its scores.
    images : int
        Of noise, that both it and the file it was made of were asked about.
    most : float
        By how much a value of the file's output differs at most, in parts of the greatest.
    assumed : tuple of str
        What the file does not say, in sentences.
    """

    file: str
    layers: int
    weights: int
    classes: tuple[str, ...]
    input_size: tuple[int, int]
    output: str
    images: int
    most: float
    assumed: tuple[str, ...]

    def words(self) -> Iterator[str]:
        """What it is, whether it answers as the file does, and what had to be assumed."""
        side = "×".join(map(str, self.input_size))
        yield f"{self.file}: {self.layers} layers, {self.weights} weights, {len(self.classes)} classes, {side} pixels."
        apart = f"it differs from the file it comes from by {self.most:.1g} at most"
        yield f"Asked about {self.images} images of noise, {apart}."
        yield from self.assumed


@dataclass(frozen=True)
class ImportModel(Request[Imported]):
    """Turn an ONNX file into a model file of ours: to be asked, explained and built upon like any other.

    What no layer of ours can do is refused by operator, node and reason.
    """

    result: ClassVar[type[object]] = Imported
    task: ClassVar[str] = "importing.import_model"
    doing: ClassVar[str] = "taking the model in"
    model: str = spec(names="file", meaning="The ONNX file.")
    file: str = spec("", meaning="Where it goes; its name with the ending .alens here if left out.")
    classes: tuple[str, ...] = spec((), label="class", names="name", meaning="Name of a class, in order. Repeatable.")
    mean: tuple[str, ...] = spec(
        (), meaning="What is taken off a channel's pixels, in 0 to 1. Repeatable: one for all, or one a channel."
    )
    std: tuple[str, ...] = spec((), meaning="What they are then divided by, likewise.")
    side: int = spec(0, low=0, high=1024, meaning="Side of its square image, where the file leaves it open.")
