"""Matrix products, normalisations and figures over axes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from attentive_lens.formats.onnx.operators.base import Node, Operator, Values, axes_of


def gemm(node: Node, a: Values, b: Values, c: Values | None = None) -> Values:
    """Alpha · a · b + beta · c, the matrices turned if so wanted."""
    a, b = (x.T if node.get(name, 0) else x for x, name in ((a, "transA"), (b, "transB")))
    out = np.asarray(node.get("alpha", 1.0), a.dtype) * (a @ b)
    return np.asarray(out if c is None else out + np.asarray(node.get("beta", 1.0), a.dtype) * c)


def matmul(node: Node, a: Values, b: Values) -> Values:
    """Of matrices, and of stacks of them."""
    if a.ndim and b.ndim:
        node.check_size([*np.broadcast_shapes(a.shape[:-2], b.shape[:-2]), *a.shape[-2:-1], *b.shape[-1:]])
    return np.asarray(a @ b)


def _by_channel(values: Values, x: Values) -> Values:
    """One value a channel, repeated over rows and columns."""
    return values.reshape(-1, *(1,) * (x.ndim - 2)) if x.ndim > 1 else values


def batch_normalisation(node: Node, x: Values, *arrays: Values) -> Values:
    """By the running figures; scale, shift, mean and variance, one a channel."""
    if node.get("training_mode", 0) or (node.version < 7 and not node.get("is_test", 0)):
        raise node.refuse("it reckons with the batch's figures, as in training", "Export the model for inference")
    scale, shift, mean, variance = (_by_channel(each, x) for each in arrays)
    epsilon = np.asarray(node.get("epsilon", 1e-5), x.dtype)
    return np.asarray((x - mean) / np.sqrt(variance + epsilon) * scale + shift).astype(x.dtype)


def _normalised(x: Values, axes: tuple[int, ...], epsilon: float) -> Values:
    mean = x.mean(axis=axes, keepdims=True)
    variance = ((x - mean) ** 2).mean(axis=axes, keepdims=True)
    return np.asarray((x - mean) / np.sqrt(variance + epsilon)).astype(x.dtype)


def instance_normalisation(node: Node, x: Values, scale: Values, shift: Values) -> Values:
    """Every map by its own figures."""
    normal = _normalised(x, tuple(range(2, x.ndim)), node.get("epsilon", 1e-5))
    return normal * _by_channel(scale, x) + _by_channel(shift, x)


def group_normalisation(node: Node, x: Values, scale: Values, shift: Values) -> Values:
    """Groups of channels of each image; scale and shift are one a channel since version 21, one a group before."""
    groups = node.get("num_groups", 1)
    if groups < 1 or x.shape[1] % groups:
        raise node.refuse(f"{x.shape[1]} channels cannot be put into {groups} groups")
    parts = x.reshape(len(x), groups, -1)
    normal = _normalised(parts, (2,), node.get("epsilon", 1e-5)).reshape(x.shape)
    if node.version < 21:
        scale, shift = (np.repeat(each, x.shape[1] // groups) for each in (scale, shift))
    return normal * _by_channel(scale, x) + _by_channel(shift, x)


def local_response(node: Node, x: Values) -> Values:
    """X / (bias + alpha / size · Σ x² over neighbour channels)^beta."""
    size, squares = node.get("size", 1), x * x
    before = (size - 1) // 2
    total = np.zeros_like(squares)
    for shift in range(-before, size - before):
        first, last = max(0, -shift), min(x.shape[1], x.shape[1] - shift)
        if first < last:
            total[:, first:last] += squares[:, first + shift : last + shift]
    factor = node.get("bias", 1.0) + node.get("alpha", 1e-4) / size * total
    return np.asarray(x / factor ** node.get("beta", 0.75)).astype(x.dtype)


def reduced(figure: Callable[..., Any]) -> Operator:
    """A figure over axes, all where none are named; attributes in older versions, an input in newer ones."""

    def operator(node: Node, x: Values, axes: Values | None = None) -> Values:
        named = node.get("axes") if axes is None else axes
        if named is None or not len(named):
            if node.get("noop_with_empty_axes", 0):
                return x
            named = range(x.ndim)
        return np.asarray(figure(x, axis=axes_of(named, x.ndim, node), keepdims=bool(node.get("keepdims", 1)))).astype(
            x.dtype
        )

    return operator


def _greatest(x: Values, axis: tuple[int, ...], keepdims: bool) -> object:
    return np.max(x, axis, keepdims=keepdims, initial=_end(x, -1))


def _least(x: Values, axis: tuple[int, ...], keepdims: bool) -> object:
    return np.min(x, axis, keepdims=keepdims, initial=_end(x, 1))


def _end(x: Values, side: int) -> Any:
    """What every number is at most, or at least."""
    if x.dtype.kind == "b":
        return side > 0
    if x.dtype.kind == "f":
        return side * np.inf
    limits = np.iinfo(x.dtype)
    return limits.max if side > 0 else limits.min


RECKONING: dict[str, Operator] = {
    "Gemm": gemm,
    "MatMul": matmul,
    "BatchNormalization": batch_normalisation,
    "InstanceNormalization": instance_normalisation,
    "GroupNormalization": group_normalisation,
    "LRN": local_response,
    "ReduceMean": reduced(np.mean),
    "ReduceSum": reduced(np.sum),
    "ReduceMax": reduced(_greatest),
    "ReduceMin": reduced(_least),
}
"""By the standard's names."""
