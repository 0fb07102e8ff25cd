"""The maps of mistakes put into groups, each with the place it rests on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter

from attentive_lens.core.jobs import paced
from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.distances import leading_eigenvectors, row_blocks, squared_distances

CELLS = 16
"""Rows and columns to which maps are brought before they are compared."""
MOST = 8
"""Groups, at most."""
NEAR = 10
"""Neighbours that count as near."""
ENOUGH = 0.25
"""Part of a group's members that must rest on its place for the others to be set apart."""


@dataclass(frozen=True)
class Group:
    """Mistakes with like maps.

    Attributes
    ----------
    members : ndarray, int64
        Rows of the maps given, the most typical first.
    typical : ndarray, 16×16 float32
        Mean map, summing to 1.
    row, column : float
        Where the typical map is strongest, parts of the side, 0–1.
    focus : float
        Part of the members' strength within a disc of an eighth of the side about that place, 0–1.
    gathered : float
        Part of the members whose own strongest place lies in that disc, 0–1.
    """

    members: NDArray[np.int64]
    typical: NDArray[np.float32]
    row: float
    column: float
    focus: float
    gathered: float

    @property
    def at_one_place(self) -> bool:
        """Whether its members rest on the same place away from the middle, as on a mark: on the image's frame, not on
        what it shows.
        """
        return self.aside and self.focus >= 0.2 and self.gathered >= 0.8

    @property
    def aside(self) -> bool:
        """Whether its place is away from the middle."""
        return max(abs(self.row - 0.5), abs(self.column - 0.5)) >= 0.3


def grouped(maps: NDArray[np.float32], features: Array, seed: int = 0) -> list[Group]:
    """Groups of the maps N×H×W and features N×D of N mistakes, the largest first.

    Maps are brought to 16×16 cells of strength that sum to 1; two mistakes are near where both maps and features are
    (the product of two Gaussian kernels, each of the width of the tenth-nearest neighbour). Groups by the normalised
    graph's leading eigenvectors (Ng 2001, as Lapuschkin 2019, «Unmasking Clever Hans predictors», applies it to maps);
    their number is where the eigenvalues fall off most.
    """
    from scipy.cluster.vq import kmeans2  # only here: it takes half a second to import

    count = len(maps)
    if not count:
        return []
    cells = np.stack([in_cells(map_) for map_ in paced(maps, 32)])
    if count < 4:
        return [_group(cells, np.arange(count))]
    near = _kernel(np.sqrt(cells.reshape(count, -1))) * np.sqrt(_kernel(np.asarray(features, np.float64)))
    np.fill_diagonal(near, 0)
    degree = 1 / np.sqrt(near.sum(axis=1) + 1e-12)
    most = min(MOST, count // 2)
    values, vectors = leading_eigenvectors(degree[:, None] * near * degree, most + 1)
    falls = values[:-1] - values[1:]
    group_count = int(falls[1:].argmax()) + 2 if most > 2 else 2
    rows = vectors[:, :group_count]
    rows = rows / np.maximum(np.linalg.norm(rows, axis=1, keepdims=True), 1e-12)
    _, labels = kmeans2(rows, group_count, minit="++", seed=random_generator(seed, "causes"), iter=50)
    groups = [
        part
        for k in range(group_count)
        if (labels == k).any()
        for part in _split_by_place(cells, np.flatnonzero(labels == k))
    ]
    return sorted(_joined(cells, groups), key=lambda group: -len(group.members))


def _joined(cells: NDArray[np.float64], groups: list[Group]) -> list[Group]:
    """Groups that rest on one and the same place made one."""
    joined: list[Group] = []
    for group in groups:
        like = next(
            (k for k, other in enumerate(joined) if other.at_one_place and group.at_one_place and _near(other, group)),
            None,
        )
        if like is None:
            joined.append(group)
        else:
            joined[like] = _group(cells, np.concatenate([joined[like].members, group.members]))
    return joined


def _near(one: Group, other: Group) -> bool:
    return bool(np.hypot(one.row - other.row, one.column - other.column) <= 1 / 8)


def _split_by_place(cells: NDArray[np.float64], members: NDArray[np.int64]) -> list[Group]:
    """The group; where most of its members rest on one place aside, without those that do not, which form their own."""
    whole = _group(cells, members)
    if not whole.aside or whole.gathered < ENOUGH or whole.gathered == 1:
        return [whole]
    there = _peaks_near(cells[members], whole.row, whole.column)
    return [_group(cells, members[there]), _group(cells, members[~there])]


def in_cells(map_: NDArray[np.float32]) -> NDArray[np.float64]:
    """What speaks for the answer in 16×16 cells, summing to 1; even where nothing does."""
    strength = np.maximum(uniform_filter(np.maximum(np.asarray(map_, np.float64), 0), 3), 0)  # its sums may round below
    rows, columns = (np.arange(side) * CELLS // side for side in strength.shape)
    cells = np.zeros((CELLS, CELLS))
    np.add.at(cells, (rows[:, None], columns[None, :]), strength)
    total = cells.sum()
    return cells / total if total > 0 else np.full((CELLS, CELLS), 1 / CELLS**2)


def _kernel(points: Array) -> NDArray[np.float64]:
    count = len(points)
    gaps = np.empty((count, count))
    widths = np.empty(count)
    for rows in row_blocks(count, count):
        gaps[rows] = squared_distances(points[rows], points)
        widths[rows] = np.partition(gaps[rows], min(NEAR, count - 1), axis=1)[:, min(NEAR, count - 1)]
    for rows in row_blocks(count, count):
        gaps[rows] = np.exp(-gaps[rows] / (np.sqrt(np.outer(widths[rows], widths)) + 1e-12))
    return gaps


def _group(cells: NDArray[np.float64], members: NDArray[np.int64]) -> Group:
    member_cells = cells[members]
    typical = member_cells.mean(axis=0)
    row, column = (int(k) for k in np.unravel_index(int(uniform_filter(typical, 3).argmax()), typical.shape))
    middle = ((row + 0.5) / CELLS, (column + 0.5) / CELLS)
    disc = _disc(*middle)
    order = np.argsort(np.abs(member_cells - typical).sum(axis=(1, 2)), kind="stable")
    return Group(
        members[order],
        typical.astype(np.float32),
        *middle,
        float(member_cells[:, disc].sum(axis=1).mean()),
        float(_peaks_near(member_cells, *middle).mean()),
    )


def _disc(row: float, column: float) -> NDArray[np.bool_]:
    """Cells within an eighth of the side of a place."""
    at = (np.arange(CELLS) + 0.5) / CELLS
    near: NDArray[np.bool_] = (at[:, None] - row) ** 2 + (at[None, :] - column) ** 2 <= (1 / 8 + 0.5 / CELLS) ** 2
    return near


def _peaks_near(cells: NDArray[np.float64], row: float, column: float) -> NDArray[np.bool_]:
    """Which maps are strongest at that place."""
    disc = _disc(row, column).reshape(-1)
    return np.array([bool(disc[int(uniform_filter(map_, 3).argmax())]) for map_ in paced(cells, 64)])
