"""How far plain features alone come on a run's images: what a network must be better than."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.desk.images.data import Data
from attentive_lens.desk.results.models import model_and_data
from attentive_lens.images.fixed_features import features_of
from attentive_lens.images.plain_classifier import PlainClassifier, Scaling, waves
from attentive_lens.workspace import Run, Workspace

MOST = 6000
"""Training images that are learned from, at most."""


@dataclass(frozen=True)
class Plain:
    """Part of a run's validation images that a classifier on plain features has right."""

    accuracy: float


def plain_accuracy(place: Workspace, run: Run) -> Job[float | None]:
    """See `Plain`; kept beside the run. None without images or with one class."""
    model, data = yield from model_and_data(place, run)
    file, key = _file(run), key_of("plain features", data.fingerprint, len(model.classes))
    known = stored(file, Plain, key)
    if known is not None:
        return known.accuracy
    learned, held = (_known(data, name) for name in ("training", "validation"))
    learned = learned[np.unique(np.linspace(0, len(learned) - 1, min(MOST, len(learned))).astype(int))]
    if len(np.unique(data.labels[learned])) < 2 or not len(held):
        return None
    both = np.concatenate([learned, held])
    doing = "looking at plain features"
    every = yield from features_of(lambda part: np.asarray(data.pixels[both[part]]), len(both), doing)
    of = waves(Scaling.of(every[: len(learned)]).apply(every))
    classifier = PlainClassifier.fit(of[: len(learned)], data.labels[learned], len(model.classes))
    predicted = classifier.answers(of[len(learned) :]).argmax(axis=1)
    result = Plain(float((predicted == data.labels[held]).mean()))
    keep(file, result, key)
    return result.accuracy


def known_accuracy(place: Workspace, run: Run) -> Job[float | None]:
    """What was kept of it, if it holds still; None otherwise."""
    if not _file(run).exists():
        return None
    return (yield from plain_accuracy(place, run))


def _file(run: Run) -> Path:
    return run.folder / "plain.npz"


def _known(data: Data, name: str) -> NDArray[np.int64]:
    """Images of a set whose class the run knows."""
    members = data.members(name)
    return np.asarray(members[data.labels[members] >= 0], np.int64)
