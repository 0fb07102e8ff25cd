"""What explaining asks of a model besides its answers: gradients by the image or by any layer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.layers import Rule
from attentive_lens.engine.network import Network
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.predicting import Predictor

AT_ONCE = 8
"""Images in a piece."""


@dataclass(frozen=True)
class Targets:
    """Which numbers are explained, T of them.

    Attributes
    ----------
    weights : ndarray, T×K
        Directions in the space of classes: a 1 asks for one class, a 1 and a −1 for the difference of two.
    of : str
        "score" for the classes' scores, before the output function, so that what speaks for one class is not mixed
        with what speaks against the others; "probability" for the answers after it.
    """

    weights: Array
    of: str = "score"

    @classmethod
    def classes(cls, classes: list[int], count: int, of: str = "score") -> Targets:
        """One for each of some classes out of ``count``."""
        return cls(np.eye(count, dtype=np.float32)[classes], of)


def contrasts(scores: Array, labels: Sequence[int]) -> list[tuple[int, int]]:
    """Each class with the next one: of all others that with the highest score, from the scores K of one image."""
    order = [int(k) for k in np.argsort(-np.asarray(scores), kind="stable")]
    return [(label, next(other for other in order if other != label)) for label in labels]


def contrast_targets(pairs: Sequence[tuple[int, int]], classes: int) -> Targets:
    """The difference of the two scores of each pair: what the map of a class explains."""
    one = np.eye(classes, dtype=np.float32)
    return Targets(np.stack([one[label] - one[other] for label, other in pairs]))


class Probe:
    """A predictor, and gradients of what it says; nothing is learned."""

    def __init__(self, predictor: Predictor) -> None:
        self.predictor = predictor
        self.network: Network = predictor.network
        self.scores = predictor.scores
        self.answers = predictor.answers
        self.predicted = predictor.predicted
        self.outputs = predictor.outputs
        self.scores_with = predictor.scores_with

    @property
    def classes(self) -> int:
        """Number of classes."""
        return len(self.predictor.classes)

    def values(self, images: Array, targets: Targets) -> Array:
        """What is asked for, N×T, of prepared images."""
        return self.of(self.scores(images), targets)

    def of(self, scores: Array, targets: Targets) -> Array:
        """What is asked for, N×T, from the classes' scores N×K."""
        answers = scores if targets.of == "score" else self.predictor.output.answers(scores)
        return np.asarray(answers @ targets.weights.T)

    def against_next(self, image: Array, label: int | None = None) -> Targets:
        """Of a prepared image H×W×C: a class's score, that of the one said if none is named, less the next one's."""
        scores = self.scores(image[None])
        chosen = int(self.predicted(scores)[0]) if label is None else label
        return contrast_targets(contrasts(scores[0], [chosen]), self.classes)

    def gradients(self, images: Array, weights: Array, of: str = "score", relu: Rule | None = None) -> Array:
        """Gradient of each image's own number, weights N×K, by its pixels: N×H×W×C.

        ``relu`` stands in for ReLU's gradient.
        """
        return self.gradients_at(IMAGE, images, weights, of, relu)[0]

    def gradients_at(
        self, node: str, images: Array, weights: Array, of: str = "score", relu: Rule | None = None
    ) -> tuple[Array, Array]:
        """Gradient of each image's number by a node's output, and that output."""
        watched = frozenset() if node == IMAGE else frozenset({node})
        route = self.network.route(image=node == IMAGE, nodes=watched)
        output = self.predictor.output

        def piece(k: int) -> tuple[Array, Array]:
            part = images[k * AT_ONCE : (k + 1) * AT_ONCE]
            trace = self.network.forward(part, route=route, ready=self.predictor.ready, watch=watched)
            raw = trace.outputs[self.network.output]
            seed = weights[k * AT_ONCE : (k + 1) * AT_ONCE].astype(raw.dtype)
            if of == "probability":
                seed = output.gradient(output.spread(raw), seed).astype(raw.dtype)
            out = trace.outputs.get(node, part)
            nodes, _ = self.network.backward(trace, {self.network.output: output.gather(seed)}, route, relu)
            return nodes.get(node, np.zeros_like(out)), out

        count, pool = -(-len(images) // AT_ONCE), self.predictor.thread_pool
        parts = pool.each(piece, count) if pool is not None else [piece(k) for k in range(count)]
        return np.concatenate([grad for grad, _ in parts]), np.concatenate([out for _, out in parts])
