"""Working buffers that are allocated once per thread and used again."""

from __future__ import annotations

import threading

import numpy as np

from attentive_lens.engine.arrays import Array, Dtype

_own = threading.local()


def scratch(name: str, shape: tuple[int, ...], dtype: Dtype) -> Array:
    """A buffer of this thread's, its contents undefined; the next call with the same name may return it.

    It grows to the largest size asked for, so that a steady training step allocates nothing large.
    """
    buffers: dict[tuple[str, str], Array] | None = getattr(_own, "buffers", None)
    if buffers is None:
        buffers = _own.buffers = {}
    size = 1
    for n in shape:
        size *= n
    key = (name, dtype.char)
    buffer = buffers.get(key)
    if buffer is None or buffer.size < size:
        buffer = buffers[key] = np.empty(size, dtype)
    return buffer[:size].reshape(shape)
