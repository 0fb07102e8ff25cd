"""Adversarial pairs: a step of the discriminator on real and drawn images, and one of the generator against it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from attentive_lens.engine.arrays import Array, Labels, Weights
from attentive_lens.engine.batches import inference, together
from attentive_lens.engine.encoding import Coder
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network, Pass, Route, Trace
from attentive_lens.engine.ranks import Cut
from attentive_lens.engine.special import expit
from attentive_lens.engine.threads import ThreadPool

Judge = Callable[[Array], tuple[Array, Array]]
"""Losses N×1 of scores N×1, and their gradients by each image's own score."""
PIECES = 64
"""More than pieces of a batch: what is random is apart for real images, drawn ones, and the generator's step."""


@dataclass(frozen=True)
class AdversarialLoss:
    """What a pair makes small, by the discriminator's score of how real an image looks.

    Attributes
    ----------
    real, drawn : callable
        The discriminator's loss on real and on drawn images; it makes small the sum of their means.
    generator : callable
        The generator's, on what it drew.
    middle : float
        Score above which an image is judged real.
    """

    real: Judge
    drawn: Judge
    generator: Judge
    middle: float = 0.0


def _softplus(scores: Array) -> Array:
    return np.asarray(np.maximum(scores, 0) + np.log1p(np.exp(-np.abs(scores))), scores.dtype)


def _cross_entropy(scores: Array, sign: int) -> tuple[Array, Array]:
    """log(1 + e^−s) where images should look real, log(1 + e^s) where they should not."""
    signed = scores if sign < 0 else -scores
    return _softplus(signed), np.asarray(-sign * expit(signed), scores.dtype)


def _square(scores: Array, wanted: float) -> tuple[Array, Array]:
    gap = scores - scores.dtype.type(wanted)
    return gap * gap / 2, gap


def _hinge(scores: Array, sign: int) -> tuple[Array, Array]:
    """max(0, 1 ∓ s)."""
    below = 1 - sign * scores
    return np.maximum(below, 0), np.where(below > 0, scores.dtype.type(-sign), scores.dtype.type(0))


def _linear(scores: Array) -> tuple[Array, Array]:
    return -scores, np.full_like(scores, -1)


ADVERSARIAL_LOSSES: dict[str, AdversarialLoss] = {
    # Goodfellow 2014, section 3
    "non-saturating": AdversarialLoss(
        lambda s: _cross_entropy(s, 1), lambda s: _cross_entropy(s, -1), lambda s: _cross_entropy(s, 1)
    ),
    # Mao 2017, eq. 2 with a = 0, b = c = 1
    "least squares": AdversarialLoss(lambda s: _square(s, 1), lambda s: _square(s, 0), lambda s: _square(s, 1), 0.5),
    # Lim & Ye 2017; Miyato 2018, eq. 16 and 17
    "hinge": AdversarialLoss(lambda s: _hinge(s, 1), lambda s: _hinge(s, -1), _linear),
}


@dataclass(frozen=True)
class PairStep:
    """What a batch gave one of the two networks.

    Attributes
    ----------
    loss : float
        What the network makes small; mean over the images, the discriminator's over real and drawn ones together.
    opponent : float
        The generator's loss on what was drawn for the discriminator; the loss again in the generator's own step.
    right : tuple of float
        Parts of the real and of the drawn images that the discriminator judged right; 0 for those not looked at.
    apart : float
        Part of the pairs of a real and a drawn image, within the batch's pieces, of which the real one scores higher,
        ties half; 0 in the generator's step.
    gradients : dict
        By the network's own weights.
    sums : tuple of dict
        One after the other for `Network.absorb`: of the network's own normalisations.
    """

    loss: float
    opponent: float
    right: tuple[float, float]
    apart: float
    gradients: Weights
    sums: tuple[Mapping[str, Array], ...] = field(default_factory=tuple)


class Pair(Coder):
    """A generator and the discriminator it is trained against, in one network that meets in one layer."""

    def __init__(self, network: Network) -> None:
        super().__init__(network)
        self.meeting, self.discriminator = network.plan.meeting, network.plan.discriminator

    def routes(self, trainable: frozenset[str]) -> tuple[Route, Route]:
        """The discriminator's way back, and the generator's through the discriminator.

        Both normalise by the batch what learns at all, whichever of the two is stepped.
        """
        own = trainable & self.discriminator
        sides = (self.network.route(own), self.network.route(trainable - own))
        back, through = (replace(side, normalising=trainable) for side in sides)
        return back, through

    def discriminate(
        self,
        images: Array,
        labels: Labels,
        noise: Array,
        route: Route,
        context: StepContext,
        thread_pool: ThreadPool,
        loss: AdversarialLoss,
        cut: Cut,
        mismatched: Labels | None = None,
    ) -> PairStep:
        """Forward and backward for a batch of real images N×H×W×C, 0–1, and as many that are drawn of the noise.

        ``labels`` are both's classes, N, for a pair that is told them. With ``mismatched`` classes N the real images
        under these are to be judged as drawn ones are, each counting half (Reed 2016, algorithm 1). Real, drawn and
        mismatched images are normalised apart.
        """
        network, ready, begin = self.network, self.network.prepared(), cut.rows.start
        part = 1.0 if mismatched is None else 0.5

        def piece(k: int) -> Pass[tuple[Array, Weights, list[Mapping[str, Array]]]]:
            a, b = (edge - begin for edge in cut.spans[k])
            classes = self.class_values(labels[a:b])
            real = {self.meeting: as_drawn(images[a:b], network)}
            sides = [({**real, **classes}, loss.real, 1.0), ({self.code: noise[a:b], **classes}, loss.drawn, part)]
            if mismatched is not None:
                sides.append(({**real, **self.class_values(mismatched[a:b])}, loss.drawn, part))
            figures, total = np.zeros(5), Weights()
            real_scores = np.zeros((b - a, 1), network.dtype)
            sums: list[Mapping[str, Array]] = []
            for side, (given, judge, weight) in enumerate(sides):
                trace: Trace = yield from network.forward_pass(
                    self.nothing(b - a),
                    route=route,
                    context=replace(context, piece=cut.first + k + side * PIECES),
                    ready=ready,
                    edited=given,
                )
                scores = trace.outputs[network.output]
                losses, grad = judge(scores)
                figures[0] += weight * losses.sum(dtype=np.float64)
                if side < 2:
                    figures[2 + side] = ((scores > loss.middle) == (side == 0)).sum()
                if side == 0:
                    real_scores = scores
                if side == 1:
                    figures[4] = (b - a) * told_apart(real_scores, scores)
                    figures[1] = loss.generator(scores)[0].sum(dtype=np.float64)
                share = np.asarray(weight / cut.count, network.dtype)
                _, gradients = yield from network.backward_pass(trace, {network.output: grad * share}, route)
                _add(total, gradients)
                sums.append({name: array for name, array in trace.sums.items() if name in self.discriminator})
            return figures, total, sums

        results = together(thread_pool, piece, cut)
        arrays = [[r[0], *(array for node in r[1].values() for array in node.values())] for r in results]
        figures, *_ = cut.sum(arrays)
        total, opponent, real, drawn, apart = (figures / cut.count).tolist()
        return PairStep(total, opponent, (real, drawn), apart, results[0][1], tuple(results[0][2]))

    def generate(
        self,
        labels: Labels,
        noise: Array,
        route: Route,
        context: StepContext,
        thread_pool: ThreadPool,
        loss: AdversarialLoss,
        cut: Cut,
    ) -> PairStep:
        """Forward and backward for images drawn of noise N×D, through the discriminator, which stays as it is."""
        network, ready, begin = self.network, self.network.prepared(), cut.rows.start
        share = np.asarray(1 / cut.count, network.dtype)

        def piece(k: int) -> Pass[tuple[Array, Weights, Mapping[str, Array]]]:
            a, b = (edge - begin for edge in cut.spans[k])
            trace: Trace = yield from network.forward_pass(
                self.nothing(b - a),
                route=route,
                context=replace(context, piece=cut.first + k + 3 * PIECES),
                ready=ready,
                edited={self.code: noise[a:b], **self.class_values(labels[a:b])},
            )
            scores = trace.outputs[network.output]
            losses, grad = loss.generator(scores)
            _, gradients = yield from network.backward_pass(trace, {network.output: grad * share}, route)
            own = {name: array for name, array in trace.sums.items() if name not in self.discriminator}
            figures = np.array([losses.sum(dtype=np.float64), (scores <= loss.middle).sum()], np.float64)
            return figures, gradients, own

        results = together(thread_pool, piece, cut)
        arrays = [[r[0], *(array for node in r[1].values() for array in node.values())] for r in results]
        figures, *_ = cut.sum(arrays)
        total, drawn = (figures / cut.count).tolist()
        return PairStep(total, total, (0.0, drawn), 0.0, results[0][1], (results[0][2],))

    def scores(self, images: Array, labels: Labels, thread_pool: ThreadPool | None = None) -> Array:
        """How real images N×H×W×C, 0–1, look to the discriminator, N."""
        edited = {self.meeting: as_drawn(images, self.network), **self.class_values(labels)}
        return inference(self.network, self.nothing(len(images)), thread_pool, edited=edited)[:, 0]


def told_apart(real: Array, drawn: Array) -> float:
    """Part of the pairs of a real and a drawn image of which the real one scores higher, ties half: 0.5 is chance.

    The area under the curve of the discriminator; scores are N×1 and M×1, or N and M.
    """
    gaps = real.reshape(-1, 1) - drawn.reshape(1, -1)
    return float((gaps > 0).mean() + (gaps == 0).mean() / 2)


def as_drawn(images: Array, network: Network) -> Array:
    """Pixels 0–1 in the range of what a generator draws, -1 to 1."""
    return np.asarray(2 * images - 1, network.dtype)


def _add(total: Weights, more: Weights) -> None:
    for node, arrays in more.items():
        own = total.setdefault(node, {})
        for name, array in arrays.items():
            if name in own:
                own[name] += array
            else:
                own[name] = array
