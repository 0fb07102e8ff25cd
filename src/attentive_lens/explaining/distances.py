"""Arithmetic between all rows of a table, a few rows at a time: whoever does it breathes, and needs little memory."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import breathe
from attentive_lens.engine.arrays import Array

VALUES = 1 << 18
"""Values in a block, about: a few milliseconds of arithmetic."""
DENSE = 256
"""Rows up to which a matrix is taken apart whole."""


def row_blocks(rows: int, columns: int) -> Iterator[slice]:
    """Slices that cover so many rows, a block of each being about `VALUES` values; breathes before each."""
    step = max(1, VALUES // max(1, columns))
    for first in range(0, rows, step):
        breathe()
        yield slice(first, min(rows, first + step))


def squared_distances(points: Array, others: Array) -> Array:
    """Of points N×D from others M×D, Euclidean, N×M: as |a|² + |b|² − 2ab, no less than 0."""
    squares, other_squares = (np.einsum("ij,ij->i", rows, rows) for rows in (points, others))
    return np.asarray(np.maximum(squares[:, None] + other_squares - 2 * (points @ others.T), 0))


def squeezed(outputs: Array, most: int) -> Array:
    """A layer's outputs as rows N×D of at most about so many values: feature maps N×H×W×C averaged over squares."""
    if outputs.ndim == 4:
        rows, columns, channels = outputs.shape[1:]
        side = max(1, int((most / channels) ** 0.5))
        for axis, length in ((1, rows), (2, columns)):
            if length > side:
                edges = np.linspace(0, length, side + 1).astype(np.int64)
                sizes = np.diff(edges).astype(outputs.dtype)
                shape = [1, 1, 1, 1]
                shape[axis] = side
                outputs = np.add.reduceat(outputs, edges[:-1], axis=axis) / sizes.reshape(shape)
    return np.asarray(outputs.reshape(len(outputs), -1))


def principal(features: Array, dimensions: int = 2) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Principal components: places N×dimensions, and the part of the variance each explains (Pearson 1901).

    The sign of each is chosen so that its longest entry is positive.
    """
    mean = features.mean(axis=0, dtype=np.float64)
    count, side = features.shape
    around = np.empty((count, side), np.float64)
    for rows in row_blocks(count, side):
        around[rows] = features[rows] - mean
    if min(count, side) <= max(DENSE, dimensions):
        smaller = around if count >= side else around.T
        values, vectors = np.linalg.eigh(smaller.T @ smaller)
        sizes = np.sqrt(np.maximum(values[::-1][:dimensions], 0))
        leading = vectors[:, ::-1][:, :dimensions]
        right = leading if smaller is around else around.T @ leading / np.maximum(sizes, 1e-300)
    else:
        sizes, right = _leading(around, dimensions)
    longest = np.take_along_axis(right, np.abs(right).argmax(axis=0)[None], axis=0)[0]
    places = around @ right * np.sign(longest)
    missing = dimensions - places.shape[1]  # where there are fewer images, or values of each
    places, sizes = np.pad(places, ((0, 0), (0, missing))), np.pad(sizes, (0, missing))
    total = max(float(np.einsum("ij,ij->", around, around)), 1e-300)
    return places, sizes**2 / total


def _leading(table: NDArray[np.float64], count: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The greatest singular values of a table N×D and their right vectors D×count, without taking it apart whole."""
    from scipy.sparse.linalg import LinearOperator, eigsh  # only here: it takes half a second to import

    def product(vector: NDArray[np.float64]) -> NDArray[np.float64]:
        breathe()
        return np.asarray(table.T @ (table @ vector))

    side = table.shape[1]
    values, vectors = eigsh(LinearOperator((side, side), product, dtype=np.float64), count, v0=np.ones(side))
    order = np.argsort(-values)
    return np.sqrt(np.maximum(values[order], 0)), vectors[:, order]


def leading_eigenvectors(matrix: NDArray[np.float64], count: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The greatest eigenvalues of a symmetric matrix N×N, falling, and their vectors N×count."""
    from scipy.sparse.linalg import LinearOperator, eigsh  # only here: it takes half a second to import

    side = len(matrix)
    if side <= DENSE or count >= side:
        values, vectors = np.linalg.eigh(matrix)
        return values[::-1][:count], vectors[:, ::-1][:, :count]

    def product(vector: NDArray[np.float64]) -> NDArray[np.float64]:
        breathe()
        return np.asarray(matrix @ vector)

    operator = LinearOperator((side, side), product, dtype=np.float64)
    values, vectors = eigsh(operator, count, which="LA", v0=np.ones(side))
    order = np.argsort(-values)
    return values[order], vectors[:, order]
