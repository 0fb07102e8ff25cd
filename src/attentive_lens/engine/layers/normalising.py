"""Batch, group and local response normalisation."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from attentive_lens.engine.arrays import Array, Dtype
from attentive_lens.engine.kernels.compiled import channel_products, channel_sums, normal_backward, normalise
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer
from attentive_lens.plan.initialisations import InitialisationSettings
from attentive_lens.plan.layers import BatchNormalisation, GroupNormalisation, LocalResponse, ScaleAndShift, Shape

LONG = 256
"""Values of a row that a compiled loop runs along, at least, where there are so many."""


@dataclass(frozen=True)
class Normal:
    """What a batch normalisation keeps.

    Attributes
    ----------
    values : ndarray, V×C
        Its input.
    mean, inverse : ndarray, C
        Mean, and one over the standard deviation, of the values' dtype.
    rest : ndarray, C float64
        What the mean lost by being rounded to that dtype; it matters where it is far larger than the deviation.
    batch : bool
        Whether they are the batch's, so that the gradient passes through them too.
    piece_sums, sums : ndarray, 3×C, or None
        Gradient sums of the piece and of the whole batch; None where the piece is the batch.
    """

    values: Array
    mean: Array
    inverse: Array
    rest: Array
    batch: bool
    piece_sums: Array | None = None
    sums: Array | None = None


def _wide(flat: Array) -> tuple[Array, int]:
    """Values V×C with several rows side by side, and how many: a compiled loop runs fast along a row that is long."""
    times = 1
    while flat.shape[1] * times < LONG and len(flat) % (2 * times) == 0:
        times *= 2
    return flat.reshape(-1, flat.shape[1] * times), times


def _folded(sums: Array, times: int, count: int) -> Array:
    """3×C: the count, and sums 2×(C·times) of rows side by side, added up."""
    whole = np.empty((3, sums.shape[1] // times))
    whole[0], whole[1:] = count, sums.reshape(2, times, -1).sum(axis=1)
    return whole


class BatchNormalisationLayer(Layer[BatchNormalisation, Array, Normal]):
    """scale · (x − mean) / √(variance + ε) + shift (Ioffe & Szegedy 2015, algorithm 1).

    In training, mean and variance are those of the whole batch, whatever pieces it is cut into, and move the running
    figures that inference uses; the running variance is the unbiased one. A frozen layer uses the running figures.
    """

    can_activate = True

    def start(
        self, input_shape: Shape, rng: np.random.Generator, dtype: Dtype, initialisation: InitialisationSettings
    ) -> dict[str, Array]:
        """Scale and variance 1, shift and mean 0; the scale drawn about 1 where the initialisation says so."""
        channels = input_shape[-1]
        about = getattr(initialisation, "scale_std", 0.0)
        scale = 1 + about * rng.standard_normal(channels) if about else np.ones(channels)
        return {
            "scale": scale.astype(dtype),
            "shift": np.zeros(channels, dtype),
            "mean": np.zeros(channels, dtype),
            "variance": np.ones(channels, dtype),
        }

    def sums(self, inputs: Array) -> Array:
        """3×C float64: count, sum and sum of squares of each channel."""
        flat = np.ascontiguousarray(inputs).reshape(-1, inputs.shape[-1])
        wide, times = _wide(flat)
        sums = np.zeros((2, wide.shape[1]))
        channel_sums(wide, sums)
        return _folded(sums, times, len(flat))

    def _statistics(self, weights: dict[str, Array], sums: Array | None) -> tuple[Array, Array, Array]:
        """Mean, one over the standard deviation, and what the mean lost by rounding."""
        if sums is None:
            mean, variance = weights["mean"].astype(np.float64), weights["variance"].astype(np.float64)
        else:
            mean = sums[1] / sums[0]
            variance = np.maximum(sums[2] / sums[0] - mean * mean, 0)
        dtype = weights["scale"].dtype
        rounded = mean.astype(dtype)
        return rounded, (1 / np.sqrt(variance + self.settings.epsilon)).astype(dtype), mean - rounded

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Normal]:
        """As given in shape; keeps the input with its figures, and whether they are the batch's."""
        inputs = np.ascontiguousarray(inputs)
        mean, inverse, rest = self._statistics(weights, call.sums)
        out = np.empty_like(inputs)
        factor = weights["scale"] * inverse
        channels = inputs.shape[-1]
        flat, to = inputs.reshape(-1, channels), out.reshape(-1, channels)
        # the mean is taken off first: values far from zero keep the digits in which they differ
        offset = (weights["shift"] - rest * factor).astype(out.dtype)
        wide, times = _wide(flat)
        mean_wide, factor_wide, offset_wide = (np.tile(values, times) for values in (mean, factor, offset))
        normalise(wide, mean_wide, factor_wide, offset_wide, call.activate, to.reshape(wide.shape))
        return out, Normal(flat, mean, inverse, rest, call.sums is not None)

    def scale_and_shift(self, weights: dict[str, Array]) -> tuple[Array, Array]:
        """By the running statistics."""
        variance = weights["variance"].astype(np.float64)
        factor = weights["scale"] / np.sqrt(variance + self.settings.epsilon)
        return factor, weights["shift"] - weights["mean"] * factor

    def gradient_sums(self, grad: Array, saved: Normal) -> Array:
        """3×C float64: count, sum of gradients, and of gradients times normalised values."""
        flat = np.ascontiguousarray(grad).reshape(saved.values.shape)
        wide, times = _wide(flat)
        parts = np.zeros((2, wide.shape[1]))
        mean, inverse = np.tile(saved.mean, times), np.tile(saved.inverse, times)
        channel_products(wide, saved.values.reshape(wide.shape), mean, inverse, parts)
        sums = _folded(parts, times, len(flat))
        sums[2] -= saved.rest * saved.inverse * sums[1]
        return sums

    def with_sums(self, saved: Normal, piece_sums: Array, sums: Array) -> Normal:
        """With the gradient sums of the piece and of the batch."""
        return replace(saved, piece_sums=piece_sums, sums=sums)

    def backward(
        self, grad: Array, saved: Normal, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Ioffe & Szegedy 2015, section 3; straight through where the running figures were used."""
        gradients: dict[str, Array] = {}
        factor = weights["scale"] * saved.inverse
        if not saved.batch and not need_weights:
            return (grad * factor if need_inputs else None), gradients
        piece_sums = saved.piece_sums if saved.piece_sums is not None else self.gradient_sums(grad, saved)
        if need_weights:
            gradients = {"scale": piece_sums[2].astype(grad.dtype), "shift": piece_sums[1].astype(grad.dtype)}
        if not need_inputs:
            return None, gradients
        if not saved.batch:
            return grad * factor, gradients
        sums = piece_sums if saved.sums is None else saved.sums
        # g − Σg/n − x̂ · Σ(g·x̂)/n, times scale / deviation, as one line in g and x
        along = factor * saved.inverse * (sums[2] / sums[0]).astype(grad.dtype)
        offset = (along * saved.rest - factor * (sums[1] / sums[0])).astype(grad.dtype)
        out = np.ascontiguousarray(grad)
        wide, times = _wide(saved.values)
        per_channel = (np.tile(values, times) for values in (saved.mean, factor, -along, offset))
        normal_backward(out.reshape(wide.shape), wide, *per_channel)
        return out, gradients

    def state(self, weights: dict[str, Array], sums: Array) -> dict[str, Array]:
        """The running mean and variance, moved towards those of the batch."""
        count, momentum = float(sums[0, 0]), self.settings.momentum
        mean = sums[1] / count
        variance = np.maximum(sums[2] / count - mean * mean, 0) * count / max(1.0, count - 1)
        dtype = weights["mean"].dtype
        return {
            "mean": (momentum * weights["mean"] + (1 - momentum) * mean).astype(dtype),
            "variance": (momentum * weights["variance"] + (1 - momentum) * variance).astype(dtype),
        }


class GroupNormalisationLayer(Layer[GroupNormalisation, Array, tuple[Array, Array]]):
    """As batch normalisation, over groups of channels of each image (Wu & He 2018, eq. 1–2, 7)."""

    def start(
        self, input_shape: Shape, rng: np.random.Generator, dtype: Dtype, initialisation: InitialisationSettings
    ) -> dict[str, Array]:
        """Scale 1, shift 0."""
        return {"scale": np.ones(input_shape[2], dtype), "shift": np.zeros(input_shape[2], dtype)}

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, tuple[Array, Array]]:
        """As given in shape; keeps the normalised values."""
        n, rows, columns, channels = inputs.shape
        parts = inputs.reshape(n, rows * columns, self.settings.groups, channels // self.settings.groups)
        mean = parts.mean(axis=(1, 3), keepdims=True)
        normal = parts - mean
        inverse = 1 / np.sqrt((normal * normal).mean(axis=(1, 3), keepdims=True) + self.settings.epsilon)
        normal = (normal * inverse).astype(inputs.dtype, copy=False)
        out = normal.reshape(inputs.shape) * weights["scale"] + weights["shift"]
        return out, (normal, inverse)

    def backward(
        self, grad: Array, saved: tuple[Array, Array], weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Less its mean and its part along the normalised values, group by group."""
        normal, inverse = saved
        gradients: dict[str, Array] = {}
        if need_weights:
            times = (grad * normal.reshape(grad.shape)).sum(axis=(0, 1, 2))
            gradients = {"scale": times, "shift": grad.sum(axis=(0, 1, 2))}
        if not need_inputs:
            return None, gradients
        part = (grad * weights["scale"]).reshape(normal.shape)
        along = (part * normal).mean(axis=(1, 3), keepdims=True)
        out = (part - part.mean(axis=(1, 3), keepdims=True) - normal * along) * inverse
        return out.reshape(grad.shape).astype(grad.dtype, copy=False), gradients


class LocalResponseLayer(Layer[LocalResponse, Array, tuple[Array, Array]]):
    """x / (k + α · Σ x² over neighbour channels)^β (Krizhevsky 2012, section 3.3)."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, tuple[Array, Array]]:
        """As given in shape; keeps the input and the sums."""
        s = self.settings
        sums = np.asarray(s.k, inputs.dtype) + np.asarray(s.alpha, inputs.dtype) * self._across(inputs * inputs)
        out = inputs * sums ** np.asarray(-s.beta, inputs.dtype)
        return out, (inputs, sums)

    def backward(
        self, grad: Array, saved: tuple[Array, Array], weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """G · sums^−β − 2αβ · x · Σ over neighbours of g · x · sums^(−β−1)."""
        s, (inputs, sums) = self.settings, saved
        part = self._across(grad * inputs * sums ** np.asarray(-s.beta - 1, inputs.dtype), mirrored=True)
        out = grad * sums ** np.asarray(-s.beta, inputs.dtype)
        return out - np.asarray(2 * s.alpha * s.beta, inputs.dtype) * inputs * part, {}

    def _across(self, values: Array, mirrored: bool = False) -> Array:
        """Sums over the neighbours of each channel; mirrored, over those whose neighbour it is."""
        before = (self.settings.size - 1) // 2
        after = self.settings.size - 1 - before
        if mirrored:
            before, after = after, before
        channels = values.shape[-1]
        out = np.zeros_like(values)
        for shift in range(-before, after + 1):
            first, last = max(0, -shift), min(channels, channels - shift)
            if first < last:
                out[..., first:last] += values[..., first + shift : last + shift]
        return out


class ScaleAndShiftLayer(Layer[ScaleAndShift, Array, Array]):
    """scale · x + shift, channel by channel."""

    def start(
        self, input_shape: Shape, rng: np.random.Generator, dtype: Dtype, initialisation: InitialisationSettings
    ) -> dict[str, Array]:
        """Scale 1, shift 0."""
        return {"scale": np.ones(input_shape[-1], dtype), "shift": np.zeros(input_shape[-1], dtype)}

    def scale_and_shift(self, weights: dict[str, Array]) -> tuple[Array, Array]:
        """Its weights."""
        return weights["scale"].astype(np.float64), weights["shift"].astype(np.float64)

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Array]:
        """As given in shape; keeps the input."""
        return inputs * weights["scale"] + weights["shift"], inputs

    def backward(
        self, grad: Array, saved: Array, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Σ G·x, Σ G, and G times the scale."""
        gradients: dict[str, Array] = {}
        if need_weights:
            flat = grad.reshape(-1, grad.shape[-1])
            times = flat * saved.reshape(flat.shape)
            gradients = {"scale": times.sum(axis=0), "shift": flat.sum(axis=0)}
        return (grad * weights["scale"] if need_inputs else None), gradients


NORMALISATIONS: dict[str, type[AnyLayer]] = {
    "batch normalisation": BatchNormalisationLayer,
    "group normalisation": GroupNormalisationLayer,
    "local response normalisation": LocalResponseLayer,
    "scale and shift": ScaleAndShiftLayer,
}
