"""Auto-encoders: a batch drawn again and learned from, images as codes, and codes as images."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array, Labels, Weights
from attentive_lens.engine.batches import inference, together
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.likelihoods import Likelihood, divergence, likelihood, log_density, shown
from attentive_lens.engine.network import Network, Pass, Route, Trace
from attentive_lens.engine.ranks import Cut
from attentive_lens.engine.threads import ThreadPool

Found = tuple[Array, Weights, Mapping[str, Array]]
AT_ONCE = 256
"""Codes that are drawn at once."""


@dataclass(frozen=True)
class EncodingStep:
    """What one batch gave.

    Attributes
    ----------
    loss : float
        What training makes small: reconstruction + weight · divergence, in nats, mean over the images.
    reconstruction, divergence : float
        Minus the log likelihood of the images, and the divergence of their codes' distributions; means.
    gradients : dict
        Of the loss.
    sums : dict
        As `batches.Step` has them.
    """

    loss: float
    reconstruction: float
    divergence: float
    gradients: Weights
    sums: Mapping[str, Array] = field(default_factory=dict)


class Coder:
    """A network that draws, with its two halves: what makes codes of images, and what makes images of codes.

    Parameters
    ----------
    network : Network
        With one layer of codes; its last draws.
    """

    def __init__(self, network: Network) -> None:
        self.network = network
        node, drawing = network.plan.code, network.plan.drawing
        self.code, self.is_variational = node.name, node.layer.is_variational
        self.encodes = not node.layer.is_input
        """Whether images have codes; if not, it draws of noise."""
        self.statistics = node.after[0] if self.is_variational else node.name
        """The node whose output means and log variances are, or the codes."""
        self.samples = int(getattr(node.layer, "samples", 1))
        self.is_even = getattr(node.layer, "distribution", "") == "uniform"
        self.class_inputs = network.plan.class_inputs
        # Any: the plan says that this layer draws
        self.drawing: Any = drawing.layer
        self.drawn = drawing.name
        facts = {fact.name: fact.shape for fact in network.facts}
        self.size = facts[self.code][0]
        self.classes = max((facts[name][0] for name in self.class_inputs), default=0)
        """That it is told of; 0 where it draws without."""

    def learn(
        self,
        images: Array,
        targets: Array,
        route: Route,
        context: StepContext,
        thread_pool: ThreadPool,
        weight: float,
        cut: Cut,
    ) -> EncodingStep:
        """Forward and backward for a batch N×H×W×C, which is to be drawn as ``targets``, 0–1.

        ``weight`` is the divergence's part in the loss. With a ``cut`` over several processes images and targets are
        this one's rows of the batch.
        """
        network, ready, begin = self.network, self.network.prepared(), cut.rows.start
        output, samples = network.output, self.samples if self.is_variational else 1

        def piece(k: int) -> Pass[Found]:
            a, b = (edge - begin for edge in cut.spans[k])
            trace: Trace = yield from network.forward_pass(
                images[a:b],
                route=route,
                context=replace(context, piece=cut.first + k),
                ready=ready,
                watch=frozenset({self.statistics}),
            )
            drawn = trace.outputs[output]
            judged = self.judged(drawn, targets[a:b])
            share = np.asarray(1 / (cut.count * samples), drawn.dtype)
            seeds: dict[str, Array] = {output: judged.grad * share}
            figures = [judged.losses.sum() / samples, 0.0]
            if self.is_variational:
                losses, grad = divergence(trace.outputs[self.statistics])
                figures[1] = losses.sum()
                if weight and self.statistics in route.walked:
                    seeds[self.statistics] = grad * np.asarray(weight / cut.count, grad.dtype)
            _, gradients = yield from network.backward_pass(trace, seeds, route)
            if judged.by_log_variance is not None and output in route.trainable:
                total = (judged.by_log_variance * float(share)).sum(keepdims=True)
                gradients[output] = {"log_variance": np.asarray(total, drawn.dtype)}
            return np.array(figures, np.float64), gradients, trace.sums

        results = together(thread_pool, piece, cut)
        arrays = [[r[0], *(array for node in r[1].values() for array in node.values())] for r in results]
        figures, *_ = cut.sum(arrays)
        reconstruction, apart = (figures / cut.count).tolist()
        loss = reconstruction + weight * apart
        return EncodingStep(loss, reconstruction, apart, results[0][1], results[0][2])

    def judged(self, drawn: Array, targets: Array) -> Likelihood:
        """How likely images are by what was drawn of them, before a sigmoid: once each, or in all samples."""
        samples = len(drawn) // max(1, len(targets))
        wanted = targets if samples == 1 else np.repeat(targets, samples, axis=0)
        return likelihood(self.drawing, drawn, wanted, self._log_variance)

    @property
    def _log_variance(self) -> Array | None:
        return self.network.weights.get(self.network.output, {}).get("log_variance")

    def encode(self, images: Array, thread_pool: ThreadPool | None = None) -> Array:
        """Means and log variances N×2D of prepared images N×H×W×C, or codes N×D where they have no distribution."""
        return inference(self.network, images, thread_pool, self.statistics)

    def means(self, statistics: Array) -> Array:
        """The codes N×D that stand for an image."""
        return statistics[:, : self.size]

    def nothing(self, count: int) -> Array:
        """In place of so many images, where none is looked at."""
        return np.broadcast_to(np.zeros(1, self.network.dtype), (count, *self.network.image_shape))

    def class_values(self, labels: Labels | None) -> dict[str, Array]:
        """Node → output N×K, for the classes N of images; nothing where it is told none."""
        if labels is None or not self.class_inputs:
            return {}
        values = np.zeros((len(labels), self.classes), self.network.dtype)
        known = (labels >= 0) & (labels < self.classes)
        values[known, labels[known]] = 1
        values[~known] = 1 / self.classes
        return dict.fromkeys(self.class_inputs, values)

    def raw(self, codes: Array, thread_pool: ThreadPool | None = None, labels: Labels | None = None) -> Array:
        """What is drawn of codes N×D, of classes N where it is told them, before a sigmoid."""
        edited = {self.code: codes.astype(self.network.dtype, copy=False), **self.class_values(labels)}
        return inference(self.network, self.nothing(len(codes)), thread_pool, self.drawn, edited)

    def decode(self, codes: Array, thread_pool: ThreadPool | None = None, labels: Labels | None = None) -> Array:
        """Images N×H×W×C, 0–1, of codes N×D, of classes N where it is told them."""
        parts = []
        for first in range(0, max(1, len(codes)), AT_ONCE):
            part = slice(first, first + AT_ONCE)
            raw = self.raw(codes[part], thread_pool, None if labels is None else labels[part])
            parts.append(shown(self.drawing, raw))
        return np.concatenate(parts)

    def random_codes(self, rng: np.random.Generator, count: int) -> Array:
        """So many codes N×D: standard normal, or even from -1 to 1 where the noise is."""
        if self.is_even:
            return rng.uniform(-1, 1, (count, self.size)).astype(np.float32)
        return rng.standard_normal((count, self.size), np.float32)

    def bound(
        self, statistics: Array, targets: Array, noise: Array | None, thread_pool: ThreadPool | None = None
    ) -> tuple[Array, Array]:
        """Reconstruction and divergence of images, N each, in nats; minus their sum is the lower bound.

        Parameters
        ----------
        statistics : ndarray
            From `encode`.
        targets : ndarray, N×H×W×C
            The images, 0–1.
        noise : ndarray, N×D, or None
            Standard normal, for the codes; None draws from the means.
        """
        codes = self.drawn_codes(statistics, noise)
        drawn = self.raw(codes, thread_pool)
        losses = likelihood(self.drawing, drawn, targets, self._log_variance).losses
        return losses, divergence(statistics)[0] if self.is_variational else np.zeros(len(losses))

    def evaluation_noise(self, seed: int, count: int) -> Array:
        """Standard normal noise N×D for a code of each image of a set, always the same."""
        return random_generator(seed, "codes of an evaluation").standard_normal((count, self.size), np.float32)

    def drawn_codes(self, statistics: Array, noise: Array | None) -> Array:
        """Codes N×D from their distributions by standard normal noise N×D; their means without."""
        if noise is None or not self.is_variational:
            return self.means(statistics)
        return self.means(statistics) + noise * np.exp(statistics[:, self.size :] / 2)

    def weighted_bound(
        self, statistics: Array, targets: Array, noise: Iterable[Array], thread_pool: ThreadPool | None = None
    ) -> Array:
        """The importance-weighted bound of the log likelihood, N, in nats (Burda 2016, eq. 8).

        log of the mean over K codes of p(image | code) · p(code) / q(code | image).

        Parameters
        ----------
        statistics, targets
            As for `bound`.
        noise : iterable of ndarray, N×D
            Standard normal, K of them, one at a time.
        """
        total, count = np.full(len(targets), -np.inf), 0
        for drawn in noise:
            codes = self.drawn_codes(statistics, drawn.astype(statistics.dtype, copy=False))
            raw = self.raw(codes, thread_pool)
            losses = likelihood(self.drawing, raw, targets, self._log_variance).losses
            total = np.logaddexp(total, log_density(codes) - log_density(codes, statistics) - losses)
            count += 1
        return np.asarray(total - np.log(count))
