"""What a run that answers several labels said of the images of a set, and thresholds chosen by it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.data import fingerprint_of, gather
from attentive_lens.desk.results.models import AT_ONCE, THREADS, model_of_run
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.losses import Loss
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadUsage, LensError, NotHere
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.labels import LabelAnswers
from attentive_lens.scoring.thresholds import ThresholdRule, all_chosen
from attentive_lens.workspace import Run, Workspace
from attentive_lens.workspace.thresholds import Threshold, keep_thresholds, thresholds_of


def label_answers(place: Workspace, run: Run, on: str) -> Job[LabelAnswers]:
    """Answers of a run's best model to a set, kept beside the run as long as model, labels and images are the same.

    Raises
    ------
    BadUsage
        If it answers one class an image.
    NotHere
        If there are no images in the set.
    """
    model = model_of_run(run.whole)
    if not model.thresholds:
        why = "it answers one class an image"
        raise BadUsage(f"Run {int(run.number)} has no labels to be told one by one", why, "Score it")
    run, plan, settings = run.whole, run.plan(), model.preprocessor.settings
    split = collection(place, plan, run)
    key = key_of("answers of labels", run.model, fingerprint_of(place, split, settings), on)
    known = stored(run.scores_file(on), LabelAnswers, key)
    if known is not None:
        return known
    data = yield from gather(place, plan, run, settings)
    members = data.members(on)
    if not len(members):
        remedy = "Score on another set, or add a folder for it"
        raise NotHere(f"There is no {on} set", "none of the images belongs to it", remedy)
    there = data.collection.targets(model.classes)[data.labels[members]]
    parts: list[Array] = []
    losses: list[NDArray[np.floating]] = []
    loss = Loss(plan.loss.kind, several=True)
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        for first in range(0, len(members), AT_ONCE):
            yield Progress(first, len(members), f"scoring {on} images")
            raw = predictor.raw_scores(predictor.prepare(data.pixels[members[first : first + AT_ONCE]]))
            parts.append(predictor.checked(raw))
            losses.append(loss.plain(raw, there[first : first + AT_ONCE]))
    result = LabelAnswers(
        on,
        model.classes,
        np.array([data.collection.rows[at].number for at in members], np.int64),
        there.astype(np.uint8),
        np.concatenate(parts).astype(np.float32),
        np.concatenate(losses).astype(np.float32),
    )
    keep(run.scores_file(on), result, key)
    return result


def choose_on_validation(place: Workspace, run: Run, rule: ThresholdRule, labels: tuple[str, ...] = ()) -> Job[bool]:
    """Choose thresholds of a run, or of some labels alone, by its validation images, and write them down.

    Returns
    -------
    bool
        Whether there were any such images; if not, thresholds stay as they are.
    """
    try:
        answers = yield from label_answers(place, run, "validation")
    except NotHere:
        return False
    choices = all_chosen(answers.probabilities, answers.there.astype(bool), rule)
    chosen = {name: Threshold(each.value, each.by) for name, each in zip(answers.labels, choices, strict=True)}
    try:
        before = thresholds_of(run.whole)
    except LensError:
        before = {}
    keep_thresholds(run, {name: chosen[name] if name in labels or not labels else before[name] for name in chosen})
    return True
