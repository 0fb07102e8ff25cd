"""What an image is like to a network: how strongly, and how unevenly, each of its channels answers."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.distances import row_blocks, squared_distances
from attentive_lens.plan.layers import Convolution
from attentive_lens.predicting import Predictor

AT_ONCE = 8
"""Images in a piece."""


def channel_statistics(predictor: Predictor, images: Array) -> Array:
    """Mean and standard deviation of every channel of every convolution, over the places of each prepared image.

    They tell strange images from known ones better than the last hidden layer, which keeps only what tells the classes
    apart. Statistics of channels as a description of texture: Portilla &
    Simoncelli 2000. A network without convolutions gives the input of its output layer.

    Parameters
    ----------
    predictor : Predictor
        Whose network is asked.
    images : ndarray, N×H×W×C float32
        Prepared.

    Returns
    -------
    ndarray, N×D
        D is twice the number of all filters.
    """
    network, pool = predictor.network, predictor.thread_pool
    nodes = [node.name for node in network.plan.nodes if isinstance(node.layer, Convolution)]
    nodes = nodes or [network.plan.nodes[-1].after[0]]
    watch = frozenset(nodes)

    def piece(k: int) -> Array:
        trace = network.forward(images[k * AT_ONCE : (k + 1) * AT_ONCE], watch=watch, ready=predictor.ready)
        parts: list[Array] = []
        for node in nodes:
            outputs = trace.outputs[node]
            if outputs.ndim == 4:
                parts += [outputs.mean(axis=(1, 2)), outputs.std(axis=(1, 2))]
            else:
                parts.append(outputs.reshape(len(outputs), -1))
        return np.concatenate(parts, axis=1)

    count = -(-len(images) // AT_ONCE)
    return np.concatenate(pool.each(piece, count) if pool is not None else [piece(k) for k in range(count)])


@dataclass(frozen=True, eq=False)
class Known:
    """Images that others are compared with, each value standardised by their mean and deviation.

    Attributes
    ----------
    mean, std : ndarray, D
        Of the values.
    rows : ndarray, N×D
        Standardised.
    """

    mean: Array
    std: Array
    rows: Array

    @classmethod
    def of(cls, statistics: Array) -> Known:
        """From their channel statistics N×D."""
        mean, std = statistics.mean(axis=0), statistics.std(axis=0) + 1e-6
        return cls(mean, std, (statistics - mean) / std)

    def nearest(self, statistics: Array, count: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Rows of the known images nearest to each of M others, and their distances: M×count each, nearest first."""
        count = min(count, len(self.rows))
        order = np.empty((len(statistics), count), np.int64)
        distances = np.empty((len(statistics), count), np.float64)
        for rows in row_blocks(len(statistics), len(self.rows)):
            squares = squared_distances((statistics[rows] - self.mean) / self.std, self.rows)
            few = np.argpartition(squares, count - 1, axis=1)[:, :count]
            ranks = np.argsort(np.take_along_axis(squares, few, axis=1), axis=1, kind="stable")
            order[rows] = np.take_along_axis(few, ranks, axis=1)
            distances[rows] = np.sqrt(np.take_along_axis(squares, order[rows], axis=1))
        return order, distances
