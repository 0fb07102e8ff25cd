"""Whole batches through a network: cut into fixed pieces, one piece a thread, sums in the pieces' order."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import TypeVar

import numpy as np

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.losses import Loss
from attentive_lens.engine.network import Network, Pass, Route, Trace
from attentive_lens.engine.outputs import OUTPUTS, OutputFunction
from attentive_lens.engine.threads import ThreadPool

FEWEST_PIECES, MOST_PIECES = 2, 8
"""Pieces a training batch is cut into, a power of two, whatever the thread count."""
PIECE_WORK = 2**28
"""Multiply-adds forward that are worth a piece of their own: with fewer, threads wait for each other's Python."""

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
T = TypeVar("T")


def learn(
    network: Network,
    images: Array,
    targets: Array,
    route: Route,
    context: StepContext,
    thread_pool: ThreadPool,
    loss: Loss | None = None,
    output: OutputFunction = OUTPUTS["softmax"],
) -> Step:
    """Forward and backward for one batch, N×H×W×C; the mean loss and its gradients.

    ``targets`` are the wanted probabilities, N×K; an answer is right if it is the class wanted most, ``output`` being
    what makes answers of raw scores.
    """
    pieces = pieces_of(len(images) * network.multiply_adds)
    edges = [len(images) * k // pieces for k in range(pieces + 1)]
    spans = [(a, b) for a, b in pairwise(edges) if a < b]
    ready = network.prepared()
    measure = loss or Loss()

    def piece(k: int) -> Pass[Found]:
        a, b = spans[k]
        shard_context = replace(context, piece=k)
        trace: Trace = yield from network.forward_pass(images[a:b], route=route, context=shard_context, ready=ready)
        scores = trace.outputs[network.output]
        losses, grad = measure(scores, targets[a:b])
        plain = losses if measure.is_plain else measure.plain(scores, targets[a:b])
        right = int((output.spread(scores).argmax(axis=1) == targets[a:b].argmax(axis=1)).sum())
        grad /= len(images)
        _, gradients = yield from network.backward_pass(trace, {network.output: grad}, route)
        return float(losses.sum()), float(plain.sum()), right, gradients, trace.sums

    results = together(thread_pool, piece, len(spans))
    total: Weights = results[0][3]
    for _, _, _, more, _ in results[1:]:
        for node, arrays in more.items():
            for name, array in arrays.items():
                total[node][name] += array
    total_loss, plain = sum(r[0] for r in results) / len(images), sum(r[1] for r in results) / len(images)
    return Step(total_loss, plain, sum(r[2] for r in results), total, results[0][4])


def statistics(
    network: Network, images: Array, route: Route, context: StepContext, thread_pool: ThreadPool
) -> Mapping[str, Array]:
    """Sums over a batch, N×H×W×C, of the layers that normalise over it and are trained; see `Network.absorb`."""
    pieces = pieces_of(len(images) * network.multiply_adds)
    spans = [(a, b) for a, b in pairwise(len(images) * k // pieces for k in range(pieces + 1)) if a < b]
    ready = network.prepared()

    def piece(k: int) -> Pass[Mapping[str, Array]]:
        a, b = spans[k]
        shard_context = replace(context, piece=k)
        trace: Trace = yield from network.forward_pass(images[a:b], route=route, context=shard_context, ready=ready)
        return trace.sums

    return together(thread_pool, piece, len(spans))[0]


def pieces_of(multiply_adds: int) -> int:
    """Into how many pieces a batch is cut that costs so much forward."""
    worth = max(1, multiply_adds // PIECE_WORK)
    return min(MOST_PIECES, max(FEWEST_PIECES, 1 << (worth.bit_length() - 1)))


def together(thread_pool: ThreadPool, piece: Callable[[int], Pass[T]], count: int) -> list[T]:
    """Pass all pieces; where they stop, add their sums in the pieces' order and send all the same on."""
    passes = [piece(k) for k in range(count)]
    done: list[T | None] = [None] * count
    sums: Array | None = None

    def advance(k: int) -> Array | None:
        try:
            return next(passes[k]) if sums is None else passes[k].send(sums)
        except StopIteration as end:
            done[k] = end.value
            return None

    while True:
        parts = [part for part in thread_pool.each(advance, count) if part is not None]
        if not parts:
            return [result for result in done if result is not None]
        sums = np.sum(parts, axis=0)


def inference(
    network: Network,
    images: Array,
    thread_pool: ThreadPool | None = None,
    node: str | None = None,
    edited: Mapping[str, Array] | None = None,
    ready: Mapping[str, object] | None = None,
) -> Array:
    """A node's output (raw scores, N×K, if none is named) of prepared images N×H×W×C.

    Each image's are the same bits in any company: pieces are always of one size, the last filled up with zeros.

    Parameters
    ----------
    network, images
        Trained, and prepared.
    thread_pool : ThreadPool, optional
        The caller's thread alone if left out.
    node : str, optional
        Whose output.
    edited : mapping, optional
        Node → output N×… that stands in for what it would give.
    ready : mapping, optional
        From `Network.prepared`, if it is at hand.
    """
    count = -(-len(images) // INFERENCE_PIECE)
    if ready is None:
        ready = network.prepared() if count > 1 else {}
    name = node or network.output

    def piece(k: int) -> Array:
        part, length = _filled(images, k)
        stand_ins = {key: _filled(out, k)[0] for key, out in edited.items()} if edited else None
        watch = frozenset({node}) if node else frozenset()
        return network.forward(part, ready=ready, watch=watch, edited=stand_ins).outputs[name][:length]

    if not count:
        facts = {fact.name: fact.shape for fact in network.facts}
        return np.zeros((0, *facts[name]), network.dtype)
    parts = [piece(k) for k in range(count)] if thread_pool is None else thread_pool.each(piece, count)
    return np.concatenate(parts)


def _filled(values: Array, k: int) -> tuple[Array, int]:
    """A piece of fixed size, and how many of it are values."""
    part = values[k * INFERENCE_PIECE : (k + 1) * INFERENCE_PIECE]
    if len(part) == INFERENCE_PIECE:
        return part, len(part)
    whole = np.zeros((INFERENCE_PIECE, *part.shape[1:]), part.dtype)
    whole[: len(part)] = part
    return whole, len(part)
