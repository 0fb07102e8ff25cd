"""What learns to answer classes."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.batches import learn
from attentive_lens.engine.diagnosis import where_it_began
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.losses import Loss, one_hot
from attentive_lens.engine.network import Network
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.engine.ranks import ALONE, Cut, Ranks
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.images.feeding import Batch
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.training.figures import Health
from attentive_lens.training.learner import OneNetworkLearner, Stepped
from attentive_lens.training.metrics import Metrics, measured


class Classifier(OneNetworkLearner):
    """A network that answers classes, by the plan's loss.

    Parameters
    ----------
    counts : ndarray, K, optional
        Training images of each class, for class weights; all others are those of `NetworkLearner`.
    """

    def __init__(
        self,
        network: Network,
        plan: Plan,
        preprocessor: Preprocessor,
        thread_pool: ThreadPool,
        counts: NDArray[np.int64] | None = None,
        frozen: str = "",
        examples: Callable[[int, int], Iterable[Batch]] | None = None,
        ranks: Ranks = ALONE,
    ) -> None:
        super().__init__(network, plan, preprocessor, thread_pool, frozen, examples, ranks)
        self.loss = Loss.of(plan.loss, counts)
        self.output = OUTPUTS[plan.loss.output]

    def step(self, images: Array, batch: Batch, context: StepContext, cut: Cut, batches: int) -> Stepped:
        """The mean loss of the answers and its gradients."""
        del batches
        step = learn(
            self.head, images, batch.targets, self.route, context, self.thread_pool, self.loss, self.output, cut
        )
        self.predicted = step.predicted
        return Metrics(step.plain, step.right, batch.count), step.loss, step.gradients, step.sums

    def loss_on(self, batch: Batch) -> float:
        """See `NetworkLearner`."""
        images, context = self._fed(batch.images), StepContext(self.plan.seed, 0, 0, 0)
        return learn(
            self.head, images, batch.targets, self.route, context, self.thread_pool, self.loss, self.output
        ).plain

    def where_it_began(self, images: Array, batch: Batch, context: StepContext) -> str:
        """See `engine.diagnosis`."""
        return where_it_began(self.head, images, batch.targets, context, self.loss)

    def evaluate(self, pixels: PixelArray | Chosen, labels: NDArray[np.int64]) -> Metrics:
        """In inference mode, a few hundred images at a time; the plain loss, without smoothing and class weights.

        What is no uint8 are outputs of the frozen node.
        """
        self.ranks.say("evaluate")
        self.check_alike()
        stored = isinstance(pixels, np.ndarray) and pixels.dtype != np.uint8
        whole, head = self._evaluated()
        predictor = Predictor(head if stored else whole, self.preprocessor, (), self.plan.loss.output, self.thread_pool)
        ranks = self.ranks
        shared, begin, end = self._own(len(labels))
        parts, answers = [np.zeros(0)], []
        size = self.plan.training.evaluation_batch_size
        for first in range(begin, end, size):
            last = min(end, first + size)
            part: Any = pixels[first:last]
            raw = predictor.raw_scores(np.ascontiguousarray(part) if stored else predictor.prepare(part))
            scores = self.output.spread(raw)
            wanted = self.targets(labels[first:last], scores.shape[1]).astype(raw.dtype)
            parts.append(self.loss.plain(raw, wanted).astype(np.float64))
            answers.append(scores)
        if not answers:
            return Metrics(0.0, 0, 0)
        losses, scores = np.concatenate(parts), np.concatenate(answers)
        if shared:
            losses, scores = np.concatenate(ranks.gather(losses)), np.concatenate(ranks.gather(scores))
        self._check_numbers(losses)
        return self.measured(scores, losses, labels)

    def targets(self, labels: NDArray[np.int64], classes: int) -> Array:
        """What should be answered to images with these labels, N×K."""
        return one_hot(labels, classes)

    def measured(self, scores: Array, losses: NDArray[np.float64], labels: NDArray[np.int64]) -> Metrics:
        """All measures of a set, from the classes' scores M×K."""
        return measured(scores, losses, labels)

    def health(self, images: int) -> Health | None:
        """Of the weights that train, on training images, others at each epoch."""
        if self.examples is None:
            return None
        batch = next(iter(self.examples(images, self.optimiser.steps)), None)
        if batch is None:
            return None
        return self.watch.take(self._fed(batch.images[:images]), batch.targets[:images])
