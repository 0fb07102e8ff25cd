"""The task that shows a layer's raw numbers."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.requests.numbers import LayerNumbers, NumbersSeen, WeightsWritten, WriteWeights
from attentive_lens.desk.results.exporting import write_archive
from attentive_lens.desk.results.models import check_layer, loss_and_gradient, model_and_data, model_of_run
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.losses import Loss
from attentive_lens.errors import BadValue, LensError
from attentive_lens.formats.reading import read_checkpoint
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Run, Workspace


def numbers(request: LayerNumbers) -> Job[NumbersSeen]:
    """See `LayerNumbers`."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    model = model_of_run(run)
    node = request.layer
    check_layer(model, node)
    own = model.weights.get(node, {})
    arrays = tuple(sorted(own, key=lambda name: -own[name].size))
    if not arrays:
        raise BadValue(f"{node} has no numbers of its own", "nothing in it is learned", "Choose another layer")
    array = request.array or arrays[0]
    if array not in arrays:
        raise unknown_word("array", array, frozenset(arrays))
    gradient, loss = None, None
    if request.image:
        _, data = yield from model_and_data(place, run, request.image)
        at = data.place(request.image)
        label = int(data.labels[at])
        predictor = Predictor.of(model)
        image = predictor.prepare(data.pixels[at][None])
        network, route = predictor.network, predictor.network.route(trainable=frozenset({node}))
        trace = network.forward(image, route=route)
        raw = trace.outputs[network.output]
        losses, grad = loss_and_gradient(Loss(run.plan().loss.kind), model, raw, np.array([label]))
        _, gradients = network.backward(trace, {network.output: grad}, route)
        loss, gradient = float(losses[0]), gradients.get(node, {}).get(array)
    memory, epoch = _memory(run, f"{node}/{array}/", model.weights[node][array])
    return NumbersSeen(node, array, arrays, model.weights[node][array], gradient, loss, memory, epoch)


def _memory(run: Run, name: str, like: Array) -> tuple[dict[str, Array], int]:
    """What the optimiser of a run remembers of an array, and the epoch it is from; nothing without a checkpoint."""
    file = run.model.with_name("last.alens")
    if not file.exists():
        return {}, 0
    try:
        last = read_checkpoint(file)
    except LensError:
        return {}, 0
    stored = {key.removeprefix(name): value for key, value in last.optimiser.items() if key.startswith(name)}
    there = {key: value for key, value in stored.items() if value.shape == like.shape}
    return there, int(str(last.card.get("epoch", 0))) if there else 0


def write_weights(request: WriteWeights) -> Job[WeightsWritten]:
    """See `WriteWeights`."""
    model = model_of_run(Workspace.open(Path(request.workspace)).run(request.run))
    arrays = {f"{node}/{name}": array for node, own in model.weights.items() for name, array in own.items()}
    yield Progress(0, len(arrays), "writing weights")
    written = write_archive(arrays, Path(request.file))
    return WeightsWritten(written, len(arrays), sum(array.size for array in arrays.values()))
