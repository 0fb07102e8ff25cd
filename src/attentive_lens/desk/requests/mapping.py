"""The request for a map of the data: all images laid out in two dimensions as a layer finds them alike."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.requests.base import Request

LAYOUTS = ("t-SNE", "PCA")


@dataclass(frozen=True)
class DataMap:
    """Where each image lies, and what the model says of it.

    Attributes
    ----------
    layer, method : str
        Whose outputs were laid out, and how, one of `LAYOUTS`.
    classes : tuple of str
        The model's, by class number.
    in_all : int
        Images there are; of more than were asked for, the same part of every class was drawn.
    explained : tuple of float
        Part of the variance that each principal component explains; empty for t-SNE.
    images : ndarray, N int64
        Numbers in the catalogue.
    places : ndarray, N×2 float64
        Where they lie; the unit has no meaning for t-SNE.
    predicted, true : ndarray, N int64
        Class numbers; predicted is −1 by a network that encodes.
    probability : ndarray, N float32
        Answer for the class said; NaN by a network that encodes.
    """

    layer: str
    method: str
    classes: tuple[str, ...]
    in_all: int
    explained: tuple[float, ...]
    images: NDArray[np.int64]
    places: NDArray[np.float64]
    predicted: NDArray[np.int64]
    true: NDArray[np.int64]
    probability: NDArray[np.float32]

    @property
    def answered(self) -> bool:
        """Whether anything is said of the images."""
        return bool((self.predicted >= 0).any())

    @property
    def wrong(self) -> NDArray[np.bool_]:
        """Which images N are answered wrongly."""
        return np.asarray((self.predicted >= 0) & (self.predicted != self.true))


@dataclass(frozen=True)
class MapData(Request[DataMap]):
    """A map of the training, validation and test images by a layer's outputs.

    Of a layer that is not named it is the last before the answers, or the codes of a network that encodes.

    Attributes
    ----------
    method : str
        One of `LAYOUTS`.
    seed, perplexity
        For t-SNE: of its start, and how many neighbours each image has, about.
    most : int
        Images at most.
    """

    result: ClassVar[type[object]] = DataMap
    task: ClassVar[str] = "mapping.map_data"
    workspace: str
    run: int
    layer: str = ""
    method: str = "t-SNE"
    seed: int = 0
    perplexity: float = 30.0
    most: int = 5000
