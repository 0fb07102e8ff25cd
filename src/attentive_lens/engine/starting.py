"""Starting weights."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from attentive_lens.engine.arrays import Array


def constant(shape: tuple[int, ...], fan_in: int, fan_out: int, random: np.random.Generator) -> Array:
    """All 0.01: only for looking at what symmetry does, for all filters then learn the same."""
    del fan_in, fan_out, random
    return np.full(shape, 0.01)


def normal(shape: tuple[int, ...], fan_in: int, fan_out: int, random: np.random.Generator) -> Array:
    """Normal, deviation 0.01, whatever the fan."""
    del fan_in, fan_out
    return random.standard_normal(shape) * 0.01


def glorot(shape: tuple[int, ...], fan_in: int, fan_out: int, random: np.random.Generator) -> Array:
    """Even in ±√(6 / (fan-in + fan-out)) (Glorot & Bengio 2010, eq. 16)."""
    bound = np.sqrt(6.0 / (fan_in + fan_out))
    return random.uniform(-bound, bound, shape)


def he(shape: tuple[int, ...], fan_in: int, fan_out: int, random: np.random.Generator) -> Array:
    """Normal, variance 2 / fan-in (He 2015, «Delving deep into rectifiers», eq. 10)."""
    del fan_out
    return random.standard_normal(shape) * np.sqrt(2.0 / fan_in)


def orthogonal(shape: tuple[int, ...], fan_in: int, fan_out: int, random: np.random.Generator) -> Array:
    """Rows or columns at right angles and of length √2 (Saxe 2014, section 3; the gain for ReLU)."""
    del fan_in, fan_out
    tall, wide = int(np.prod(shape[:-1])), shape[-1]
    square, upper = np.linalg.qr(random.standard_normal((max(tall, wide), min(tall, wide))))
    square = square * np.sign(np.diag(upper))
    return np.sqrt(2.0) * np.asarray(square if tall >= wide else square.T).reshape(shape)


STARTS: dict[str, Callable[[tuple[int, ...], int, int, np.random.Generator], Array]] = {
    "he": he,
    "glorot": glorot,
    "orthogonal": orthogonal,
    "normal": normal,
    "constant": constant,
}


def started(
    how: str, shape: tuple[int, ...], fan_in: int, fan_out: int, random: np.random.Generator, dtype: np.dtype[Any]
) -> Array:
    """Weights of a shape whose last axis counts outputs."""
    return STARTS[how](shape, fan_in, fan_out, random).astype(dtype)
