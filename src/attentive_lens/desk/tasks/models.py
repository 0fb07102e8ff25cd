"""The task that scores a model, and what all tasks about models share."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, kept, key_of
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.collection import collection
from attentive_lens.desk.data import Data, gather
from attentive_lens.desk.requests.models import Score
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.losses import Loss, one_hot
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import NotHere
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.layers import Dropout
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.measures import fitted_temperature
from attentive_lens.scoring.scores import Scores, scored
from attentive_lens.workspace import Run, Workspace

AT_ONCE = 64
THREADS = 2


def score(request: Score) -> Job[Scores]:
    """See `Score`."""
    place, on = Workspace.open(Path(request.workspace)), request.on
    run = place.run(request.run)
    loss = Loss.of(run.plan().loss)
    key = key_of(
        "scores with every answer and the temperature",
        run.model,
        collection(place, run.plan(), run).fingerprint,
        loss.kind,
    )
    known = kept(run.scores_file(on), Scores, key)
    if known is not None:
        return known
    model, data = yield from model_and_data(place, run)
    everything = data.members(on)
    members = everything[data.labels[everything] >= 0]
    if not len(members):
        raise NotHere(
            f"There is no {on} set",
            "none of the images belongs to it",
            "Score on another set, or add a folder for it",
        )
    parts: list[Array] = []
    said: list[NDArray[np.intp]] = []
    losses: list[Array] = []
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        for first in range(0, len(members), AT_ONCE):
            yield Progress(first, len(members), f"scoring {on} images")
            chosen = members[first : first + AT_ONCE]
            raw = predictor.raw_scores(predictor.prepare(data.pixels[chosen]))
            scores = predictor.output.spread(raw)
            said.append(predictor.said(scores))
            parts.append(predictor.checked(scores))
            losses.append(loss.plain(raw, one_hot(data.labels[chosen], len(model.classes))))
    scores_found = scored(
        on,
        model.classes,
        [data.collection.rows[place].number for place in members],
        data.labels[members],
        np.concatenate(said),
        np.concatenate(parts),
        np.concatenate(losses),
        loss.kind,
        model.output,
        len(everything) - len(members),
    )
    scores_found = replace(scores_found, temperature=fitted_temperature(scores_found))
    keep(run.scores_file(on), scores_found, key)
    return scores_found


def by_class(classes: tuple[str, ...], row: NDArray[np.floating]) -> dict[str, float]:
    """Answers K by the classes' names."""
    return {name: float(p) for name, p in zip(classes, row, strict=True)}


def model_and_data(place: Workspace, run: Run, image: int | None = None) -> Job[tuple[ModelFile, Data]]:
    """A run's best model, and the images in the sets it was trained with, prepared and numbered as the model has it.

    Who asks about one image alone names its number, see `gather`.
    """
    model = model_of(run.model)
    data = yield from gather(place, run.plan(), run, model.preprocessor.settings, image)
    return model, data.seen_by(model.classes)


def check_layer(model: ModelFile, node: str) -> None:
    """Raise `BadValue` where a model has no such node."""
    names = frozenset(other.name for other in model.plan.nodes)
    if node not in names:
        raise unknown_word("layer", node, names)


def last_layer(model: ModelFile) -> str:
    """The last node before the answers that computes: dropout passes images through unchanged."""
    by_name = {node.name: node for node in model.plan.nodes}
    name = model.plan.nodes[-1].after[0]
    while name in by_name and isinstance(by_name[name].layer, Dropout):
        name = by_name[name].after[0]
    return name


def model_of(file: Path) -> ModelFile:
    """A model file, read once while it stays as it is."""
    try:
        changed = file.stat().st_mtime_ns
    except OSError:
        changed = 0
    return _model_as_of(file, changed)


@lru_cache(maxsize=4)
def _model_as_of(file: Path, changed: int) -> ModelFile:
    del changed
    return read_model(file)
