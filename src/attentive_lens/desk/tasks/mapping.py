"""The task that lays images out in two dimensions."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from attentive_lens.core.jobs import Job
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.requests.mapping import LAYOUTS, DataMap, MapData
from attentive_lens.desk.results.models import THREADS, check_layer, last_layer, model_and_data
from attentive_lens.desk.results.outputs import outputs_of
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue, NotHere
from attentive_lens.explaining.distances import principal
from attentive_lens.explaining.embedding import embedded
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

MAPPED_SETS = ("training", "validation", "test")


def map_data(request: MapData) -> Job[DataMap]:
    """See `MapData`; says how it looks so far while t-SNE works."""
    if request.method not in LAYOUTS:
        raise unknown_word("method", request.method, frozenset(LAYOUTS))
    if not 2 <= request.perplexity <= 500 or request.most < 4:
        why = (
            f"perplexity is 2 to 500 and at least 4 images are laid out, got {request.perplexity:g} and {request.most}"
        )
        raise BadValue("The images could not be laid out", why, "Choose others")
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    model, data = yield from model_and_data(place, run)
    layer = request.layer or (model.plan.code.name if model.plan.draws else last_layer(model))
    check_layer(model, layer)
    every = np.concatenate([data.members(name) for name in MAPPED_SETS])
    every = every[data.labels[every] >= 0]
    if len(every) < 4:
        raise NotHere("There is nothing to lay out", f"only {len(every)} images are in sets", "Add images")
    members = data.drawn(every, request.most)
    with ThreadPool(THREADS) as thread_pool:
        outputs = yield from outputs_of(run, Predictor.of(model, thread_pool), data, layer, members)
        places, explained = principal(outputs.features)
        result = DataMap(
            layer,
            request.method,
            model.classes,
            len(every),
            tuple(explained.tolist()) if request.method == "PCA" else (),
            np.array([data.collection.rows[at].number for at in members], np.int64),
            places,
            outputs.predicted,
            data.labels[members],
            outputs.probability,
        )
        if request.method == "PCA":
            return result
        job = embedded(outputs.features, request.seed, request.perplexity, thread_pool)
        while True:
            try:
                progress = next(job)
            except StopIteration as end:
                return replace(result, places=end.value)
            so_far = replace(result, places=progress.so_far) if isinstance(progress.so_far, np.ndarray) else result
            yield replace(progress, so_far=so_far)
