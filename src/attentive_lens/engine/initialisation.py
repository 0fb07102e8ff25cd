"""How new weights are drawn.

To add one: a function and a line in `INITIALISATIONS` here, its settings and a line in ``plan/initialisations``.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from attentive_lens.engine.arrays import Array, Dtype
from attentive_lens.plan.initialisations import Constant, Glorot, He, InitialisationSettings, Normal, Orthogonal

Shape = tuple[int, ...]


def constant(settings: Constant, shape: Shape, fan_in: int, fan_out: int, rng: np.random.Generator) -> Array:
    """All the same."""
    del fan_in, fan_out, rng
    return np.full(shape, settings.value)


def normal(settings: Normal, shape: Shape, fan_in: int, fan_out: int, rng: np.random.Generator) -> Array:
    """Normal, whatever the fan."""
    del fan_in, fan_out
    return rng.standard_normal(shape) * settings.std


def glorot(settings: Glorot, shape: Shape, fan_in: int, fan_out: int, rng: np.random.Generator) -> Array:
    """Even in ±√(6 / (fan-in + fan-out)) (Glorot & Bengio 2010, eq. 16)."""
    del settings
    bound = np.sqrt(6.0 / (fan_in + fan_out))
    return rng.uniform(-bound, bound, shape)


def he(settings: He, shape: Shape, fan_in: int, fan_out: int, rng: np.random.Generator) -> Array:
    """Normal, variance 2 / fan-in (He 2015, «Delving deep into rectifiers», eq. 10)."""
    del settings, fan_out
    return rng.standard_normal(shape) * np.sqrt(2.0 / fan_in)


def orthogonal(settings: Orthogonal, shape: Shape, fan_in: int, fan_out: int, rng: np.random.Generator) -> Array:
    """Rows or columns at right angles, of one length (Saxe 2014, section 3)."""
    del fan_in, fan_out
    tall, wide = int(np.prod(shape[:-1])), shape[-1]
    square, upper = np.linalg.qr(rng.standard_normal((max(tall, wide), min(tall, wide))))
    square = square * np.sign(np.diag(upper))
    return settings.gain * np.asarray(square if tall >= wide else square.T).reshape(shape)


# Any: each takes the settings of its own kind
INITIALISATIONS: dict[str, Callable[[Any, Shape, int, int, np.random.Generator], Array]] = {
    "he": he,
    "glorot": glorot,
    "orthogonal": orthogonal,
    "normal": normal,
    "constant": constant,
}


def initial_weights(
    settings: InitialisationSettings,
    shape: Shape,
    fan_in: int,
    fan_out: int,
    rng: np.random.Generator,
    dtype: Dtype,
) -> Array:
    """Weights of a shape whose last axis counts outputs, row by row in memory, as they come back from a file."""
    drawn = INITIALISATIONS[settings.kind](settings, shape, fan_in, fan_out, rng)
    return np.ascontiguousarray(drawn, dtype)
