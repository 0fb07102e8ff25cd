"""The task that tries changes on one image."""

from __future__ import annotations

import numpy as np

from attentive_lens.core.jobs import Job
from attentive_lens.desk.requests.inspecting import SmallestCover, Tried, TriedChange, TryChanges
from attentive_lens.desk.results.models import THREADS, answered_image, by_class, other_image
from attentive_lens.desk.tasks.choosing import method_for
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.explaining.changes import changed
from attentive_lens.explaining.probe import Probe
from attentive_lens.explaining.smallest import Search, smallest_cover
from attentive_lens.predicting import Predictor


def try_changes(request: TryChanges) -> Job[Tried]:
    """See `TryChanges`; if asked, also the smallest square whose covering changes the answer."""
    answered = yield from answered_image(request.subject)
    model, pixels = answered.model, answered.pixels
    after = []
    for change in request.changes:
        number = change.other_image
        other = (yield from other_image(request.subject, number)) if number is not None else None
        after.append(changed(pixels, change, other, answered.covered))
    maps = None
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        images = predictor.prepare(np.stack([pixels, *after]))
        scores = predictor.scores(images)
        answers, predicted = predictor.checked(scores), predictor.predicted(scores)
        if request.method is not None:
            method, probe = (yield from method_for(request.method, request.subject, model)), Probe(predictor)
            each = [method.maps(probe, image, probe.against_next(image))[0] for image in images[1:]]
            maps = np.stack(each) if each else np.zeros((0, *pixels.shape[:2]), np.float32)
        search = (yield from smallest_cover(Probe(predictor), images[0])) if request.smallest else None
    rows = [
        TriedChange(change, model.classes[label], by_class(model.classes, row))
        for change, label, row in zip((None, *request.changes), predicted.tolist(), answers, strict=True)
    ]
    cover = _cover(search, model.classes) if search is not None else None
    shown = np.stack(after) if after else np.zeros((0, *pixels.shape), pixels.dtype)
    return Tried(answered.number, answered.file, rows[0], tuple(rows[1:]), cover, shown, maps)


def _cover(search: Search, classes: tuple[str, ...]) -> SmallestCover:
    cover = search.cover
    if cover is None:
        return SmallestCover(search.complete)
    predicted = classes[cover.predicted]
    return SmallestCover(search.complete, cover.pixels, cover.row, cover.column, cover.side, cover.across, predicted)
