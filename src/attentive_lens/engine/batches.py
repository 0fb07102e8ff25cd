"""Whole batches through a network: cut into fixed pieces, one piece a thread, sums in the pieces' order."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from itertools import pairwise

import numpy as np

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.crew import Crew
from attentive_lens.engine.layers import Moment
from attentive_lens.engine.losses import Loss
from attentive_lens.engine.network import Network, Route, Trace, Walk

PIECES = 8
"""Pieces a training batch is cut into, whatever the thread count."""

INFERENCE_PIECE = 8
"""Images in a piece at inference; the last is filled up, for a product's rows can change bits with their number."""


@dataclass(frozen=True)
class Step:
    """What one batch gave.

    Attributes
    ----------
    loss : float
        What training makes small, with label smoothing and class weights; mean over the images.
    plain : float
        The same loss without these two, which can be compared with that of any other images.
    right : int
        Images answered rightly.
    gradients : dict
        Of the mean loss.
    sums : dict
        Node → sums over the batch, of layers that normalise over it; see `Network.absorb`.
    """

    loss: float
    plain: float
    right: int
    gradients: Weights
    sums: Mapping[str, Array] = field(default_factory=dict)


Found = tuple[float, float, int, Weights, Mapping[str, Array]]


def learn(
    network: Network, images: Array, targets: Array, route: Route, moment: Moment, crew: Crew, loss: Loss | None = None
) -> Step:
    """Forward and backward for one batch, N×H×W×C; the mean loss and its gradients.

    ``targets`` are the wanted probabilities, N×K; an answer is right if it is the class wanted most.
    """
    edges = [len(images) * k // PIECES for k in range(PIECES + 1)]
    spans = [(a, b) for a, b in pairwise(edges) if a < b]
    ready = network.prepared()
    judge = loss or Loss()

    def piece(k: int) -> Walk[Found]:
        a, b = spans[k]
        own = replace(moment, piece=k)
        trace: Trace = yield from network.walk(images[a:b], route=route, moment=own, ready=ready)
        scores = trace.outputs[network.answers]
        losses, grad = judge(scores, targets[a:b])
        plain = losses if judge.is_plain else judge.plain(scores, targets[a:b])
        right = int((scores.argmax(axis=1) == targets[a:b].argmax(axis=1)).sum())
        grad /= len(images)
        _, found = yield from network.walk_back(trace, {network.answers: grad}, route)
        return float(losses.sum()), float(plain.sum()), right, found, trace.sums

    results = together(crew, piece, len(spans))
    total: Weights = results[0][3]
    for _, _, _, found, _ in results[1:]:
        for node, arrays in found.items():
            for name, array in arrays.items():
                total[node][name] += array
    wanted, plain = sum(r[0] for r in results) / len(images), sum(r[1] for r in results) / len(images)
    return Step(wanted, plain, sum(r[2] for r in results), total, results[0][4])


def together(crew: Crew, piece: Callable[[int], Walk[Found]], count: int) -> list[Found]:
    """Walk all pieces; where they stop, add their sums in the pieces' order and send all the same on."""
    walks = [piece(k) for k in range(count)]
    done: list[Found | None] = [None] * count
    sums: Array | None = None

    def advance(k: int) -> Array | None:
        try:
            return next(walks[k]) if sums is None else walks[k].send(sums)
        except StopIteration as end:
            done[k] = end.value
            return None

    while True:
        parts = [part for part in crew.each(advance, count) if part is not None]
        if not parts:
            return [found for found in done if found is not None]
        sums = np.sum(parts, axis=0)


def scores(network: Network, images: Array, crew: Crew) -> Array:
    """Raw scores, N×K, of prepared images N×H×W×C; each image's are the same bits in any company."""
    pieces = -(-len(images) // INFERENCE_PIECE)
    ready = network.prepared() if pieces > 1 else {}

    def piece(k: int) -> Array:
        part = images[k * INFERENCE_PIECE : (k + 1) * INFERENCE_PIECE]
        count = len(part)
        if count < INFERENCE_PIECE:
            filled = np.zeros((INFERENCE_PIECE, *part.shape[1:]), part.dtype)
            filled[:count] = part
            part = filled
        return network.forward(part, ready=ready).outputs[network.answers][:count]

    if not pieces:
        return np.zeros((0, network.plan.nodes[-1].layer.output_shape((1,))[0]), network.dtype)
    return np.concatenate(crew.each(piece, pieces))
