"""How much of the classes stands in some features: the accuracy of a linear classifier on them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import breathe
from attentive_lens.engine.arrays import Array

CELLS = 4
"""Rows and columns to which feature maps are brought."""
PENALTIES = (1e-3, 1e-2, 1e-1, 1.0, 10.0)
"""Ridge penalties of which the best is taken, by leaving one out."""


def pooled(outputs: Array, cells: int = CELLS) -> Array:
    """Feature maps N×H×W×C averaged over at most cells×cells places, as rows N×D; rows of values as they are."""
    if outputs.ndim != 4:
        return outputs.reshape(len(outputs), -1)
    count, height, width, _ = outputs.shape
    rows, columns = (np.linspace(0, side, min(cells, side) + 1).astype(int) for side in (height, width))
    sums = np.add.reduceat(np.add.reduceat(outputs, rows[:-1], axis=1), columns[:-1], axis=2)
    areas = np.diff(rows)[:, None] * np.diff(columns)
    return (sums / areas[None, :, :, None]).reshape(count, -1)


def linear_probe(
    features: Array,
    labels: NDArray[np.int64],
    queries: Array,
    truth: NDArray[np.int64],
    classes: int,
) -> float:
    """Accuracy on other images of a linear classifier of some features, 0–1.

    Ridge regression on the classes, its penalty chosen by leaving one out in closed form (Hoerl & Kennard 1970; linear
    probes of a network's layers: Alain & Bengio 2016).

    Parameters
    ----------
    features : ndarray, N×D
        To learn from.
    labels : ndarray, N int64
        Their classes.
    queries : ndarray, M×D
        To be judged by; if there are none the accuracy is that of leaving one out.
    truth : ndarray, M int64
        Their classes.
    classes : int
        K.
    """
    mean, std = features.mean(axis=0, dtype=np.float64), features.std(axis=0, dtype=np.float64) + 1e-6
    scale = std * np.sqrt(features.shape[1])
    known, others = ((rows - mean) / scale for rows in (features, queries))
    targets = np.eye(classes)[labels] - 1 / classes
    gram = known @ known.T
    best: tuple[float, NDArray[np.float64]] | None = None
    for penalty in PENALTIES:
        breathe()
        inverse = _inverse(gram + penalty * np.eye(len(gram)))
        weights = inverse @ targets
        left_out = targets - weights / np.diag(inverse)[:, None]
        accuracy = float((left_out.argmax(axis=1) == labels).mean())
        if best is None or accuracy > best[0]:
            best = (accuracy, weights)
    if best is None or not len(queries):
        return best[0] if best is not None else 0.0
    return float(((others @ known.T @ best[1]).argmax(axis=1) == truth).mean())


def _inverse(matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    """Of a symmetric positive definite matrix, by its Cholesky factor: a third of the work of any other's."""
    from scipy.linalg.lapack import dpotrf, dpotri  # only here: it takes half a second to import

    factor, _ = dpotrf(matrix, lower=1)
    breathe()
    lower, _ = dpotri(factor, lower=1)
    triangle = np.tril(lower)
    return np.asarray(triangle + np.tril(triangle, -1).T)
