"""What a model was trained on, kept beside its run, so that an image unlike all of it can be told."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.desk.images.data import Data
from attentive_lens.desk.results.models import AT_ONCE, THREADS, model_and_data
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import NotHere
from attentive_lens.explaining.causes.base import NEAREST, USUAL
from attentive_lens.explaining.channel_statistics import Known, channel_statistics
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Run, Workspace

MOST = 2000
"""Training images that others are compared with, at most: of more, the same part of every class."""
ENOUGH = 50
"""Held-out images from which on they say what is usual; with fewer the training images say it of each other."""


@dataclass(frozen=True)
class _Stored:
    """Statistics of training images N×D, their numbers N, and the distance beyond which few images lie."""

    statistics: NDArray[np.float32]
    numbers: NDArray[np.int64]
    limit: float


@dataclass(frozen=True, eq=False)
class Familiar:
    """Training images and how far from them held-out ones lie.

    Attributes
    ----------
    known : Known
        Channel statistics of the training images.
    numbers : ndarray, N int64
        Of these images in the catalogue.
    limit : float
        A distance, mean of that to the three nearest: 98 % of the held-out images lie no farther.
    """

    known: Known
    numbers: NDArray[np.int64]
    limit: float

    def unlikeness(self, statistics: Array) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
        """Distance of M images by their channel statistics M×D, as part of the limit, and the nearest image to each.

        Above 1 an image is unlike all training images.
        """
        order, distances = self.known.nearest(statistics, NEAREST)
        return np.asarray(distances.mean(axis=1) / self.limit), self.numbers[order[:, 0]]


def familiar(place: Workspace, run: Run) -> Job[Familiar]:
    """What a run's best model was trained on.

    Raises
    ------
    NotHere
        If there are too few training images for anything to be usual.
    """
    model, data = yield from model_and_data(place, run, classes=False)
    key = key_of("channel statistics of training images", run.model, data.fingerprint, MOST)
    file = run.folder / "familiar.npz"
    known = stored(file, _Stored, key)
    if known is None:
        with ThreadPool(THREADS) as thread_pool:
            known = yield from _looked(Predictor.of(model, thread_pool), data)
        keep(file, known, key)
    return Familiar(Known.of(known.statistics), known.numbers, known.limit)


def _looked(predictor: Predictor, data: Data) -> Job[_Stored]:
    training, held_out = (
        data.drawn(members[data.labels[members] >= 0], MOST)
        for members in (data.members("training"), data.members("validation"))
    )
    if len(training) <= NEAREST:
        raise NotHere("Nothing can be told unlike", f"there are {len(training)} training images", "Add images")
    statistics = yield from _statistics(predictor, data, training)
    known = Known.of(statistics)
    if len(held_out) >= ENOUGH:
        others = yield from _statistics(predictor, data, held_out)
        distances = known.nearest(others, NEAREST)[1]
    else:
        distances = known.nearest(statistics, NEAREST + 1)[1][:, 1:]  # the nearest is itself
    limit = max(float(np.quantile(distances.mean(axis=1), USUAL)), 1e-6)
    numbers = np.array([data.collection.rows[at].number for at in training], np.int64)
    return _Stored(statistics.astype(np.float32), numbers, limit)


def _statistics(predictor: Predictor, data: Data, members: NDArray[np.int64]) -> Job[Array]:
    parts = []
    for first in range(0, len(members), AT_ONCE):
        yield Progress(first, len(members), "looking at what it was trained on")
        parts.append(channel_statistics(predictor, predictor.prepare(data.pixels[members[first : first + AT_ONCE]])))
    return np.concatenate(parts)
