"""How two sets of points lie to each other, say features of drawings and of real images."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Points = NDArray[np.floating]
NEIGHBOURS = 3
"""Neighbours by which a point's surroundings are told (Kynkäänniemi 2019, section 3)."""
BLOCK = 512
"""Points whose distances to all others are held at once."""


def frechet(points: Points, others: Points) -> float:
    """Fréchet distance of the normal distributions with the means and covariances of two sets (Heusel 2017, eq. 6).

    |m₁ − m₂|² + tr(C₁ + C₂ − 2 (C₁ C₂)^½). Of few points in many dimensions it is too great, so it is compared only
    with one of as many points.

    Parameters
    ----------
    points, others : ndarray, N×D and M×D
        Two or more each.

    Returns
    -------
    float
        0 or more, in squared units of the points.
    """
    first, second = points.astype(np.float64), others.astype(np.float64)
    gap = first.mean(axis=0) - second.mean(axis=0)
    one, other = (np.atleast_2d(np.cov(each, rowvar=False)) for each in (first, second))
    values, vectors = np.linalg.eigh(one)
    root = (vectors * np.sqrt(values.clip(0))) @ vectors.T
    product = np.linalg.eigvalsh(root @ other @ root)
    return max(0.0, float(gap @ gap + np.trace(one) + np.trace(other) - 2 * np.sqrt(product.clip(0)).sum()))


def nearest(points: Points, others: Points, count: int = 1) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Places among the others of each point's nearest ones, N×count, the nearest first, and their distances."""
    places, distances = [], []
    squares = (others.astype(np.float64) ** 2).sum(axis=1)
    for first in range(0, len(points), BLOCK):
        part = points[first : first + BLOCK].astype(np.float64)
        table = (part**2).sum(axis=1)[:, None] - 2 * part @ others.T.astype(np.float64) + squares
        least = min(count, table.shape[1])
        order = np.argpartition(table, least - 1, axis=1)[:, :least]
        values = np.take_along_axis(table, order, axis=1)
        order = np.take_along_axis(order, np.argsort(values, axis=1, kind="stable"), axis=1)
        places.append(order)
        distances.append(np.sqrt(np.take_along_axis(table, order, axis=1).clip(0)))
    return np.concatenate(places).astype(np.int64), np.concatenate(distances)


def covered(points: Points, by: Points, neighbours: int = NEIGHBOURS) -> float:
    """Part of some points that lie within the surroundings of another set (Kynkäänniemi 2019, eq. 1 and 2).

    Of drawings by real images it is their precision, of real images by drawings their recall. A point's surroundings
    reach as far as its own set's ``neighbours``-th nearest other point.
    """
    radii = nearest(by, by, neighbours + 1)[1][:, -1]  # the first is the point itself
    inside = []
    for first in range(0, len(points), BLOCK):
        part = points[first : first + BLOCK].astype(np.float64)
        gaps = ((part**2).sum(axis=1)[:, None] - 2 * part @ by.T.astype(np.float64)).astype(np.float64)
        gaps += (by.astype(np.float64) ** 2).sum(axis=1)
        inside.append((gaps <= radii**2 + 1e-12).any(axis=1))
    return float(np.concatenate(inside).mean())
