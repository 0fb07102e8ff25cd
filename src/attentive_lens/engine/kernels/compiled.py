"""Loops that NumPy would need several passes for, compiled once and kept on disk; they free the interpreter."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array


@njit(cache=True, nogil=True)
def pool_forward(images: Array, window: int, stride: int, out: Array, place: NDArray[np.uint16]) -> None:
    """Write the greatest value of every window to ``out`` and its place in the window (row·side + column)."""
    n, rows, columns, channels = out.shape
    for i in range(n):
        for r in range(rows):
            for c in range(columns):
                y, x = r * stride, c * stride
                for f in range(channels):
                    out[i, r, c, f] = images[i, y, x, f]
                    place[i, r, c, f] = 0
                for k in range(1, window * window):
                    dy, dx = k // window, k % window
                    for f in range(channels):
                        value = images[i, y + dy, x + dx, f]
                        if value > out[i, r, c, f]:
                            out[i, r, c, f] = value
                            place[i, r, c, f] = k


@njit(cache=True, nogil=True)
def pool_backward(grad: Array, place: NDArray[np.uint16], window: int, stride: int, out: Array) -> None:
    """Add every window's gradient to the pixel that was its greatest; ``out`` starts as zeros."""
    n, rows, columns, channels = grad.shape
    for i in range(n):
        for r in range(rows):
            for c in range(columns):
                for f in range(channels):
                    k = place[i, r, c, f]
                    out[i, r * stride + k // window, c * stride + k % window, f] += grad[i, r, c, f]


@njit(cache=True, nogil=True)
def relu_backward(grad: Array, out: Array) -> None:
    """Stop, in place, the gradient where the output was zero; both are flat."""
    for i in range(grad.size):
        if not out[i] > 0:
            grad[i] = 0
