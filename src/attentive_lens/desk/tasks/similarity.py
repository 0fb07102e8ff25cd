"""The task that says what training changed in every layer."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.core.random import some_of
from attentive_lens.desk.network.bases import base_model
from attentive_lens.desk.requests.similarity import CompareLayers, LayerChange, LayersCompared
from attentive_lens.desk.results.models import THREADS, model_and_data
from attentive_lens.desk.training.preparing import starting_point
from attentive_lens.engine.arrays import DTYPES, Array
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue
from attentive_lens.explaining.linear_probe import pooled
from attentive_lens.explaining.similarity import FEWEST, filter_changes, similarity
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.plan.layers import BatchNormalisation
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

MOST = 256
"""Images that are asked about, at most."""
AT_ONCE = 16
FILTERS = 8
"""Of the filters that changed most, so many are named."""
OTHER = 1
"""By how much the seed of the random weights differs that stand beside."""


def compare_layers(request: CompareLayers) -> Job[LayersCompared]:
    """See `CompareLayers`; kept beside the run while its model is the same."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    file, key = run.folder / "layers-compared.npz", key_of("what training changed", run.model)
    known = stored(file, LayersCompared, key)
    if known is not None:
        return known
    model, data = yield from model_and_data(place, run, classes=False)
    plan = run.plan()
    before, _ = starting_point(plan, data, base_model(place, plan), len(model.labels or model.classes))
    shape, dtype = model.preprocessor.settings.shape, DTYPES[plan.training.precision]
    other = Network.start(model.plan, shape, plan.seed + OTHER, dtype, plan.initialisation)
    members = next((m for m in map(data.members, ("validation", "training")) if len(m) >= FEWEST), None)
    if members is None:
        raise BadValue("The layers cannot be compared", f"there are fewer than {FEWEST} images", "Add images")
    images = data.pixels[members[some_of(len(members), MOST, "images to compare layers on")]]
    layers = [name for name in model.weights if name in before.weights]
    outputs = []
    with ThreadPool(THREADS) as thread_pool:
        for turn, network in enumerate((before, model.network(), other)):
            predictor = Predictor(network, model.preprocessor, model.classes, model.output_function, thread_pool)
            outputs.append((yield from _outputs(predictor, np.asarray(images), layers, turn)))
    taken = plan.network.up_to(plan.base.until) if plan.base is not None else frozenset[str]()
    changes = []
    for k, layer in enumerate(layers):
        yield Progress(k, len(layers), request.doing)
        alike, unrelated = (_number(similarity(outputs[0][layer], each[layer])) for each in outputs[1:])
        changes.append(_change(layer, layer in taken, before, model, alike, unrelated))
    begun_from = plan.base.words if plan.base is not None else ""
    result = LayersCompared(run.number, begun_from, len(images), tuple(changes))
    if place.writable:
        keep(file, result, key)
    return result


def _outputs(predictor: Predictor, images: PixelArray, layers: list[str], turn: int) -> Job[dict[str, Array]]:
    """What the layers give for all images, pooled, as rows."""
    parts: dict[str, list[Array]] = {layer: [] for layer in layers}
    for first in range(0, len(images), AT_ONCE):
        yield Progress(turn * len(images) + first, 3 * len(images), "asking the layers")
        prepared = predictor.prepare(images[first : first + AT_ONCE])
        trace = predictor.network.forward(prepared, watch=frozenset(layers), ready=predictor.ready)
        for layer, rows in parts.items():
            rows.append(pooled(trace.outputs[layer]))
    return {layer: np.concatenate(rows) for layer, rows in parts.items()}


def _number(value: float) -> float | None:
    return None if math.isnan(value) else value


def _change(
    layer: str, taken: bool, before: Network, model: ModelFile, alike: float | None, unrelated: float | None
) -> LayerChange:
    """What became of a layer: running statistics are no weights, and are left out."""
    node = next(node for node in model.plan.nodes if node.name == layer)
    states = node.layer.state_shapes((1,)) if isinstance(node.layer, BatchNormalisation) else {}
    had, now = ({k: a for k, a in w[layer].items() if k not in states} for w in (before.weights, model.weights))
    apart = math.sqrt(sum(float(((now[name] - had[name]).astype(np.float64) ** 2).sum()) for name in had))
    size = math.sqrt(sum(float((array.astype(np.float64) ** 2).sum()) for array in had.values()))
    main = max(had, key=lambda name: had[name].ndim)
    filters: tuple[int, ...] = ()
    changes: tuple[float, ...] = ()
    if had[main].ndim > 1:
        by = filter_changes(had[main], now[main], node.layer.filter_axis)
        order = np.argsort(-by, kind="stable")[:FILTERS]
        filters, changes = tuple(int(k) for k in order), tuple(float(by[k]) for k in order)
    return LayerChange(layer, taken, alike, unrelated, apart / max(size, 1e-12), filters, changes)
