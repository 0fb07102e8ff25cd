"""Whole batches through a network: cut into fixed pieces, one piece a thread, sums in the pieces' own order."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import TypeVar

import numpy as np

from attentive_lens.engine.arrays import Array, Labels, Weights
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.losses import Loss
from attentive_lens.engine.network import Network, Pass, Route, Trace
from attentive_lens.engine.outputs import OUTPUTS, OutputFunction
from attentive_lens.engine.ranks import Cut
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.plan.pieces import INFERENCE_PIECE


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
    predicted : ndarray, N
        Class that scored highest, of the images that this process computed.
    """

    loss: float
    plain: float
    right: int
    gradients: Weights
    sums: Mapping[str, Array] = field(default_factory=dict)
    predicted: Labels = field(default_factory=lambda: np.zeros(0, np.int64))


Found = tuple[Array, Weights, Mapping[str, Array], Labels]
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
    cut: Cut | None = None,
) -> Step:
    """Forward and backward for one batch, N×H×W×C; the mean loss and its gradients.

    ``targets`` are the wanted probabilities, N×K; an answer is right if it is the class wanted most, ``output`` being
    what makes answers of raw scores. With a ``cut`` over several processes both are this one's rows of the batch, and
    every process gets the whole batch's step.
    """
    cut = cut or Cut(len(images), network.multiply_adds)
    ready = network.prepared()
    measure = loss or Loss()
    begin = cut.rows.start

    def piece(k: int) -> Pass[Found]:
        a, b = (edge - begin for edge in cut.spans[k])
        shard_context = replace(context, piece=cut.first + k)
        trace: Trace = yield from network.forward_pass(images[a:b], route=route, context=shard_context, ready=ready)
        scores = trace.outputs[network.output]
        losses, grad = measure(scores, targets[a:b])
        plain = losses if measure.is_plain else measure.plain(scores, targets[a:b])
        answered = output.spread(scores)
        predicted, right = answered.argmax(axis=1), measure.right(scores, targets[a:b], answered)
        grad /= cut.count
        _, gradients = yield from network.backward_pass(trace, {network.output: grad}, route)
        return np.array([losses.sum(), plain.sum(), right], np.float64), gradients, trace.sums, predicted

    results = together(thread_pool, piece, cut)
    arrays = [[r[0], *(array for node in r[1].values() for array in node.values())] for r in results]
    figures, *_ = cut.sum(arrays)
    loss_sum, plain_sum, right = figures.tolist()
    predicted = np.concatenate([r[3] for r in results])
    return Step(loss_sum / cut.count, plain_sum / cut.count, int(right), results[0][1], results[0][2], predicted)


def statistics(
    network: Network,
    images: Array,
    route: Route,
    context: StepContext,
    thread_pool: ThreadPool,
    cut: Cut | None = None,
    edited: Mapping[str, Array] | None = None,
) -> Mapping[str, Array]:
    """Sums over a batch, N×H×W×C, of the layers that normalise over it and are trained; see `Network.absorb`.

    With a ``cut`` over several processes, images are this one's rows of the batch, and so are the outputs in
    ``edited``, which stand in for what their nodes would give.
    """
    cut = cut or Cut(len(images), network.multiply_adds)
    ready = network.prepared()
    begin = cut.rows.start

    def piece(k: int) -> Pass[Mapping[str, Array]]:
        a, b = (edge - begin for edge in cut.spans[k])
        own = {name: values[a:b] for name, values in (edited or {}).items()}
        trace: Trace = yield from network.forward_pass(
            images[a:b], route=route, context=replace(context, piece=cut.first + k), ready=ready, edited=own
        )
        return trace.sums

    return together(thread_pool, piece, cut)[0]


def together(thread_pool: ThreadPool, piece: Callable[[int], Pass[T]], cut: Cut) -> list[T]:
    """Pass all pieces; where they stop, add their sums and send all the same on."""
    count = len(cut.spans)
    passes = [piece(k) for k in range(count)]
    done: list[T | None] = [None] * count
    sums: Array | None = None

    def advance(k: int) -> Array | None:
        try:
            with np.errstate(all="ignore"):  # numbers may run away; who trains looks whether they do
                return next(passes[k]) if sums is None else passes[k].send(sums)
        except StopIteration as end:
            done[k] = end.value
            return None

    while True:
        parts = [[part.copy()] for part in thread_pool.each(advance, count) if part is not None]  # passes keep theirs
        if not parts:
            return [result for result in done if result is not None]
        (sums,) = cut.sum(parts)


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
        trace = network.forward(part, ready=ready, watch=watch, edited=stand_ins, answers=node is None)
        return trace.outputs[name][:length]

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
