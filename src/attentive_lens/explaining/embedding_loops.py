"""The compiled loops of t-SNE: the pull of near images and the push of all, compiled once and kept on disk."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

LOOSE = {"contract", "reassoc", "nsz"}
"""Sums may be taken in the order that suits the processor: the same order on one machine every time."""


@njit(cache=True, nogil=True, error_model="numpy", fastmath=LOOSE)
def pull(
    across: NDArray[np.float32],
    down: NDArray[np.float32],
    starts: NDArray[np.int32],
    others: NDArray[np.int32],
    shares: NDArray[np.float32],
    first: int,
    last: int,
    out: NDArray[np.float32],
) -> None:
    """Write the rows ``first`` to ``last`` of Σ p·q·(y − y′) to ``out`` N×2; p a sparse row of ``shares`` each."""
    one = np.float32(1)
    for i in range(first, last):
        right, up = np.float32(0), np.float32(0)
        for k in range(starts[i], starts[i + 1]):
            dx, dy = across[i] - across[others[k]], down[i] - down[others[k]]
            weight = shares[k] / (one + dx * dx + dy * dy)
            right += weight * dx
            up += weight * dy
        out[i, 0], out[i, 1] = right, up


@njit(cache=True, nogil=True, error_model="numpy", fastmath=LOOSE)
def push(
    across: NDArray[np.float32], down: NDArray[np.float32], first: int, last: int, out: NDArray[np.float32]
) -> float:
    """Write the rows ``first`` to ``last`` of Σ q²·(y − y′) to ``out`` N×2; returns the sum of their q."""
    one, total = np.float32(1), 0.0
    for i in range(first, last):
        x, y = across[i], down[i]
        near_sum, right, up = np.float32(0), np.float32(0), np.float32(0)
        for j in range(len(across)):
            dx, dy = x - across[j], y - down[j]
            near = one / (one + dx * dx + dy * dy)
            square = near * near
            near_sum += near
            right += square * dx
            up += square * dy
        out[i, 0], out[i, 1] = right, up
        total += float(near_sum - one)
    return total
