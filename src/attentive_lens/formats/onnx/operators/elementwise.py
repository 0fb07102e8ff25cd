"""What is done to every value by itself, or to values of several arrays at the same place."""

from __future__ import annotations

from collections.abc import Callable
from functools import reduce

import numpy as np

from attentive_lens.engine.special import erf, expit
from attentive_lens.formats.onnx.operators.base import Node, Operator, Values

SELU = (1.6732632423543772, 1.0507009873554805)
"""Alpha and gamma of a self-normalising unit, where a node does not name them (Klambauer 2017)."""


def _like(values: object, x: Values) -> Values:
    """In the type of what came in."""
    return np.asarray(values).astype(x.dtype, copy=False)


def one(formula: Callable[..., object], **usual: float) -> Operator:
    """An operator of one input, with attributes and what the standard has for them."""

    def operator(node: Node, x: Values) -> Values:
        with np.errstate(all="ignore"):
            return _like(formula(x, *(np.asarray(node.get(name, value), x.dtype) for name, value in usual.items())), x)

    return operator


def two(formula: Callable[[Values, Values], object]) -> Operator:
    """An operator of two inputs, each repeated along axes of 1; before version 7 the second one stands at an axis."""

    def operator(node: Node, a: Values, b: Values) -> Values:
        if node.version < 7 and node.get("broadcast", 0) and b.ndim:
            axis = node.get("axis", a.ndim - b.ndim)
            b = b.reshape(b.shape + (1,) * (a.ndim - axis - b.ndim))
        with np.errstate(all="ignore"):
            return np.asarray(formula(a, b))

    return operator


def many(formula: Callable[[Values, Values], Values]) -> Operator:
    """An operator of one or more inputs, one after the other."""

    def operator(node: Node, *inputs: Values) -> Values:
        with np.errstate(all="ignore"):
            return np.asarray(reduce(formula, inputs))

    return operator


def divided(a: Values, b: Values) -> Values:
    """Whole numbers towards zero."""
    if np.issubdtype(a.dtype, np.integer):
        if not b.all():
            return np.zeros(np.broadcast_shapes(a.shape, b.shape), a.dtype)
        quotient = np.abs(a) // np.abs(b) if np.issubdtype(a.dtype, np.signedinteger) else a // b
        return np.asarray(quotient * np.sign(a) * np.sign(b)) if np.issubdtype(a.dtype, np.signedinteger) else quotient
    return np.asarray(a / b)


def raised(a: Values, b: Values) -> Values:
    """In the type of the base."""
    return np.asarray(np.power(a.astype(np.float64), b.astype(np.float64))).astype(a.dtype)


def clip(node: Node, x: Values, low: Values | None = None, high: Values | None = None) -> Values:
    """Limits are attributes before version 11, and inputs that may be left out since."""
    if node.version < 11:
        low, high = (np.asarray(node.get(name, usual), x.dtype) for name, usual in (("min", -np.inf), ("max", np.inf)))
    out = x if low is None else np.maximum(x, low)
    return _like(out if high is None else np.minimum(out, high), x)


def gelu(node: Node, x: Values) -> Values:
    """Exact, or by the hyperbolic tangent."""
    wide = x.astype(np.float64)
    if node.get("approximate", "none") == "tanh":
        return _like(0.5 * wide * (1 + np.tanh(np.sqrt(2 / np.pi) * (wide + 0.044715 * wide**3))), x)
    return _like(0.5 * wide * (1 + erf(wide / np.sqrt(2))), x)


def prelu(node: Node, x: Values, slope: Values) -> Values:
    """A slope for all, for each channel, or as the standard repeats it."""
    if node.version < 7 and slope.ndim == 1 and x.ndim > 2:
        slope = slope.reshape(-1, *(1,) * (x.ndim - 2))
    return _like(np.where(x < 0, x * slope, x), x)


def over_channels(formula: Callable[[Values, int], Values]) -> Operator:
    """Over an axis since version 13; before over all axes from one on, taken together."""

    def operator(node: Node, x: Values) -> Values:
        if node.version >= 13:
            return _like(formula(x, node.get("axis", -1)), x)
        axis = node.get("axis", 1) % max(1, x.ndim)
        flat = x.reshape(int(np.prod(x.shape[:axis], dtype=int)), -1)
        return _like(formula(flat, 1).reshape(x.shape), x)

    return operator


def _shares(x: Values, axis: int) -> Values:
    powers = np.exp(x - x.max(axis=axis, keepdims=True))
    return np.asarray(powers / powers.sum(axis=axis, keepdims=True))


def _log_shares(x: Values, axis: int) -> Values:
    """From the greatest, so that nothing overflows."""
    away = x - x.max(axis=axis, keepdims=True)
    return np.asarray(away - np.log(np.exp(away).sum(axis=axis, keepdims=True)))


def dropout(node: Node, x: Values, ratio: Values | None = None, training: Values | None = None) -> tuple[Values, ...]:
    """Nothing at inference, with a mask of what stays where it is asked for."""
    if training is not None and bool(training) and (ratio is None or float(ratio) > 0):
        raise node.refuse("it is asked to drop values, as in training", "Export the model for inference")
    return x, np.ones(x.shape, bool)


def _softplus(x: Values) -> Values:
    return np.asarray(np.logaddexp(x.astype(np.float64), 0))


ELEMENTWISE: dict[str, Operator] = {
    "Relu": one(lambda x: np.maximum(x, 0)),
    "LeakyRelu": one(lambda x, a: np.where(x < 0, x * a, x), alpha=0.01),
    "PRelu": prelu,
    "Elu": one(lambda x, a: np.where(x < 0, a * np.expm1(x), x), alpha=1.0),
    "Celu": one(lambda x, a: np.maximum(x, 0) + np.minimum(0, a * np.expm1(x / a)), alpha=1.0),
    "Selu": one(lambda x, a, g: g * np.where(x <= 0, a * np.expm1(x), x), alpha=SELU[0], gamma=SELU[1]),
    "ThresholdedRelu": one(lambda x, a: np.where(x > a, x, 0), alpha=1.0),
    "Sigmoid": one(expit),
    "HardSigmoid": one(lambda x, a, b: np.clip(x * a + b, 0, 1), alpha=0.2, beta=0.5),
    "HardSwish": one(lambda x: x * np.clip(x / 6 + 0.5, 0, 1)),
    "Swish": one(lambda x, a: x * expit(a * x), alpha=1.0),
    "Mish": one(lambda x: x * np.tanh(_softplus(x))),
    "Softplus": one(_softplus),
    "Softsign": one(lambda x: x / (1 + np.abs(x))),
    "Tanh": one(np.tanh),
    "Gelu": gelu,
    "Erf": one(erf),
    "Sqrt": one(np.sqrt),
    "Exp": one(np.exp),
    "Log": one(np.log),
    "Reciprocal": one(np.reciprocal),
    "Abs": one(np.abs),
    "Neg": one(np.negative),
    "Sign": one(np.sign),
    "Floor": one(np.floor),
    "Ceil": one(np.ceil),
    "Round": one(np.rint),
    "Identity": lambda node, x: x,
    "Dropout": dropout,
    "Clip": clip,
    "Softmax": over_channels(_shares),
    "LogSoftmax": over_channels(_log_shares),
    "Add": two(np.add),
    "Sub": two(np.subtract),
    "Mul": two(np.multiply),
    "Div": two(divided),
    "Pow": two(raised),
    "Equal": two(np.equal),
    "Sum": many(np.add),
    "Max": many(np.maximum),
    "Min": many(np.minimum),
    "Mean": lambda node, *inputs: np.asarray(reduce(np.add, inputs) / len(inputs)).astype(inputs[0].dtype),
    "Where": lambda node, condition, a, b: np.where(condition, a, b),
}
"""By the standard's names."""
