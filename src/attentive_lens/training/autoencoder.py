"""What learns to draw images again from a few codes."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.diagnosis import where_it_began
from attentive_lens.engine.encoding import Coder
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.ranks import Cut
from attentive_lens.images.feeding import Batch
from attentive_lens.images.pixel_format import PixelArray, eight_bits
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.tasks import Encode
from attentive_lens.training.figures import Health
from attentive_lens.training.film import SHOWN, Frame
from attentive_lens.training.learner import OneNetworkLearner, Stepped
from attentive_lens.training.metrics import Metrics


class AutoEncoder(OneNetworkLearner):
    """A network that draws, made to give a high lower bound of the images' likelihood; labels are not looked at."""

    @property
    def task(self) -> Encode:
        """As planned."""
        assert isinstance(self.plan.task, Encode)
        return self.plan.task

    def step(self, images: Array, batch: Batch, context: StepContext, cut: Cut, batches: int) -> Stepped:
        """Reconstruction and weighted divergence, and their gradients."""
        weight = self.task.weight_at(context.epoch, context.batch / batches)
        coder = Coder(self.network)
        step = coder.learn(images, batch.targets, self.route, context, self.thread_pool, weight, cut)
        metrics = self._figures(step.reconstruction, step.divergence, batch.count)
        return metrics, step.loss, step.gradients, step.sums

    def loss_on(self, batch: Batch) -> float:
        """See `NetworkLearner`; the divergence has its whole weight."""
        context, weight = StepContext(self.plan.seed, 0, 0, 0), self.task.divergence_weight
        cut, coder = self.cut(batch.count), Coder(self.network)
        return coder.learn(batch.images, batch.targets, self.route, context, self.thread_pool, weight, cut).loss

    def where_it_began(self, images: Array, batch: Batch, context: StepContext) -> str:
        """See `engine.diagnosis`; the divergence is not looked at."""

        def loss(drawn: Array, targets: Array) -> tuple[Array, Array]:
            judged = Coder(self.network).judged(drawn, targets)
            return judged.losses, judged.grad

        return where_it_began(self.network, images, batch.targets, context, loss)

    def health(self, images: int) -> Health | None:
        """Of the weights that train, on training images, others at each epoch."""
        batch = next(iter(self.examples(images, self.optimiser.steps)), None) if self.examples is not None else None
        if batch is None:
            return None
        nothing = np.zeros((len(batch.images[:images]), 0), np.float32)
        return replace(self.watch.take(batch.images[:images], nothing), right=None)

    def frame(self, epoch: int, pixels: PixelArray | Chosen) -> Frame:
        """See `Learner`; the random codes are the same at every epoch."""
        coder, images = Coder(self._evaluated()[0]), np.asarray(pixels[:])
        statistics = coder.encode(self.preprocessor.apply(images), self.thread_pool)
        noise = random_generator(self.plan.seed, "codes of the film").standard_normal((SHOWN, coder.size), np.float32)
        codes = noise if coder.is_variational else noise[:0]
        again, samples = (coder.decode(each, self.thread_pool) for each in (coder.means(statistics), codes))
        drawn = map(self.preprocessor.pixels, (again, samples))
        return Frame(epoch, eight_bits(images), *map(eight_bits, drawn))

    def _figures(self, reconstruction: float, divergence: float, count: int) -> Metrics:
        parts = {"bound": -reconstruction - divergence, "reconstruction": reconstruction, "divergence": divergence}
        return Metrics(reconstruction + self.task.divergence_weight * divergence, None, count, parts)

    def evaluate(self, pixels: PixelArray | Chosen, labels: NDArray[np.int64]) -> Metrics:
        """The bound of images as they are, one code drawn for each, always by the same noise."""
        self.ranks.say("evaluate")
        self.check_alike()
        coder = Coder(self._evaluated()[0])
        shared, begin, end = self._own(len(labels))
        sums = [np.zeros((0, 2))]
        noise = coder.evaluation_noise(self.plan.seed, len(labels))
        size = self.plan.training.evaluation_batch_size
        for first in range(begin, end, size):
            last = min(end, first + size)
            part: Any = pixels[first:last]
            statistics = coder.encode(self.preprocessor.apply(part), self.thread_pool)
            targets = self.preprocessor.targets(part)
            sums.append(np.stack(coder.bound(statistics, targets, noise[first:last], self.thread_pool), axis=1))
        parts = np.concatenate(sums).astype(np.float64)
        if shared:
            parts = np.concatenate(self.ranks.gather(parts.reshape(-1))).reshape(-1, 2)
        if not len(parts):
            return Metrics(0.0, None, 0)
        self._check_numbers(parts.sum(axis=1))
        reconstruction, divergence = parts.mean(axis=0).tolist()
        return self._figures(reconstruction, divergence, len(parts))
