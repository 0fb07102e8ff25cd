"""Tasks about scores."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, kept, key_of
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.collection import collection
from attentive_lens.desk.models import AT_ONCE, THREADS, model_and_data
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.ordering import ClassesOrdered, OrderClasses
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.losses import Loss, one_hot
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import NotHere
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.measures import fitted_temperature
from attentive_lens.scoring.ordering import ORDERS, ordered
from attentive_lens.scoring.scores import Scores, scored
from attentive_lens.workspace import Workspace


def score(request: Score) -> Job[Scores]:
    """See `Score`."""
    place, on = Workspace.open(Path(request.workspace)), request.on
    run = place.run(request.run)
    loss = Loss.of(run.plan().loss)
    key = key_of(
        "scores as arrays, and the temperature",
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


def order_classes(request: OrderClasses) -> Job[ClassesOrdered]:
    """See `OrderClasses`."""
    scores = yield from score(Score(request.workspace, request.run, request.on))
    if request.order not in ORDERS:
        raise unknown_word("order", request.order, frozenset(ORDERS))
    return ClassesOrdered(ordered(scores.confusion, scores.classes, request.order))
