"""Asking a trained network about many variants of images at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.crew import Crew
from attentive_lens.engine.layers import Rule
from attentive_lens.engine.losses import softmax
from attentive_lens.engine.network import Network
from attentive_lens.plan.network import IMAGE

AT_ONCE = 8
"""Images in a piece."""


@dataclass(frozen=True)
class Asked:
    """Which numbers are explained: one for each row of seeds.

    Attributes
    ----------
    seeds : ndarray, T×K
        Weights of the classes: a 1 asks for one class, a 1 and a −1 for the difference of two.
    of : str
        "score" for raw scores, before softmax, so that what speaks for one class is not mixed with what speaks against
        the others; "probability" for what comes after it.
    """

    seeds: Array
    of: str = "score"

    @classmethod
    def classes(cls, classes: list[int], count: int, of: str = "score") -> Asked:
        """One row for each of some classes out of ``count``."""
        return cls(np.eye(count, dtype=np.float32)[classes], of)


class Probe:
    """A network and the threads it is asked with; nothing is learned.

    Parameters
    ----------
    network : Network
        Trained.
    crew : Crew, optional
        Threads; one if left out.
    """

    def __init__(self, network: Network, crew: Crew | None = None) -> None:
        self.network, self.crew = network, crew
        self._ready = network.prepared()

    @property
    def classes(self) -> int:
        """Number of classes."""
        return int(self.network.plan.nodes[-1].layer.output_shape((1,))[0])

    def scores(self, images: Array) -> Array:
        """Raw scores N×K of prepared images N×H×W×C."""

        def piece(k: int) -> Array:
            part = images[k * AT_ONCE : (k + 1) * AT_ONCE]
            return self.network.forward(part, ready=self._ready).outputs[self.network.answers]

        return np.concatenate(self._each(piece, len(images)))

    def probabilities(self, images: Array) -> Array:
        """N×K."""
        return softmax(self.scores(images))

    def numbers(self, images: Array, asked: Asked) -> Array:
        """What is asked for, N×T."""
        found = self.scores(images) if asked.of == "score" else self.probabilities(images)
        return np.asarray(found @ asked.seeds.T)

    def gradients(self, images: Array, seeds: Array, of: str = "score", relu: Rule | None = None) -> Array:
        """Gradient of each image's own number, seeds N×K, by its pixels: N×H×W×C; ``relu`` stands in for ReLU's."""
        return self.gradients_at(IMAGE, images, seeds, of, relu)[0]

    def gradients_at(
        self, node: str, images: Array, seeds: Array, of: str = "score", relu: Rule | None = None
    ) -> tuple[Array, Array]:
        """Gradient of each image's number by a node's output, and that output."""
        wanted = frozenset() if node == IMAGE else frozenset({node})
        route = self.network.route(image=node == IMAGE, nodes=wanted)

        def piece(k: int) -> tuple[Array, Array]:
            part = images[k * AT_ONCE : (k + 1) * AT_ONCE]
            trace = self.network.forward(part, route=route, ready=self._ready, watch=wanted)
            scores = trace.outputs[self.network.answers]
            seed = seeds[k * AT_ONCE : (k + 1) * AT_ONCE].astype(scores.dtype)
            if of == "probability":
                shares = softmax(scores)
                seed = shares * (seed - (seed * shares).sum(axis=1, keepdims=True))
            out = trace.outputs.get(node, part)
            nodes, _ = self.network.backward(trace, {self.network.answers: seed}, route, relu)
            return nodes.get(node, np.zeros_like(out)), out

        parts = self._each(piece, len(images))
        return np.concatenate([grad for grad, _ in parts]), np.concatenate([out for _, out in parts])

    def outputs(self, node: str, images: Array) -> Array:
        """A node's output for every image."""
        if node == IMAGE:
            return images

        def piece(k: int) -> Array:
            part = images[k * AT_ONCE : (k + 1) * AT_ONCE]
            return self.network.forward(part, ready=self._ready, watch=frozenset({node})).outputs[node]

        return np.concatenate(self._each(piece, len(images)))

    def _each(self, piece, images: int):  # type: ignore[no-untyped-def]
        count = -(-images // AT_ONCE)
        return self.crew.each(piece, count) if self.crew is not None else [piece(k) for k in range(count)]
