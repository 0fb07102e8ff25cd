"""Tasks about scores."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.images.collection import Library, collection
from attentive_lens.desk.images.data import Data, fingerprint_of, gather
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.ordering import ClassesOrdered, OrderClasses
from attentive_lens.desk.results.models import AT_ONCE, THREADS, check_one_answer, loss_and_gradient, model_of_run
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.losses import Loss
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import NotHere
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.ordering import ORDERS, ordered
from attentive_lens.scoring.scores import Scores, scored
from attentive_lens.workspace import Run, Workspace

ONE_OF_TWO = "one sigmoid"
"""What makes the answers of one label: two probabilities that make 1."""


def score(request: Score) -> Job[Scores]:
    """See `Score`."""
    place, on = Workspace.open(Path(request.workspace)), request.on
    run = place.run(request.run)
    known = stored_scores(place, run, on)
    if known is not None:
        return known
    key = _key(place, run)
    result = yield from scored_anew(place, run, on)
    if key == _key(place, run):  # else somebody changed a label, a set or an image meanwhile
        keep(run.scores_file(on), result, key)
    return result


def stored_scores(place: Workspace, run: Run, on: str) -> Scores | None:
    """What was kept of a run's scores on a set, as long as model, labels and sets are the same."""
    return stored(run.scores_file(on), Scores, _key(place, run))


def _key(place: Workspace, run: Run) -> str:
    loss = Loss.of(run.plan().loss).kind
    split = collection(place, run.plan(), run)
    model = model_of_run(run)
    settings = model.preprocessor.settings
    fingerprint = fingerprint_of(place, split, settings)
    units = Library.read(place).units(run.plan(), copies=True).tobytes()
    return key_of("scores as arrays, with their measures", run.model, fingerprint, loss, model.thresholds, units)


def scored_anew(place: Workspace, run: Run, on: str) -> Job[Scores]:
    """A run's best model asked about a set."""
    model = model_of_run(run)
    check_one_answer(model, run)
    data = yield from gather(place, run.plan(), run, model.preprocessor.settings)
    return (yield from scores_of(model, run.plan(), data, on, Library.read(place).units(run.plan(), copies=True)))


def scores_of(
    model: ModelFile, plan: Plan, images: Data, on: str, units: NDArray[np.int64] | None = None
) -> Job[Scores]:
    """A model that was trained by a plan asked about a set of images; `NotHere` if there are none in it.

    ``units`` is a number for each image, one for those that belong together; each is by itself if left out.
    """
    loss, data = Loss.of(plan.loss), images.seen_by(model.classes)
    plain = Loss(loss.kind)
    everything = data.members(on)
    members = everything[data.labels[everything] >= 0]
    if not len(members):
        raise NotHere(
            f"There is no {on} set",
            "none of the images belongs to it",
            "Score on another set, or add a folder for it",
        )
    parts: list[Array] = []
    predicted: list[NDArray[np.intp]] = []
    losses: list[Array] = []
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        for first in range(0, len(members), AT_ONCE):
            yield Progress(first, len(members), f"scoring {on} images")
            chosen = members[first : first + AT_ONCE]
            raw = predictor.raw_scores(predictor.prepare(data.pixels[chosen]))
            scores = predictor.output.spread(raw)
            predicted.append(predictor.predicted(scores))
            parts.append(predictor.checked(scores))
            losses.append(loss_and_gradient(plain, model, raw, data.labels[chosen])[0])
    return scored(
        on,
        model.classes,
        [data.collection.rows[place].number for place in members],
        data.labels[members],
        np.concatenate(predicted),
        np.concatenate(parts),
        np.concatenate(losses),
        loss.kind,
        ONE_OF_TWO if model.label else model.output,
        len(everything) - len(members),
        None if units is None else units[members],
    )


def order_classes(request: OrderClasses) -> Job[ClassesOrdered]:
    """See `OrderClasses`."""
    scores = yield from score(Score(request.workspace, request.run, request.on))
    if request.order not in ORDERS:
        raise unknown_word("order", request.order, frozenset(ORDERS))
    return ClassesOrdered(ordered(scores.confusion, scores.classes, request.order))
