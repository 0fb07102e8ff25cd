"""What learns to draw images of noise: two networks, each with its own optimiser and schedule, against each other."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.random import random_generator
from attentive_lens.engine.adversarial import ADVERSARIAL_LOSSES, AdversarialLoss, Pair, PairStep, told_apart
from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.batches import statistics
from attentive_lens.engine.diagnosis import where_it_began
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network, Route
from attentive_lens.engine.optimisers import OPTIMISERS
from attentive_lens.engine.ranks import Cut
from attentive_lens.engine.spectral import SpectralNormalisation
from attentive_lens.images.feeding import Batch
from attentive_lens.images.pixel_format import PixelArray, eight_bits
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.tasks import Generate
from attentive_lens.scoring.drawings import compared, looks_of
from attentive_lens.training.figures import Health
from attentive_lens.training.film import MOST_SHOWN, OF_CLASS, SHOWN, Frame
from attentive_lens.training.learner import AnyOptimiser, NetworkLearner
from attentive_lens.training.metrics import Metrics

JUDGED = 512
"""Validation images, and drawings, on which an epoch is looked at, at most."""
STEPS = "/discriminator_steps"
"""What a checkpoint calls the steps of the discriminator's optimiser."""


class Adversary(NetworkLearner):
    """A generator and a discriminator; labels are looked at only where the network is told them.

    Parameters
    ----------
    counts : ndarray, K int64
        Training images of each class; all others are those of `NetworkLearner`.
    """

    def __init__(self, counts: NDArray[np.int64], *given: Any) -> None:
        super().__init__(*given)
        self.counts = counts
        settings, learner = self.plan.discriminator_optimiser, self.optimiser
        self.opponent: AnyOptimiser = OPTIMISERS[settings.kind](settings, learner.learnings, learner.filter_axes)
        self.pair = Pair(self.network)
        normalised = self.network.plan.judges if self.task.spectral_normalisation else frozenset[str]()
        self.spectral = SpectralNormalisation(normalised, self.plan.seed)

    @property
    def task(self) -> Generate:
        """As planned."""
        assert isinstance(self.plan.task, Generate)
        return self.plan.task

    @cached_property
    def adversarial_loss(self) -> AdversarialLoss:
        """As planned."""
        return ADVERSARIAL_LOSSES[self.task.adversarial_loss]

    def _routes(self, epoch: int) -> tuple[Route, Route]:
        """The discriminator's way back and the generator's, as far as they learn in an epoch."""
        return self.pair.routes(self._learns - self.unfreezing.frozen_at(epoch))

    def _noise(self, count: int, cut: Cut, context: StepContext, turn: int) -> Array:
        """For this process's rows of a batch of so many; other for each turn."""
        rng = replace(context, piece=turn).random_generator("noise of a step")
        return self.pair.random_codes(rng, count)[cut.rows].astype(self.network.dtype, copy=False)

    def learn(self, batch: Batch, context: StepContext, batches: int) -> Metrics:
        """A step of the discriminator, and steps of the generator when its turn has come."""
        self.ranks.say("learn", epoch=context.epoch, batch=context.batch, batches=batches, rates=self.rates)
        back, through = self._routes(context.epoch)
        cut, number = self.cut(batch.count), context.epoch * batches + context.batch
        factor = self.factor(context, batches, self.plan.discriminator_schedule)
        step = self._discriminate(batch, back, context, cut, update=True)
        if back.trainable:
            self.sound(batch.images, batch, context, step.loss, step.gradients)
            self.change(self.opponent, step.gradients, factor, context, batches)
            for sums in step.sums:
                self.head.absorb(sums)
        rate = self.plan.discriminator_optimiser.learning_rate * factor
        factor = self.factor(context, batches)
        if through.trainable and (number + 1) % self.task.discriminator_steps == 0:
            for turn in range(self.task.generator_steps):
                self._generate(batch, through, context, cut, turn, factor, batches)
        self.averaging.after_step(self.network.weights)
        self.learning_rate = self.plan.optimiser.learning_rate * factor
        more = {**self._judged(step), "discriminator_learning_rate": rate}
        return Metrics(step.opponent, None, batch.count, more)

    def _discriminate(self, batch: Batch, route: Route, context: StepContext, cut: Cut, update: bool) -> PairStep:
        """What a batch gives the discriminator; nothing but singular vectors is changed yet."""
        noise, weights = self._noise(batch.count, cut, context, 0), self.network.weights
        labels, others = batch.labels, None
        if self.task.mismatched and self.pair.classes > 1:
            draws = context.random_generator("classes that do not match").random(batch.count)[cut.rows]
            others = others_than(labels, self.counts, draws)
        loss, pool = self.adversarial_loss, self.thread_pool
        with self.spectral.applied(weights, update) as values:
            step = self.pair.discriminate(batch.targets, labels, noise, route, context, pool, loss, cut, others)
            self.spectral.gradients(step.gradients, weights, values)
        return step

    def _generate(
        self, batch: Batch, route: Route, context: StepContext, cut: Cut, turn: int, factor: float, batches: int
    ) -> None:
        """A step of the generator."""
        noise = self._noise(batch.count, cut, context, 1 + turn)
        with self.spectral.applied(self.network.weights, False):
            step = self.pair.generate(batch.labels, noise, route, context, self.thread_pool, self.adversarial_loss, cut)
        self.sound(batch.images, batch, context, step.loss, step.gradients)
        self.change(self.optimiser, step.gradients, factor, context, batches)
        for sums in step.sums:
            self.head.absorb(sums)

    @staticmethod
    def _judged(step: PairStep) -> dict[str, float]:
        real, drawn = step.right
        return {
            "discriminator_loss": step.loss,
            "told_apart": step.apart,
            "real_right": real,
            "drawn_right": drawn,
        }

    def loss_on(self, batch: Batch) -> float:
        """The discriminator's, see `NetworkLearner`."""
        context, cut = StepContext(self.plan.seed, 0, 0, 0), self.cut(batch.count)
        return self._discriminate(batch, self._routes(0)[0], context, cut, update=False).loss

    def where_it_began(self, images: Array, batch: Batch, context: StepContext) -> str:
        """See `engine.diagnosis`; on drawn images, by the generator's loss."""
        if not np.isfinite(batch.targets).all():
            return "in the images themselves"
        count = len(batch.labels)
        noise = self.pair.random_codes(replace(context, piece=0).random_generator("noise of a step"), count)
        edited = {self.pair.code: noise.astype(self.network.dtype), **self.pair.class_values(batch.labels)}
        judge = self.adversarial_loss.generator
        nothing = self.pair.nothing(count)
        return where_it_began(self.network, nothing, nothing, context, lambda scores, _: judge(scores), edited)

    def statistics(self, head: Network, batch: Batch, context: StepContext) -> Mapping[str, Array]:
        """See `NetworkLearner`; of the generator, the discriminator's stay as they are."""
        cut, pair = self.cut(batch.count), Pair(head)
        noise = self._noise(batch.count, cut, context, 0).astype(head.dtype)
        edited = {pair.code: noise, **pair.class_values(batch.labels[cut.rows])}
        nothing, route = pair.nothing(len(noise)), self._routes(context.epoch)[1]
        sums = statistics(head, nothing, route, context, self.thread_pool, cut, edited)
        return {name: each for name, each in sums.items() if name not in pair.discriminator}

    def _evaluated(self) -> tuple[Network, Network]:
        """The mean of the generator's weights where there is one, with the discriminator as it is."""
        averaged, network = self.averaging.weights, self.network
        if averaged is None:
            return network, network
        own = {
            node: arrays if node in self.pair.discriminator else averaged.get(node, arrays)
            for node, arrays in network.weights.items()
        }
        each = Network(network.plan, network.image_shape, own, network.kernels)
        return each, each

    def model(self) -> Weights:
        """A copy; the discriminator's as they are used, divided where they are normalised."""
        network = self._evaluated()[0]
        with self.spectral.applied(network.weights, False):
            return network.copy_weights()

    def health(self, images: int) -> Health | None:
        """Of the weights that train, going from noise to the discriminator's score."""
        batch = next(iter(self.examples(images, self.optimiser.steps)), None) if self.examples is not None else None
        if batch is None:
            return None
        count = min(images, len(batch.labels))
        rng = random_generator(self.plan.seed, "noise of a look", self.optimiser.steps)
        noise = self.pair.random_codes(rng, count).astype(self.network.dtype)
        edited = {self.pair.code: noise, **self.pair.class_values(batch.labels[:count])}
        with self.spectral.applied(self.network.weights, False):
            looked = self.watch.take(self.pair.nothing(count), np.zeros((count, 0), np.float32), edited)
        return replace(looked, right=None)

    def frame(self, epoch: int, pixels: PixelArray | Chosen) -> Frame:
        """See `Learner`; the noise is the same at every epoch, every class drawn where it is told them."""
        pair = Pair(self._evaluated()[0])
        count = min(MOST_SHOWN, max(SHOWN, OF_CLASS * pair.classes))
        noise = pair.random_codes(random_generator(self.plan.seed, "codes of the film"), count)
        labels = np.arange(count) % max(1, pair.classes)
        drawn = eight_bits(self.preprocessor.pixels(pair.decode(noise, self.thread_pool, labels)))
        return Frame(epoch, drawn[:0], drawn[:0], drawn)

    def evaluate(self, pixels: PixelArray | Chosen, labels: NDArray[np.int64]) -> Metrics:
        """How the discriminator judges some images and as many drawings, the same at every epoch, and how both look.

        Every process looks at all of them.
        """
        self.ranks.say("evaluate")
        self.check_alike()
        pair, count = Pair(self._evaluated()[0]), min(JUDGED, len(labels))
        if not count:
            return Metrics(0.0, None, 0)
        rng = random_generator(self.plan.seed, "an evaluation's images and noise")
        rows = np.sort(rng.permutation(len(labels))[:count])
        part: Any = pixels[rows]
        own = labels[rows]
        real = self.preprocessor.targets(part)
        drawn = pair.decode(pair.random_codes(rng, count), self.thread_pool, own)
        with self.spectral.applied(pair.network.weights, False):
            scores = [pair.scores(images, own, self.thread_pool) for images in (real, drawn)]
        loss = self.adversarial_loss
        judged = [judge(each)[0] for judge, each in zip((loss.real, loss.drawn), scores, strict=True)]
        self._check_numbers(np.concatenate([*judged, drawn.reshape(-1)]))
        right = float((scores[0] > loss.middle).mean()), float((scores[1] <= loss.middle).mean())
        by_class = own if pair.classes else None
        more = {
            "discriminator_loss": float(judged[0].mean() + judged[1].mean()),
            "told_apart": told_apart(*scores),
            "real_right": right[0],
            "drawn_right": right[1],
            **compared(looks_of(drawn, by_class), looks_of(real, by_class)),
        }
        return Metrics(float(loss.generator(scores[1])[0].mean()), None, count, more)

    def memory(self) -> dict[str, Array]:
        """With what the discriminator's optimiser keeps, and the singular vectors."""
        parts = {
            f"{node}/{array}/{name}": value
            for (node, array), arrays in self.opponent.memory.items()
            for name, value in arrays.items()
        }
        steps = {STEPS: np.array([self.opponent.steps], np.float64)}
        return super().memory() | parts | steps | self.spectral.memory()

    def restore(self, weights: Weights, memory: Mapping[str, Array]) -> None:
        """As `weights` and `memory` gave them."""
        super().restore(weights, memory)
        for node, array in list(self.optimiser.memory):
            if node in self.pair.discriminator:
                self.opponent.memory[node, array] = self.optimiser.memory.pop((node, array))
        self.opponent.steps = int(memory[STEPS][0])
        self.spectral.restore(memory)


def others_than(labels: NDArray[np.int64], counts: NDArray[np.int64], draws: NDArray[np.float64]) -> NDArray[np.int64]:
    """Another class for each of some labels N, as often as it is among images of so many, K.

    So no class is shown as one that does not match more often, beside how often it matches, than others. ``draws`` are
    even from 0 to 1, N.
    """
    shares = np.tile(counts.astype(np.float64), (len(counts), 1))
    np.fill_diagonal(shares, 0)
    alone = shares.sum(axis=1) == 0  # every image is of this class: all others alike
    shares[alone] = 1 - np.eye(len(counts))[alone]
    edges = np.cumsum(shares, axis=1)
    edges /= edges[:, -1:]
    return np.asarray((draws[:, None] >= edges[labels]).sum(axis=1), np.int64)
