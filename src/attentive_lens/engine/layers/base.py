"""What every layer of the engine does: forward on a piece of a batch, and backward from what it saved."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Generic, TypeAlias, TypeVar

import numpy as np

from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array, Dtype, Inputs
from attentive_lens.plan.initialisations import InitialisationSettings
from attentive_lens.plan.layers import LayerSettings, Shape

S = TypeVar("S", bound=LayerSettings)
"""Its settings."""
I = TypeVar("I", Array, Inputs)  # noqa: E741
"""What it gets: one array, or a tuple of them where it joins."""
K = TypeVar("K")
"""What `forward` keeps for `backward`."""

Rule: TypeAlias = Callable[[Array, Array], Array]
"""What stands in for a ReLU's gradient: (gradient of its output, its output) → gradient of its input."""


@dataclass(frozen=True)
class StepContext:
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

    def random_generator(self, purpose: str) -> np.random.Generator:
        """Random numbers for one purpose at this context."""
        return random_generator(self.seed, purpose, self.epoch, self.batch, self.piece)


@dataclass(frozen=True)
class Call:
    """How a layer is asked to run forward.

    Attributes
    ----------
    context : StepContext or None
        When in training; None for inference.
    overwrite : bool
        Whether the output may stand where the input stood.
    activate : bool
        Whether negative outputs are to become 0: the ReLU that follows is done at once.
    ready : object
        What `Layer.prepare` made of the weights, or None.
    sums : ndarray or None
        What `Layer.sums` gave for all pieces of the batch, added up.
    """

    context: StepContext | None = None
    overwrite: bool = False
    activate: bool = False
    ready: object = None
    sums: Array | None = None


INFERENCE = Call()


class Layer(ABC, Generic[S, I, K]):
    """Base of the engine's layers: arithmetic only, no state but the settings.

    A layer must not change ``inputs``, unless `may_overwrite` says so and it is told to. It may change the
    gradient it is handed. A layer that joins gets and returns tuples, one entry an input.
    """

    may_overwrite = False
    """Whether `forward` may write its output over its input when told so."""
    keeps_output = False
    """Whether `backward` needs the output, or shares it with the input: the next layer must not overwrite it."""
    can_activate = False
    """Whether `forward` can do a ReLU that follows."""
    kernels = "auto"
    """Which kernels are asked for, one of `kernels.choice.KERNELS`; only convolutions have several."""

    def __init__(self, name: str, settings: S) -> None:
        self.name = name
        self.settings = settings

    def start(
        self, input_shape: Shape, rng: np.random.Generator, dtype: Dtype, initialisation: InitialisationSettings
    ) -> dict[str, Array]:
        """Starting weights for one image's input shape; none by default."""
        del input_shape, rng, dtype, initialisation
        return {}

    def prepare(self, weights: dict[str, Array], input_shape: Shape) -> object:
        """What can be worked out of the weights once for all pieces of a batch; nothing by default."""
        del weights, input_shape
        return None

    def scale_and_shift(self, weights: dict[str, Array]) -> tuple[Array, Array] | None:
        """Factor and offset of each channel, float64, where at inference it does nothing else; None by default."""
        del weights
        return None

    def absorb(self, weights: dict[str, Array], factor: Array, offset: Array) -> dict[str, Array] | None:
        """Weights with which its output is already scaled and shifted, channel by channel; None if there are none."""
        del weights, factor, offset
        return None

    def kernel(self, input_shape: Shape) -> str | None:
        """The kernel it runs by for one image's input shape, where it has several; None by default."""
        del input_shape
        return None

    @abstractmethod
    def forward(self, inputs: I, weights: dict[str, Array], call: Call) -> tuple[Array, K]:
        """Output for a piece of a batch, and what `backward` needs.

        Parameters
        ----------
        inputs : ndarray, or tuple of them
            N×H×W×C or N×V.
        weights : dict
            The arrays of `start`.
        call : Call
            How.
        """

    @abstractmethod
    def backward(
        self, grad: Array, saved: K, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[I | None, dict[str, Array]]:
        """Gradients of the input(s) and of the weights, as far as they are needed, for that of the output."""

    def sums(self, inputs: Array) -> Array:
        """Of a piece, what `forward` needs of the whole batch; only where its settings say `whole_batch`."""
        raise NotImplementedError

    def gradient_sums(self, grad: Array, saved: K) -> Array:
        """Of a piece, what `backward` needs of the whole batch, which then stands in ``saved``; see `with_sums`."""
        raise NotImplementedError

    def with_sums(self, saved: K, piece_sums: Array, sums: Array) -> K:
        """What `backward` needs, with the `gradient_sums` of the piece and of the whole batch."""
        raise NotImplementedError

    def state(self, weights: dict[str, Array], sums: Array) -> dict[str, Array]:
        """The arrays without a gradient after a step with these `sums`."""
        raise NotImplementedError


AnyLayer: TypeAlias = Layer[Any, Any, Any]
"""One of a network's layers: only the layer itself knows what it gets and keeps, and gets back what it kept."""
