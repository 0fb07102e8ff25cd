"""The request for a layer's raw numbers: weights, their gradient for one image, and what the optimiser remembers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class NumbersSeen:
    """One array of a layer, and arrays of its shape that belong to it.

    Attributes
    ----------
    layer, array : str
        Whose, and which: «kernel», «bias» and so on.
    arrays : tuple of str
        All that the layer has, the largest first.
    values : ndarray, float32 or float64
        The model's, in its precision; output channels are its last axis.
    gradient : ndarray or None
        Of the image's own loss by it, in nats per unit; None without an image.
    loss : float or None
        That loss, without label smoothing and class weights.
    optimiser : dict
        Name → what the optimiser remembers of it at the end of the last epoch that was trained.
    epoch : int
        That epoch; 0 where nothing is remembered.
    """

    layer: str
    array: str
    arrays: tuple[str, ...]
    values: NDArray[np.floating[Any]]
    gradient: NDArray[np.floating[Any]] | None
    loss: float | None
    optimiser: dict[str, NDArray[np.floating[Any]]]
    epoch: int


@dataclass(frozen=True)
class LayerNumbers(Request[NumbersSeen]):
    """The raw numbers of one array of a layer (its largest if none is named), and their gradient for one image."""

    result: ClassVar[type[object]] = NumbersSeen
    task: ClassVar[str] = "numbers.numbers"
    workspace: str
    run: int
    layer: str
    array: str = ""
    image: int = 0


@dataclass(frozen=True)
class WeightsWritten:
    """All weights of a run's model in one NumPy archive, by «layer/array»: the file, arrays and numbers in it."""

    file: str
    arrays: int
    numbers: int


@dataclass(frozen=True)
class WriteWeights(Request[WeightsWritten]):
    """Write all weights of a run's best model into one NumPy archive."""

    result: ClassVar[type[object]] = WeightsWritten
    task: ClassVar[str] = "numbers.write_weights"
    workspace: str
    run: int
    file: str
