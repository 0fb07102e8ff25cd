"""The task that lays images out in two dimensions."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import key_of
from attentive_lens.core.recent import Recent
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.models import AT_ONCE, THREADS, check_layer, last_layer, model_and_data
from attentive_lens.desk.requests.mapping import LAYOUTS, DataMap, MapData
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue, NotHere
from attentive_lens.explaining.distances import principal, squeezed
from attentive_lens.explaining.embedding import embedded
from attentive_lens.images.rows import Pixels
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

MAPPED_SETS = ("training", "validation", "test")
VALUES = 4096
"""Values of an output that are compared, at most; feature maps of more are averaged over squares."""


@dataclass(frozen=True, eq=False)
class _Outputs:
    """A layer's outputs N×D, the classes said N and the answers for them N."""

    features: Array
    said: NDArray[np.int64]
    probability: NDArray[np.float32]


_OUTPUTS: Recent[_Outputs] = Recent(1)


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
    layer = request.layer or last_layer(model)
    check_layer(model, layer)
    every = np.concatenate([data.members(name) for name in MAPPED_SETS])
    every = every[data.labels[every] >= 0]
    if len(every) < 4:
        raise NotHere("There is nothing to lay out", f"only {len(every)} images are in sets", "Add images")
    members = data.drawn(every, request.most)
    key = key_of(run.model, data.collection.fingerprint, layer, request.most)
    with ThreadPool(THREADS) as thread_pool:
        outputs = _OUTPUTS.known(key)
        if outputs is None:
            asked = _asked(Predictor.of(model, thread_pool), data.pixels, layer, members)
            outputs = _OUTPUTS.keep(key, (yield from asked))
        places, explained = principal(outputs.features)
        found = DataMap(
            layer,
            request.method,
            model.classes,
            len(every),
            tuple(explained.tolist()) if request.method == "PCA" else (),
            np.array([data.collection.rows[at].number for at in members], np.int64),
            places,
            outputs.said,
            data.labels[members],
            outputs.probability,
        )
        if request.method == "PCA":
            return found
        job = embedded(outputs.features, request.seed, request.perplexity, thread_pool)
        while True:
            try:
                told = next(job)
            except StopIteration as end:
                return replace(found, places=end.value)
            so_far = replace(found, places=told.so_far) if isinstance(told.so_far, np.ndarray) else found
            yield replace(told, so_far=so_far)


def _asked(predictor: Predictor, pixels: Pixels, layer: str, members: NDArray[np.int64]) -> Job[_Outputs]:
    """What a layer and the whole model make of some images."""
    parts: list[Array] = []
    said: list[NDArray[np.intp]] = []
    answers: list[Array] = []
    for first in range(0, len(members), AT_ONCE):
        yield Progress(first, len(members), "asking the layer about the images")
        images = predictor.prepare(pixels[members[first : first + AT_ONCE]])
        parts.append(squeezed(predictor.outputs(layer, images), VALUES))
        scores = predictor.scores(images)
        said.append(predictor.said(scores))
        answers.append(np.take_along_axis(predictor.checked(scores), said[-1][:, None], axis=1)[:, 0])
    return _Outputs(np.concatenate(parts), np.concatenate(said).astype(np.int64), np.concatenate(answers))
