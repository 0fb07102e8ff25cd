"""Batch, group and local response normalisation."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.kernels.compiled import channel_products, channel_sums, normal_backward, scale_and_shift
from attentive_lens.engine.layers.base import Call, Layer
from attentive_lens.plan.layers import BatchNormalisation, GroupNormalisation, LocalResponse, Shape


@dataclass(frozen=True)
class Normal:
    """What a batch normalisation keeps.

    Attributes
    ----------
    values : ndarray, V×C
        Its input.
    mean, inverse : ndarray, C
        Mean, and one over the deviation.
    batch : bool
        Whether they are the batch's, so that the gradient passes through them too.
    own, sums : ndarray, 3×C, or None
        Gradient sums of the piece and of the whole batch; None where the piece is the batch.
    """

    values: Array
    mean: Array
    inverse: Array
    batch: bool
    own: Array | None = None
    sums: Array | None = None


class BatchNormalisationLayer(Layer[BatchNormalisation]):
    """scale · (x − mean) / √(variance + tiny) + shift (Ioffe & Szegedy 2015, algorithm 1).

    In training, mean and variance are those of the whole batch, whatever pieces it is cut into, and move the running
    figures that inference uses; the running variance is the unbiased one. A frozen layer uses the running figures.
    """

    whole_batch = True
    can_activate = True

    def start(self, given: Shape, random: np.random.Generator, dtype: np.dtype[Any], how: str) -> dict[str, Array]:
        """Scale and variance 1, shift and mean 0."""
        channels = given[-1]
        return {
            "scale": np.ones(channels, dtype),
            "shift": np.zeros(channels, dtype),
            "mean": np.zeros(channels, dtype),
            "variance": np.ones(channels, dtype),
        }

    def sums(self, given: Array) -> Array:
        """3×C float64: count, sum and sum of squares of each channel."""
        flat = np.ascontiguousarray(given).reshape(-1, given.shape[-1])
        found = np.zeros((3, flat.shape[1]))
        found[0] = len(flat)
        channel_sums(flat, found[1:])
        return found

    def _figures(self, weights: dict[str, Array], sums: Array | None) -> tuple[Array, Array]:
        """Mean, and one over the deviation."""
        if sums is None:
            mean, variance = weights["mean"], weights["variance"].astype(np.float64)
        else:
            mean = sums[1] / sums[0]
            variance = np.maximum(sums[2] / sums[0] - mean * mean, 0)
        dtype = weights["scale"].dtype
        return mean.astype(dtype), (1 / np.sqrt(variance + self.settings.tiny)).astype(dtype)

    def forward(self, given: Any, weights: dict[str, Array], call: Call) -> tuple[Array, Any]:
        """As given in shape; keeps the input with its figures, and whether they are the batch's."""
        given = np.ascontiguousarray(given)
        mean, inverse = self._figures(weights, call.sums)
        out = np.empty_like(given)
        factor = weights["scale"] * inverse
        channels = given.shape[-1]
        flat, to = given.reshape(-1, channels), out.reshape(-1, channels)
        scale_and_shift(flat, factor, weights["shift"] - mean * factor, call.activate, to)
        return out, Normal(flat, mean, inverse, call.sums is not None)

    def gradient_sums(self, grad: Array, kept: Any) -> Array:
        """3×C float64: count, sum of gradients, and of gradients times normalised values."""
        flat = np.ascontiguousarray(grad).reshape(kept.values.shape)
        found = np.zeros((3, flat.shape[1]))
        found[0] = len(flat)
        channel_products(flat, kept.values, kept.mean, kept.inverse, found[1:])
        return found

    def with_sums(self, kept: Any, own: Array, sums: Array) -> Any:
        """With the gradient sums of the piece and of the batch."""
        return replace(kept, own=own, sums=sums)

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Any, dict[str, Array]]:
        """Ioffe & Szegedy 2015, section 3; straight through where the running figures were used."""
        found: dict[str, Array] = {}
        own = kept.own
        if own is None and (parameters or (inputs and kept.batch)):
            own = self.gradient_sums(grad, kept)
        if parameters and own is not None:
            found = {"scale": own[2].astype(grad.dtype), "shift": own[1].astype(grad.dtype)}
        if not inputs:
            return None, found
        factor = weights["scale"] * kept.inverse
        if not kept.batch:
            return grad * factor, found
        sums = own if kept.sums is None else kept.sums
        # g − Σg/n − x̂ · Σ(g·x̂)/n, times scale / deviation, as one line in g and x
        along = factor * kept.inverse * (sums[2] / sums[0]).astype(grad.dtype)
        offset = along * kept.mean - factor * (sums[1] / sums[0]).astype(grad.dtype)
        out = np.ascontiguousarray(grad)
        normal_backward(out.reshape(kept.values.shape), kept.values, factor, -along, offset)
        return out, found

    def state(self, weights: dict[str, Array], sums: Array) -> dict[str, Array]:
        """The running mean and variance, moved towards those of the batch."""
        count, keeps = float(sums[0, 0]), self.settings.keeps
        mean = sums[1] / count
        variance = np.maximum(sums[2] / count - mean * mean, 0) * count / max(1.0, count - 1)
        dtype = weights["mean"].dtype
        return {
            "mean": (keeps * weights["mean"] + (1 - keeps) * mean).astype(dtype),
            "variance": (keeps * weights["variance"] + (1 - keeps) * variance).astype(dtype),
        }


class GroupNormalisationLayer(Layer[GroupNormalisation]):
    """As batch normalisation, over groups of channels of each image (Wu & He 2018, eq. 1–2, 7)."""

    def start(self, given: Shape, random: np.random.Generator, dtype: np.dtype[Any], how: str) -> dict[str, Array]:
        """Scale 1, shift 0."""
        return {"scale": np.ones(given[2], dtype), "shift": np.zeros(given[2], dtype)}

    def forward(self, given: Any, weights: dict[str, Array], call: Call) -> tuple[Array, Any]:
        """As given in shape; keeps the normalised values."""
        n, rows, columns, channels = given.shape
        parts = given.reshape(n, rows * columns, self.settings.groups, channels // self.settings.groups)
        mean = parts.mean(axis=(1, 3), keepdims=True)
        normal = parts - mean
        inverse = 1 / np.sqrt((normal * normal).mean(axis=(1, 3), keepdims=True) + self.settings.tiny)
        normal = (normal * inverse).astype(given.dtype, copy=False)
        out = normal.reshape(given.shape) * weights["scale"] + weights["shift"]
        return out, (normal, inverse)

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Any, dict[str, Array]]:
        """Less its mean and its part along the normalised values, group by group."""
        normal, inverse = kept
        found: dict[str, Array] = {}
        if parameters:
            times = (grad * normal.reshape(grad.shape)).sum(axis=(0, 1, 2))
            found = {"scale": times, "shift": grad.sum(axis=(0, 1, 2))}
        if not inputs:
            return None, found
        part = (grad * weights["scale"]).reshape(normal.shape)
        along = (part * normal).mean(axis=(1, 3), keepdims=True)
        out = (part - part.mean(axis=(1, 3), keepdims=True) - normal * along) * inverse
        return out.reshape(grad.shape).astype(grad.dtype, copy=False), found


class LocalResponseLayer(Layer[LocalResponse]):
    """x / (offset + factor · Σ x² over neighbour channels)^power (Krizhevsky 2012, section 3.3)."""

    def forward(self, given: Any, weights: dict[str, Array], call: Call) -> tuple[Array, Any]:
        """As given in shape; keeps the input and the sums."""
        s = self.settings
        sums = np.asarray(s.offset, given.dtype) + np.asarray(s.factor, given.dtype) * self._across(given * given)
        out = given * sums ** np.asarray(-s.power, given.dtype)
        return out, (given, sums)

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Any, dict[str, Array]]:
        """G · sums^−power − 2 · factor · power · x · Σ over neighbours of g · x · sums^(−power−1)."""
        s, (given, sums) = self.settings, kept
        part = self._across(grad * given * sums ** np.asarray(-s.power - 1, given.dtype), mirrored=True)
        out = grad * sums ** np.asarray(-s.power, given.dtype)
        return out - np.asarray(2 * s.factor * s.power, given.dtype) * given * part, {}

    def _across(self, values: Array, mirrored: bool = False) -> Array:
        """Sums over the neighbours of each channel; mirrored, over those whose neighbour it is."""
        before = (self.settings.across - 1) // 2
        after = self.settings.across - 1 - before
        if mirrored:
            before, after = after, before
        channels = values.shape[-1]
        out = np.zeros_like(values)
        for shift in range(-before, after + 1):
            first, last = max(0, -shift), min(channels, channels - shift)
            if first < last:
                out[..., first:last] += values[..., first + shift : last + shift]
        return out
