"""The request for how active a layer is over the training images."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class LayerActive:
    """How active the C channels of a layer are over training images of K classes.

    Attributes
    ----------
    layer : str
        Its name.
    classes : tuple of str
        The model's.
    images_looked_at, images_in_all : int
        Of the training set.
    edges : ndarray, B+1 float64
        Of the histogram's bins, in the layer's units; the outermost hold what lies beyond.
    counts : ndarray, B int64
        Values of all images, places and channels in each bin.
    mean : ndarray, K×C float32
        Mean value by class and channel; not a number for a class without images.
    used : ndarray, C float32
        Part of the images in which the channel is above zero anywhere, 0–1.
    """

    layer: str
    classes: tuple[str, ...]
    images_looked_at: int
    images_in_all: int
    edges: NDArray[np.float64]
    counts: NDArray[np.int64]
    mean: NDArray[np.float32]
    used: NDArray[np.float32]


@dataclass(frozen=True)
class LayerActivity(Request[LayerActive]):
    """How active a layer is over the training images, or a part of every class drawn at random."""

    result: ClassVar[type[object]] = LayerActive
    task: ClassVar[str] = "inspecting.activity"
    workspace: str
    run: int
    layer: str
    images: int = 1000
