"""What single channels of a layer do: how much they add to an answer, what excites them, what happens without them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.network import Network
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.images.pixel_format import PixelArray, level_of
from attentive_lens.plan.examination import Facts
from attentive_lens.plan.nodes import IMAGE

CHANNELS_AT_ONCE = 32
STEPS, JITTER = 96, 4
"""Steps of gradient ascent, and pixels by which the image is shifted before each."""


def without(node: str, outs: Array) -> Array:
    """What is left of outputs N×…×C when nothing comes from a channel: 0; of the image's own channels, their mean.

    A channel of the image that is flat tells nothing of what is where, and is no darker for it.
    """
    if node != IMAGE:
        return np.zeros(1, outs.dtype)
    return np.asarray(outs.mean(axis=(1, 2), keepdims=True, dtype=np.float64), outs.dtype)


def contributions(probe: Probe, image: Array, node: str, targets: Targets) -> Array:
    """What each channel of a layer adds to each number, to first order: Σ over pixels of value · gradient, T×C.

    A channel of the image counts from its own mean, see `without`. One pass each way for all channels; `switched_off`
    measures it, and where the two disagree it is right.
    """
    copies = np.repeat(image[None], len(targets.weights), axis=0)
    grads, outs = probe.gradients_at(node, copies, targets.weights, targets.of)
    return np.asarray((grads * (outs - without(node, outs))).reshape(len(copies), -1, outs.shape[-1]).sum(axis=1))


def switched_off(probe: Probe, image: Array, node: str, targets: Targets) -> Array:
    """What each channel of a layer adds to each number, measured: how much it falls without the channel, T×C.

    One pass through what follows the layer for each channel; unlike `contributions` it holds however much the channel
    bends what comes after it.
    """
    out = probe.outputs(node, image[None])
    channels = out.shape[-1]
    falls = np.empty((len(targets.weights), channels), np.float64)
    rest = np.broadcast_to(without(node, out), out.shape)
    whole = probe.of(probe.scores_with(node, out, image), targets)[0]
    for first in range(0, channels, CHANNELS_AT_ONCE):
        numbers = np.arange(first, min(first + CHANNELS_AT_ONCE, channels))
        edited = np.repeat(out, len(numbers), axis=0)
        edited[np.arange(len(numbers)), ..., numbers] = rest[0, ..., numbers]
        values = probe.of(probe.scores_with(node, edited, image), targets)
        falls[:, numbers] = whole[:, None] - values.T
    return falls


def scaled(probe: Probe, image: Array, node: str, channel: int, factors: list[float]) -> Array:
    """Answers, one row for each factor a channel's output is multiplied by, see `without`; 0 switches it off."""
    out = probe.outputs(node, image[None])
    rest = np.broadcast_to(without(node, out), out.shape)[..., channel]
    edited = np.repeat(out, len(factors), axis=0)
    edited[..., channel] -= rest
    edited[..., channel] *= np.asarray(factors, out.dtype).reshape(-1, *(1 for _ in out.shape[1:-1]))
    edited[..., channel] += rest
    return probe.predictor.output.answers(probe.scores_with(node, edited, image))


@dataclass(frozen=True)
class Exciting:
    """Where a layer's channels are most excited.

    Attributes
    ----------
    images : ndarray, C×P int64
        Which image, the strongest first.
    rows, columns : ndarray, C×P int64
        Place in the layer's output.
    values : ndarray, C×P float32
        The channel's value there.
    """

    images: NDArray[np.int64]
    rows: NDArray[np.int64]
    columns: NDArray[np.int64]
    values: NDArray[np.float32]


class Excitement:
    """Collects the strongest places of every channel, images coming in pieces; at most one place an image."""

    def __init__(self, count: int) -> None:
        self.count = count
        self._seen = 0
        self._best: list[NDArray[np.float64]] = []

    def add(self, outs: Array) -> None:
        """Outputs N×H×W×C of the next N images."""
        n, rows, columns, channels = outs.shape
        flat = outs.reshape(n, rows * columns, channels)
        place = flat.argmax(axis=1)
        values = np.take_along_axis(flat, place[:, None], axis=1)[:, 0]
        numbers = np.broadcast_to(self._seen + np.arange(n)[:, None], values.shape)
        new = np.stack([values, numbers, place // columns, place % columns]).astype(np.float64)
        old = self._best[0] if self._best else np.empty((4, 0, channels))
        both = np.concatenate([old, new], axis=1)
        order = np.argsort(-both[0], axis=0, kind="stable")[: self.count]
        self._best = [np.take_along_axis(both, order[None], axis=1)]
        self._seen += n

    def strongest(self) -> Exciting:
        """The strongest so far."""
        values, images, rows, columns = (part.T for part in self._best[0])
        return Exciting(
            images.astype(np.int64), rows.astype(np.int64), columns.astype(np.int64), values.astype(np.float32)
        )


def patch(pixels: PixelArray, fact: Facts, row: int, column: int) -> PixelArray:
    """What one output of a layer sees of an image H×W×C: its receptive field, what lies outside being mid-grey.

    As `patch_sides` has it: along a side that the field spans, the whole of it.
    """
    sides = patch_sides(fact, (pixels.shape[0], pixels.shape[1]))
    out = np.full((*sides, pixels.shape[2]), level_of(128, pixels.dtype), pixels.dtype)
    inside, seen = [], []
    for at, length, side in zip((row, column), sides, pixels.shape, strict=False):
        first = fact.offset + fact.jump * at if length < side else 0
        begin, end = max(0, -first), min(length, side - first)
        inside.append(slice(begin, end))
        seen.append(slice(first + begin, first + end))
    out[inside[0], inside[1]] = pixels[seen[0], seen[1]]
    return out


def patch_sides(fact: Facts, sides: tuple[int, int]) -> tuple[int, int]:
    """Rows and columns of a patch of an image of so many: of the receptive field, at most those of the image."""
    rows, columns = (min(fact.receptive_field or side, side) for side in sides)
    return rows, columns


def synthetic(network: Network, node: str, channel: int, seed: int = 0) -> Array:
    """An image H×W×C, prepared levels, that excites a channel: gradient ascent on its mean value.

    From faint noise; shifted a little before each step and smoothed after it, so that no single pixels are pushed
    (Yosinski 2015, section 3; Mordvintsev 2015).
    """
    random = random_generator(seed, "synthetic image", channel)
    image = (0.1 * random.standard_normal((1, *network.image_shape))).astype(network.dtype)
    route = network.route(image=True)
    for step in range(STEPS):
        down, across = (int(v) for v in random.integers(-JITTER, JITTER + 1, 2))
        moved = np.roll(image, (down, across), axis=(1, 2))
        trace = network.forward(moved, route=route, watch=frozenset({node}))
        seeds = np.zeros_like(trace.outputs[node])
        seeds[..., channel] = 1 / seeds[..., channel].size
        nodes, _ = network.backward(trace, {node: seeds}, route)
        grad = np.roll(nodes["image"], (-down, -across), axis=(1, 2))
        image = image + 0.2 * grad / (np.sqrt((grad * grad).mean()) + 1e-8)
        sigma = 1.0 * (1 - step / STEPS) + 0.3
        image = np.asarray(gaussian_filter(image, (0, sigma, sigma, 0)), network.dtype).clip(-2.5, 2.5)
    return np.asarray(image[0])


def speaks_for(probe: Probe, images: Array, node: str) -> Array:
    """What each channel adds to each class's score, mean over images: K×C."""
    classes = probe.classes
    total = None
    for label in range(classes):
        seeds = np.zeros((len(images), classes), images.dtype)
        seeds[:, label] = 1
        grads, outs = probe.gradients_at(node, images, seeds)
        mean = (grads * outs).reshape(-1, outs.shape[-1]).sum(axis=0) / len(images)
        total = np.zeros((classes, len(mean)), images.dtype) if total is None else total
        total[label] = mean
    return total if total is not None else np.zeros((0, 0), images.dtype)
