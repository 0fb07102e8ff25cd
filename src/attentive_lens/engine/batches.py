"""Whole batches through a network: cut into fixed pieces, one piece a thread, sums in the pieces' order."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.crew import Crew
from attentive_lens.engine.layers import Moment
from attentive_lens.engine.losses import cross_entropy
from attentive_lens.engine.network import Network, Route

PIECES = 8
"""Pieces a training batch is cut into, whatever the thread count."""

INFERENCE_PIECE = 8
"""Images in a piece at inference; the last is filled up, for a product's rows can change bits with their number."""


@dataclass(frozen=True)
class Step:
    """What one batch gave: mean loss, number answered rightly, gradients of the mean loss."""

    loss: float
    right: int
    gradients: Weights


def learn(network: Network, images: Array, targets: Array, route: Route, moment: Moment, crew: Crew) -> Step:
    """Forward and backward for one batch, N×H×W×C; the mean softmax cross-entropy and its gradients.

    ``targets`` are the wanted probabilities, N×K; an answer is right if it is the class wanted most.
    """
    edges = [len(images) * k // PIECES for k in range(PIECES + 1)]
    spans = [(a, b) for a, b in pairwise(edges) if a < b]

    def piece(k: int) -> tuple[float, int, Weights]:
        a, b = spans[k]
        trace = network.forward(images[a:b], route=route, moment=replace(moment, piece=k))
        scores = trace.outputs[network.answers]
        losses, grad = cross_entropy(scores, targets[a:b])
        right = int((scores.argmax(axis=1) == targets[a:b].argmax(axis=1)).sum())
        grad /= len(images)
        _, found = network.backward(trace, {network.answers: grad}, route)
        return float(losses.sum()), right, found

    results = crew.each(piece, len(spans))
    total: Weights = results[0][2]
    for _, _, found in results[1:]:
        for node, arrays in found.items():
            for name, array in arrays.items():
                total[node][name] += array
    return Step(sum(r[0] for r in results) / len(images), sum(r[1] for r in results), total)


def scores(network: Network, images: Array, crew: Crew) -> Array:
    """Raw scores, N×K, of prepared images N×H×W×C; each image's are the same bits in any company."""
    pieces = -(-len(images) // INFERENCE_PIECE)

    def piece(k: int) -> Array:
        part = images[k * INFERENCE_PIECE : (k + 1) * INFERENCE_PIECE]
        count = len(part)
        if count < INFERENCE_PIECE:
            filled = np.zeros((INFERENCE_PIECE, *part.shape[1:]), part.dtype)
            filled[:count] = part
            part = filled
        return network.forward(part).outputs[network.answers][:count]

    if not pieces:
        return np.zeros((0, network.plan.nodes[-1].layer.output_shape((1,))[0]), network.dtype)
    return np.concatenate(crew.each(piece, pieces))
