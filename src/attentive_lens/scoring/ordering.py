"""Orders in which the classes of a confusion matrix may stand, so that what belongs together is seen together."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

ORDERS = ("as they are", "by name", "by size", "similar together", "most confused first")
DENSE = 400
"""Classes up to which the order is found by eigenvectors of the whole matrix."""


def ordered(counts: NDArray[np.int64], names: tuple[str, ...], order: str) -> NDArray[np.int64]:
    """Class numbers in one of `ORDERS`, K int64.

    «Similar together» is a seriation by the second eigenvector of the normalised graph Laplacian of how often two
    classes are taken for each other (Atkins, Boman & Hendrickson 1998); classes never confused stand at the end.

    Parameters
    ----------
    counts : ndarray, K×K int64
        Row true, column said.
    names : tuple of str
        Of the classes.
    order : str
        One of `ORDERS`.

    Raises
    ------
    ValueError
        If it is none of these.
    """
    count = len(names)
    if order == "as they are":
        return np.arange(count)
    if order == "by name":
        return np.array(sorted(range(count), key=lambda k: (names[k].lower(), k)), np.int64)
    if order == "by size":
        return np.argsort(-counts.sum(axis=1), kind="stable")
    wrong = counts - np.diag(counts.diagonal())
    if order == "most confused first":
        return np.argsort(-(wrong.sum(axis=0) + wrong.sum(axis=1)), kind="stable")
    if order == "similar together":
        return _seriation((wrong + wrong.T).astype(np.float64))
    raise ValueError(f"no such order: {order}")


def _seriation(likeness: NDArray[np.float64]) -> NDArray[np.int64]:
    """Rows of a symmetric table of likeness, like ones near each other, connected parts by themselves."""
    parts = _connected(likeness > 0)
    placed: list[int] = []
    for members in parts:
        if len(members) < 3:
            placed += members
            continue
        inner = likeness[np.ix_(members, members)]
        scale = 1 / np.sqrt(inner.sum(axis=1))
        second = _second(scale[:, None] * inner * scale)
        order = np.argsort(second * scale, kind="stable")
        if order[0] > order[-1]:
            order = order[::-1]  # the sign of an eigenvector means nothing: the earlier class first
        placed += [members[k] for k in order]
    return np.array(placed, np.int64)


def _second(matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    """The eigenvector of the second greatest eigenvalue of a symmetric matrix whose greatest is 1."""
    if len(matrix) <= DENSE:
        return np.asarray(np.linalg.eigh(matrix)[1][:, -2])
    from scipy.sparse.linalg import eigsh  # only here: it takes half a second to import

    values, vectors = eigsh(matrix, 2, which="LA", v0=np.ones(len(matrix)))
    return np.asarray(vectors[:, int(values.argmin())])


def _connected(near: NDArray[np.bool_]) -> list[list[int]]:
    """Parts in which each row is reached from each other, the largest first, then by their first row."""
    left, parts = set(range(len(near))), []
    while left:
        front = [min(left)]
        part = set(front)
        while front:
            reached = set(np.flatnonzero(near[front.pop()]).tolist()) - part
            part |= reached
            front += reached
        left -= part
        parts.append(sorted(part))
    return sorted(parts, key=lambda part: (-len(part), part[0]))
