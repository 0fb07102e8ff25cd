"""What a training loop drives: something that learns from batches and can be judged.

The loop knows nothing of networks and optimisers, so a learner may have several of either.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.batches import learn, scores
from attentive_lens.engine.crew import Crew
from attentive_lens.engine.layers import Moment
from attentive_lens.engine.losses import cross_entropy, one_hot
from attentive_lens.engine.network import Network
from attentive_lens.engine.optimisers import OPTIMISERS
from attentive_lens.errors import LensError
from attentive_lens.images.feeding import Batch
from attentive_lens.images.preparation import Levels
from attentive_lens.plan.settings import Training


@dataclass(frozen=True)
class Mark:
    """Mean loss and number of right answers over some images."""

    loss: float
    right: int
    images: int

    @property
    def accuracy(self) -> float:
        """Part answered rightly, 0–1."""
        return self.right / self.images if self.images else 0.0


class Learner(ABC):
    """Base of what can be trained."""

    @abstractmethod
    def learn(self, batch: Batch, moment: Moment) -> Mark:
        """One step; raises `LensError` without changing anything if the numbers blew up."""

    @abstractmethod
    def judge(self, pixels: NDArray[np.uint8], labels: NDArray[np.int64]) -> Mark:
        """Loss and right answers on images that are never changed, M×S×S×C uint8."""

    @abstractmethod
    def weights(self) -> Weights:
        """A copy of what has been learned."""

    @abstractmethod
    def memory(self) -> dict[str, Array]:
        """The optimisers' arrays, for a checkpoint."""


class Classifier(Learner):
    """One network, one optimiser, softmax cross-entropy."""

    def __init__(
        self, network: Network, settings: Training, frozen: frozenset[str], levels: Levels, crew: Crew
    ) -> None:
        self.network = network
        self.levels = levels
        self.crew = crew
        self.optimiser = OPTIMISERS[settings.optimiser](settings)
        self.route = network.route(frozenset(network.weights) - frozen)

    def learn(self, batch: Batch, moment: Moment) -> Mark:
        """Forward, backward, step."""
        step = learn(self.network, batch.images, batch.targets, self.route, moment, self.crew)
        if not np.isfinite(step.loss):
            raise LensError(
                f"Training stopped in epoch {moment.epoch + 1}, batch {moment.batch + 1}",
                "the loss is no longer a number: the steps were too long and the weights ran away",
                "Train again with a learning rate ten times smaller",
            )
        self.optimiser.step(self.network.weights, step.gradients)
        return Mark(step.loss, step.right, len(batch.images))

    def judge(self, pixels: NDArray[np.uint8], labels: NDArray[np.int64]) -> Mark:
        """In inference mode, a few hundred images at a time."""
        losses, right = 0.0, 0
        for first in range(0, len(labels), 256):
            own = labels[first : first + 256]
            found = scores(self.network, self.levels.apply(pixels[first : first + 256]), self.crew)
            losses += float(cross_entropy(found, one_hot(own, found.shape[1], found.dtype))[0].sum())
            right += int((found.argmax(axis=1) == own).sum())
        return Mark(losses / max(1, len(labels)), right, len(labels))

    def weights(self) -> Weights:
        """A copy."""
        return self.network.copy_weights()

    def memory(self) -> dict[str, Array]:
        """By ``node/array/name``."""
        return {
            f"{node}/{array}/{name}": value
            for (node, array), arrays in self.optimiser.memory.items()
            for name, value in arrays.items()
        }
