"""What every layer of the engine does: forward on a piece of a batch, and backward from what it kept."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.plan.chance import chance
from attentive_lens.plan.layers import LayerSettings, Shape

S = TypeVar("S", bound=LayerSettings)


@dataclass(frozen=True)
class Moment:
    """When in training something happens; random numbers of a step are a function of it.

    Attributes
    ----------
    seed, epoch, batch, piece : int
        Master seed of the plan, epoch and batch from 0, and the piece of the batch.
    """

    seed: int
    epoch: int
    batch: int
    piece: int

    def chance(self, purpose: str) -> np.random.Generator:
        """Random numbers for one purpose at this moment."""
        return chance(self.seed, purpose, self.epoch, self.batch, self.piece)


class Layer(ABC, Generic[S]):
    """Base of the engine's layers: arithmetic only, no state but the settings.

    A layer must not change ``given``, unless `may_overwrite` says so and it is told to. It may change the
    gradient it is handed.
    """

    may_overwrite = False
    """Whether `forward` may write its output over its input when told ``overwrite=True``."""
    keeps_output = False
    """Whether `backward` needs the output, so that the next layer must not overwrite it."""

    def __init__(self, name: str, settings: S) -> None:
        self.name = name
        self.settings = settings

    def start(self, given: Shape, random: np.random.Generator, dtype: np.dtype[Any]) -> dict[str, Array]:
        """Starting weights for one image's input shape; none by default."""
        del given, random, dtype
        return {}

    @abstractmethod
    def forward(
        self, given: Array, weights: dict[str, Array], moment: Moment | None, overwrite: bool
    ) -> tuple[Array, Any]:
        """Output for a piece of a batch, and what `backward` needs.

        Parameters
        ----------
        given : ndarray
            N×H×W×C or N×V.
        weights : dict
            The arrays of `start`.
        moment : Moment or None
            When in training; None for inference.
        overwrite : bool
            Whether the output may stand where the input stood.
        """

    @abstractmethod
    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Gradients of the input (if ``inputs``) and of the weights (if ``parameters``) for that of the output."""


def he_weights(shape: Shape, fan_in: int, random: np.random.Generator, dtype: np.dtype[Any]) -> Array:
    """Normal starting weights of variance 2 / fan-in (He 2015, «Delving deep into rectifiers», eq. 10)."""
    return (random.standard_normal(shape) * np.sqrt(2.0 / fan_in)).astype(dtype)
