"""What a training loop drives: something that learns from batches and can be evaluated.

The loop knows nothing of networks and optimisers, so a learner may have several of either.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.batches import learn
from attentive_lens.engine.diagnosis import where_it_began
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.losses import Loss, one_hot
from attentive_lens.engine.network import Network
from attentive_lens.engine.optimisers import OPTIMISERS, clip, norm
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.engine.schedules import At, learning_rate_factor
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import LensError
from attentive_lens.images.feeding import Batch
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.training.frozen_outputs import outputs_of


@dataclass(frozen=True)
class Metrics:
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
    def learn(self, batch: Batch, context: StepContext, batches: int) -> Metrics:
        """One step of so many in an epoch; raises `LensError` without changing anything if the numbers blew up."""

    @abstractmethod
    def evaluate(self, pixels: NDArray[np.uint8] | NDArray[np.float32] | Chosen, labels: NDArray[np.int64]) -> Metrics:
        """Loss and right answers on images that are never changed, M×S×S×C uint8."""

    @abstractmethod
    def on_epoch_end(self, validation: Metrics | None) -> None:
        """An epoch is over and was evaluated so."""

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
    plan : Plan
        Optimiser, schedule, loss, and what is frozen.
    preprocessor : Preprocessor
        For `evaluate`.
    thread_pool : ThreadPool
        Threads.
    counts : ndarray, K, optional
        Training images of each class, for class weights.
    frozen : str
        A node up to which nothing changes: only what stands after it is run, on its outputs, which stand in for images
        where they are kept and are computed from images where they are not.
    """

    def __init__(
        self,
        network: Network,
        plan: Plan,
        preprocessor: Preprocessor,
        thread_pool: ThreadPool,
        counts: NDArray[np.int64] | None = None,
        frozen: str = "",
    ) -> None:
        self.network, self.plan, self.preprocessor, self.thread_pool = network, plan, preprocessor, thread_pool
        learnings = {node.name: node.learning for node in network.plan.nodes}
        axes = {node.name: node.layer.filter_axis for node in network.plan.nodes}
        self.optimiser = OPTIMISERS[plan.optimiser.kind](plan.optimiser, learnings, axes)
        still = {node.name for node in network.plan.nodes if node.frozen}
        self.frozen, self.head = frozen, network.head(frozen) if frozen else network
        self.route = self.head.route(frozenset(self.head.weights) - plan.frozen - still)
        self.loss = Loss.of(plan.loss, counts)
        self.output = OUTPUTS[plan.loss.output]
        self.losses: list[float] = []

    def learn(self, batch: Batch, context: StepContext, batches: int) -> Metrics:
        """Forward, backward, step."""
        images = self._fed(batch.images)
        step = learn(self.head, images, batch.targets, self.route, context, self.thread_pool, self.loss, self.output)
        length = norm(step.gradients)
        if not (np.isfinite(step.loss) and np.isfinite(length)):
            began = where_it_began(self.head, images, batch.targets, context, self.loss)
            raise LensError(
                f"Training stopped in epoch {context.epoch + 1}, batch {context.batch + 1}",
                f"numbers ran away: infinity or no number at all began {began}; the step was not taken",
                "Train again with a learning rate ten times smaller, or with gradient clipping at norm 1",
            )
        if self.plan.training.clip_norm:
            clip(step.gradients, length, self.plan.training.clip_norm)
        factor = self.factor(context, batches)
        self.optimiser.step(self.network.weights, step.gradients, factor)
        self.head.absorb(step.sums)
        self.learning_rate = self.plan.optimiser.learning_rate * factor
        return Metrics(step.plain, step.right, len(batch.images))

    def factor(self, context: StepContext, batches: int) -> float:
        """Of the plan's learning rate at a step of an epoch of so many: as the schedule says."""
        at = At(context.epoch * batches + context.batch, batches, self.plan.training.epochs, self.losses)
        return learning_rate_factor(self.plan.schedule, at)

    def _fed(self, images: Array) -> Array:
        """What the head takes: the images themselves, or their outputs at the frozen node, kept or computed now."""
        if not self.frozen or images.shape[1:] == self.head.image_shape:
            return images
        return outputs_of(self.network, self.frozen, images, self.thread_pool)

    def evaluate(self, pixels: NDArray[np.uint8] | NDArray[np.float32] | Chosen, labels: NDArray[np.int64]) -> Metrics:
        """In inference mode, a few hundred images at a time; the plain loss, without smoothing and class weights.

        What is no uint8 are outputs of the frozen node.
        """
        kept = isinstance(pixels, np.ndarray) and pixels.dtype != np.uint8
        network = self.head if kept else self.network
        predictor = Predictor(network, self.preprocessor, (), self.plan.loss.output, self.thread_pool)
        parts, right = [np.zeros(0)], 0
        for first in range(0, len(labels), 256):
            chunk = labels[first : first + 256]
            part: Any = pixels[first : first + 256]
            raw = predictor.raw_scores(np.ascontiguousarray(part) if kept else predictor.prepare(part))
            scores = self.output.spread(raw)
            parts.append(self.loss.plain(raw, one_hot(chunk, scores.shape[1], raw.dtype)).astype(np.float64))
            right += int((predictor.said(scores) == chunk).sum())
        losses = np.concatenate(parts)
        if not np.isfinite(losses).all():
            raise LensError(
                "Training stopped after an epoch",
                "on the validation images the numbers ran away: their loss is infinite or no number at all",
                "Train again with a smaller learning rate, or with gradient clipping at norm 1",
            )
        return Metrics(float(losses.mean()) if len(losses) else 0.0, right, len(labels))

    def on_epoch_end(self, validation: Metrics | None) -> None:
        """Remembers the loss, for a schedule that waits for plateaus."""
        if validation is not None:
            self.losses.append(validation.loss)

    def weights(self) -> Weights:
        """A copy."""
        return self.network.copy_weights()

    def memory(self) -> dict[str, Array]:
        """The optimiser's arrays by ``node/array/name``; its steps and the losses under no node."""
        parts = {
            f"{node}/{array}/{name}": value
            for (node, array), arrays in self.optimiser.memory.items()
            for name, value in arrays.items()
        }
        parts["/steps"] = np.array([self.optimiser.steps], np.float64)
        parts["/losses"] = np.array(self.losses, np.float64)
        return parts

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
