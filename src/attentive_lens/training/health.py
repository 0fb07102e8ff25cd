"""How each layer of a network is doing while it trains: size of its steps, gradients and activations, dead units.

Nothing here changes what is learned. Steps are looked at now and then, activations once an epoch on a few images,
others at each epoch.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence

import numpy as np

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.losses import Loss
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.training.figures import Health

SAMPLES = 12
"""Steps looked at in an epoch."""
LEAST_APART = 8
"""Steps between two that are looked at."""
LOOKS = 3
"""Last looks, each at other images, on all of which a unit must be zero to count as dead."""
PIECE = 8
"""Images sent through at once."""


class HealthWatch:
    """Collects over an epoch.

    Parameters
    ----------
    network : Network
        That trains, or the part of it that does.
    names : sequence of str
        Layers told of, in their order; those that the network has not are told as None.
    thread_pool : ThreadPool, optional
        For sending images through; the caller's thread alone if left out.
    right : callable, optional
        Counts right answers, see `Loss.right`; by one class an image if left out.
    """

    def __init__(
        self,
        network: Network,
        names: Sequence[str],
        thread_pool: ThreadPool | None = None,
        right: Callable[[Array, Array, Array], int] | None = None,
    ) -> None:
        self.network, self.names, self.thread_pool = network, tuple(names), thread_pool
        self.right = right or Loss().right
        self._steps: dict[str, list[tuple[float, float]]] = {}
        self._looks: list[dict[str, Array]] = []

    def due(self, batch: int, batches: int) -> bool:
        """Whether a step is looked at, by its place in the epoch alone."""
        return batch % max(LEAST_APART, batches // SAMPLES) == min(LEAST_APART, batches) // 2

    def norms(self, gradients: Weights) -> dict[str, float]:
        """Of every node's gradient, before a step uses it up."""
        return {node: _norm(arrays) for node, arrays in gradients.items()}

    def step(self, before: Weights, after: Weights, gradients: Mapping[str, float]) -> None:
        """Take note of a step: weights before and after it, and the norms of their gradients."""
        for node, gradient in gradients.items():
            size = _norm(before[node])
            with np.errstate(over="ignore", invalid="ignore"):
                moved = _norm({name: after[node][name] - old for name, old in before[node].items()})
            if size > 0 and math.isfinite(gradient) and math.isfinite(moved):
                self._steps.setdefault(node, []).append((moved / size, gradient / size))

    def take(self, images: Array, targets: Array, edited: Mapping[str, Array] | None = None) -> Health:
        """What was noted since the last time, and how some images, prepared for the network, go through it.

        Parameters
        ----------
        images : ndarray, N×H×W×C
            Augmented training images.
        targets : ndarray, N×K
            What should be answered, each row summing to 1.
        edited : mapping, optional
            Node → outputs N×… that stand in for what it would give.
        """
        every = frozenset(self.network.layers)
        rectifiers = {node.name for node in self.network.plan.nodes if node.layer.is_rectifier}

        def look(k: int) -> tuple[dict[str, tuple[float, int]], dict[str, Array], int]:
            """Sums of squares and values counted, greatest values of rectifiers, and right answers, of a piece."""
            part, wanted = images[k * PIECE : (k + 1) * PIECE], targets[k * PIECE : (k + 1) * PIECE]
            own = {name: values[k * PIECE : (k + 1) * PIECE] for name, values in (edited or {}).items()}
            outputs = self.network.forward(part, watch=every, edited=own).outputs
            scores = outputs[self.network.output]
            right = self.right(scores, wanted, scores) if scores.shape == wanted.shape else 0
            sums = {}
            with np.errstate(over="ignore", invalid="ignore"):
                for name, out in outputs.items():
                    flat = out.reshape(-1)
                    sums[name] = (float(np.dot(flat, flat)), out.size)
            tops = {name: outputs[name].reshape(-1, outputs[name].shape[-1]).max(axis=0) for name in rectifiers}
            return sums, tops, right

        count = -(-len(images) // PIECE)
        pieces = [look(k) for k in range(count)] if self.thread_pool is None else self.thread_pool.each(look, count)
        squares, counts, highest = dict[str, float](), dict[str, int](), dict[str, Array]()
        for sums, tops, _ in pieces:
            for name, (square, size) in sums.items():
                squares[name], counts[name] = squares.get(name, 0.0) + square, counts.get(name, 0) + size
            for name, top in tops.items():
                highest[name] = np.maximum(highest[name], top) if name in highest else top
        right = sum(piece[2] for piece in pieces)
        self._looks = self._looks[1 - LOOKS :]
        self._looks.append(highest)
        for earlier in self._looks[:-1]:
            highest = {name: np.maximum(top, earlier[name]) for name, top in highest.items()}
        medians = {node: np.median(np.array(noted), axis=0) for node, noted in self._steps.items()}
        self._steps = {}

        def rounded(values: Mapping[str, float]) -> tuple[float | None, ...]:
            return tuple(_short(values.get(name)) for name in self.names)

        return Health(
            rounded({node: float(pair[0]) for node, pair in medians.items()}),
            rounded({node: float(pair[1]) for node, pair in medians.items()}),
            rounded({name: math.sqrt(squares[name] / counts[name]) for name in squares if counts[name]}),
            rounded({name: float((top <= 0).mean()) for name, top in highest.items()}),
            len(images),
            right,
        )


def _norm(arrays: Mapping[str, Array]) -> float:
    """Of a node's kernels, matrices, biases and scales together, running statistics left out."""
    parts = (array.reshape(-1) for name, array in arrays.items() if name not in ("mean", "variance"))
    with np.errstate(over="ignore", invalid="ignore"):  # numbers may run away; what is none is not told
        return math.sqrt(sum(float(np.dot(part, part)) for part in parts))


def _short(value: float | None) -> float | None:
    """To four digits; None for what is no number."""
    return float(f"{value:.4g}") if value is not None and math.isfinite(value) else None
