"""What a training loop drives: something that learns from batches and can be judged.

The loop knows nothing of networks and optimisers, so a learner may have several of either.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.batches import learn, scores
from attentive_lens.engine.crew import Crew
from attentive_lens.engine.diagnosis import where_it_began
from attentive_lens.engine.layers import Moment
from attentive_lens.engine.losses import Loss, balanced, one_hot
from attentive_lens.engine.network import Network
from attentive_lens.engine.optimisers import OPTIMISERS, clip, length
from attentive_lens.engine.schedules import rate
from attentive_lens.errors import LensError
from attentive_lens.images.feeding import Batch
from attentive_lens.images.preparation import Levels
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.settings import Training


@dataclass(frozen=True)
class Mark:
    """Mean loss, without label smoothing and class weights, and number of right answers over some images."""

    loss: float
    right: int
    images: int

    @property
    def accuracy(self) -> float:
        """Part answered rightly, 0–1."""
        return self.right / self.images if self.images else 0.0


class Learner(ABC):
    """Base of what can be trained.

    Attributes
    ----------
    learning_rate : float
        Of the last step; 0 before the first.
    """

    learning_rate: float = 0.0

    @abstractmethod
    def learn(self, batch: Batch, moment: Moment, batches: int) -> Mark:
        """One step of so many in an epoch; raises `LensError` without changing anything if the numbers blew up."""

    @abstractmethod
    def judge(self, pixels: NDArray[np.uint8] | Chosen, labels: NDArray[np.int64]) -> Mark:
        """Loss and right answers on images that are never changed, M×S×S×C uint8."""

    @abstractmethod
    def note(self, validation: Mark | None) -> None:
        """An epoch is over and was judged so."""

    @abstractmethod
    def weights(self) -> Weights:
        """A copy of what has been learned."""

    @abstractmethod
    def memory(self) -> dict[str, Array]:
        """All else that decides the next steps, for a checkpoint; `restore` takes it."""

    @abstractmethod
    def restore(self, weights: Weights, memory: Mapping[str, Array]) -> None:
        """Go on from a checkpoint."""


class Classifier(Learner):
    """One network, one optimiser, one loss.

    Parameters
    ----------
    network : Network
        Trained in place.
    settings : Training
        Optimiser, schedule, loss.
    frozen : frozenset of str
        Nodes whose weights stay.
    levels : Levels
        For `judge`.
    crew : Crew
        Threads.
    counts : ndarray, K, optional
        Training images of each class, for class weights.
    """

    def __init__(
        self,
        network: Network,
        settings: Training,
        frozen: frozenset[str],
        levels: Levels,
        crew: Crew,
        counts: NDArray[np.int64] | None = None,
    ) -> None:
        self.network, self.settings, self.levels, self.crew = network, settings, levels, crew
        self.optimiser = OPTIMISERS[settings.optimiser](settings, {n.name: n.pace for n in network.plan.nodes})
        still = {node.name for node in network.plan.nodes if node.pace == 0}
        self.route = network.route(frozenset(network.weights) - frozen - still)
        even = counts is not None and settings.classes_count == "the same"
        self.loss = Loss(settings.loss, settings.smoothing, balanced(counts) if even and counts is not None else None)
        self.losses: list[float] = []

    def learn(self, batch: Batch, moment: Moment, batches: int) -> Mark:
        """Forward, backward, step."""
        step = learn(self.network, batch.images, batch.targets, self.route, moment, self.crew, self.loss)
        long = length(step.gradients)
        if not (np.isfinite(step.loss) and np.isfinite(long)):
            began = where_it_began(self.network, batch.images, batch.targets, moment, self.loss)
            raise LensError(
                f"Training stopped in epoch {moment.epoch + 1}, batch {moment.batch + 1}",
                f"numbers ran away: infinity or no number at all began {began}; the step was not taken",
                "Train again with a learning rate ten times smaller, or with «longest gradient» 1",
            )
        if self.settings.clip:
            clip(step.gradients, long, self.settings.clip)
        own = rate(self.settings, moment.epoch, moment.batch, batches, self.losses)
        self.optimiser.step(self.network.weights, step.gradients, own)
        self.network.absorb(step.sums)
        self.learning_rate = own
        return Mark(step.plain, step.right, len(batch.images))

    def judge(self, pixels: NDArray[np.uint8] | Chosen, labels: NDArray[np.int64]) -> Mark:
        """In inference mode, a few hundred images at a time; the plain loss, without smoothing and class weights."""
        losses, right = 0.0, 0
        for first in range(0, len(labels), 256):
            own = labels[first : first + 256]
            found = scores(self.network, self.levels.apply(pixels[first : first + 256]), self.crew)
            losses += float(self.loss.plain(found, one_hot(own, found.shape[1], found.dtype)).sum())
            right += int((found.argmax(axis=1) == own).sum())
        if not np.isfinite(losses):
            raise LensError(
                "Training stopped after an epoch",
                "on the validation images the numbers ran away: their loss is infinite or no number at all",
                "Train again with a smaller learning rate, or with «longest gradient» 1",
            )
        return Mark(losses / max(1, len(labels)), right, len(labels))

    def note(self, validation: Mark | None) -> None:
        """Remembers the loss, for a schedule that waits for plateaus."""
        if validation is not None:
            self.losses.append(validation.loss)

    def weights(self) -> Weights:
        """A copy."""
        return self.network.copy_weights()

    def memory(self) -> dict[str, Array]:
        """The optimiser's arrays by ``node/array/name``; its steps and the losses under no node."""
        found = {
            f"{node}/{array}/{name}": value
            for (node, array), arrays in self.optimiser.memory.items()
            for name, value in arrays.items()
        }
        found["/steps"] = np.array([self.optimiser.steps], np.float64)
        found["/losses"] = np.array(self.losses, np.float64)
        return found

    def restore(self, weights: Weights, memory: Mapping[str, Array]) -> None:
        """As `weights` and `memory` gave them."""
        for node, arrays in weights.items():
            for name, value in arrays.items():
                self.network.weights[node][name] = value.copy()
        self.optimiser.steps = int(memory["/steps"][0])
        self.losses = [float(loss) for loss in memory["/losses"]]
        for key, value in memory.items():
            node, _, rest = key.partition("/")
            array, _, name = rest.partition("/")
            if node:
                self.optimiser.memory.setdefault((node, array), {})[name] = value.copy()
