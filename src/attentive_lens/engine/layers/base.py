"""What every layer of the engine does: forward on a piece of a batch, and backward from what it kept."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Generic, TypeAlias, TypeVar

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.plan.chance import chance
from attentive_lens.plan.layers import LayerSettings, Shape

S = TypeVar("S", bound=LayerSettings)

Rule: TypeAlias = Callable[[Array, Array], Array]
"""What stands in for a ReLU's gradient: (gradient of its output, its output) → gradient of its input."""


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


@dataclass(frozen=True)
class Call:
    """How a layer is asked to run forward.

    Attributes
    ----------
    moment : Moment or None
        When in training; None for inference.
    overwrite : bool
        Whether the output may stand where the input stood.
    activate : bool
        Whether negative outputs are to become 0: the ReLU that follows is done at once.
    ready : Any
        What `Layer.prepare` made of the weights, or None.
    sums : ndarray or None
        What `Layer.sums` gave for all pieces of the batch, added up.
    """

    moment: Moment | None = None
    overwrite: bool = False
    activate: bool = False
    ready: Any = None
    sums: Array | None = None


INFERENCE = Call()


class Layer(ABC, Generic[S]):
    """Base of the engine's layers: arithmetic only, no state but the settings.

    A layer must not change ``given``, unless `may_overwrite` says so and it is told to. It may change the
    gradient it is handed. A layer that joins gets and returns tuples, one entry an input.
    """

    may_overwrite = False
    """Whether `forward` may write its output over its input when told so."""
    keeps_output = False
    """Whether `backward` needs the output, or shares it with the input: the next layer must not overwrite it."""
    can_activate = False
    """Whether `forward` can do a ReLU that follows."""
    whole_batch = False
    """Whether training needs sums over the whole batch, see `sums` and `gradient_sums`."""

    def __init__(self, name: str, settings: S) -> None:
        self.name = name
        self.settings = settings

    def start(self, given: Shape, random: np.random.Generator, dtype: np.dtype[Any], how: str) -> dict[str, Array]:
        """Starting weights for one image's input shape, ``how`` one of `starting.STARTS`; none by default."""
        del given, random, dtype, how
        return {}

    def prepare(self, weights: dict[str, Array], given: Shape) -> Any:
        """What can be worked out of the weights once for all pieces of a batch; nothing by default."""
        del weights, given
        return None

    @abstractmethod
    def forward(self, given: Any, weights: dict[str, Array], call: Call) -> tuple[Array, Any]:
        """Output for a piece of a batch, and what `backward` needs.

        Parameters
        ----------
        given : ndarray, or tuple of them
            N×H×W×C or N×V.
        weights : dict
            The arrays of `start`.
        call : Call
            How.
        """

    @abstractmethod
    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Any, dict[str, Array]]:
        """Gradients of the input(s) (if ``inputs``) and of the weights (if ``parameters``) for that of the output."""

    def sums(self, given: Array) -> Array:
        """Of a piece, what `forward` needs of the whole batch; only where `whole_batch`."""
        raise NotImplementedError

    def gradient_sums(self, grad: Array, kept: Any) -> Array:
        """Of a piece, what `backward` needs of the whole batch, which then stands in ``kept``; see `with_sums`."""
        raise NotImplementedError

    def with_sums(self, kept: Any, own: Array, sums: Array) -> Any:
        """What `backward` needs, with the `gradient_sums` of the piece and of the whole batch."""
        raise NotImplementedError

    def state(self, weights: dict[str, Array], sums: Array) -> dict[str, Array]:
        """The arrays without a gradient after a step with these `sums`."""
        raise NotImplementedError
