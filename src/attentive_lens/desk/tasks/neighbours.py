"""The task that finds an image's neighbours among the training images."""

from __future__ import annotations

import numpy as np

from attentive_lens.core.jobs import Job
from attentive_lens.core.numbering import place_of
from attentive_lens.desk.requests.inspecting import Near, Neighbours, NeighboursFound
from attentive_lens.desk.results.models import (
    THREADS,
    answered_image,
    check_layer,
    last_layer,
    model_and_data,
    workspace_and_run,
)
from attentive_lens.desk.results.outputs import compared, outputs_of
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.explaining.neighbours import nearest
from attentive_lens.predicting import Predictor


def neighbours(request: Neighbours) -> Job[NeighboursFound]:
    """See `Neighbours`."""
    place, run = workspace_and_run(request.subject)
    model, data = yield from model_and_data(place, run)
    answered = yield from answered_image(request.subject)
    at = place_of(answered.number) if answered.number is not None else -1
    node = request.layer or last_layer(model)
    check_layer(model, node)
    members = data.members("training")
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        image = predictor.prepare(answered.pixels[None])
        labels = {"predicted": int(predictor.predicted(predictor.scores(image))[0])}
        query = compared(predictor, node, image)[0]
        outputs = yield from outputs_of(run, predictor, data, node, members)
    if answered.against is not None:
        labels["true"] = answered.against
    truth = data.labels[members]

    def near(label: int, count: int, right: bool) -> tuple[Near, ...]:
        """The nearest of a class, those answered rightly alone if asked."""
        of_class = np.flatnonzero((truth == label) & (members != at) & ((outputs.predicted == truth) | (not right)))
        order, gaps = nearest(outputs.features[of_class], query, count)
        rows = [data.collection.rows[members[of_class[k]]] for k in order]
        return tuple(Near(row.number, float(gap)) for row, gap in zip(rows, gaps, strict=True))

    right = {name: near(label, 1, right=True) for label, name in enumerate(model.classes)}
    return NeighboursFound(
        answered.number,
        node,
        {key: model.classes[label] for key, label in labels.items()},
        {key: near(label, request.count, right=False) for key, label in labels.items()},
        {name: result[0] for name, result in right.items() if result},
    )
