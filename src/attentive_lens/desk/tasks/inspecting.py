"""Tasks that look inside a trained network: a layer's filters, how active it is, what its channels add."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.desk.requests.activity import LayerActive, LayerActivity
from attentive_lens.desk.requests.inspecting import AnswerAt, ChannelEffects, Channels, ChannelSeen, Layer, LayerSeen
from attentive_lens.desk.results.models import THREADS, answered_image, by_class, check_layer, model_and_data
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue
from attentive_lens.explaining.activity import Activity
from attentive_lens.explaining.channels import (
    Excitement,
    contributions,
    patch,
    patch_sides,
    scaled,
    speaks_for,
    switched_off,
    synthetic,
)
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

PIECE = 64
SPEAKING = 48
"""Images over which it is averaged what channels add to the classes."""
FACTORS = (1.0, 0.0, 0.5, 2.0)
"""A channel as it is, switched off, halved and doubled."""


def layer(request: Layer) -> Job[LayerSeen]:
    """See `Layer`; kept beside the run, and read from there the next time."""
    node = request.layer
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    model, data = yield from model_and_data(place, run)
    key = key_of("layer", run.model, data.fingerprint, node, request.patches, request.images, request.drawn)
    file = run.folder / f"layer-{key_of(node)[:16]}.npz"
    known = stored(file, LayerSeen, key)
    if known is not None:
        return known
    check_layer(model, node)
    fact = next(each for each in model.plan.facts(model.preprocessor.settings.shape) if each.name == node)
    if len(fact.shape) != 3:
        raise BadValue(f"{node} has no feature maps", "its output is one row of values", "Choose a layer before it")
    training = data.members("training")
    members = data.drawn(training, request.images)
    collected, active = Excitement(request.patches), Activity(len(model.classes))
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        probe = Probe(predictor)
        for first in range(0, len(members), PIECE):
            yield Progress(first, len(members), "looking for patches")
            part = members[first : first + PIECE]
            outs = probe.outputs(node, predictor.prepare(data.pixels[part]))
            collected.add(outs)
            active.add(outs, data.labels[part])
        strongest = collected.strongest()
        chosen = members[np.linspace(0, len(members) - 1, min(SPEAKING, len(members))).astype(int)]
        speaks = speaks_for(probe, predictor.prepare(data.pixels[chosen]), node)
        matter = np.argsort(-np.abs(speaks).max(axis=0), kind="stable")[: request.drawn]
        drawn = []
        for number, channel in enumerate(matter):
            yield Progress(number, len(matter), "drawing what excites a channel")
            drawn.append(_shown(synthetic(probe.network, node, int(channel))))
    sides = patch_sides(fact, (data.pixels.shape[1], data.pixels.shape[2]))
    cut = np.empty((*strongest.images.shape, *sides, data.pixels.shape[3]), data.pixels.dtype)
    for channel, each in enumerate(strongest.images):
        for k, at in enumerate(each):
            row, column = int(strongest.rows[channel, k]), int(strongest.columns[channel, k])
            cut[channel, k] = patch(data.pixels[members[at]], fact, row, column)
    rows = data.collection.rows
    seen = LayerSeen(
        node,
        fact.receptive_field,
        model.classes,
        len(members),
        len(training),
        tuple(matter.tolist()),
        tuple(tuple(rows[members[at]].number for at in each) for each in strongest.images),
        tuple(tuple(each) for each in strongest.values.round(5).tolist()),
        cut,
        np.stack(drawn),
        speaks,
        active.mean,
        active.used,
        model.weights.get(node, {}),
    )
    keep(file, seen, key)
    return seen


def activity(request: LayerActivity) -> Job[LayerActive]:
    """See `LayerActivity`; kept beside the run, and read from there the next time."""
    node = request.layer
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    model, data = yield from model_and_data(place, run)
    key = key_of("activity", run.model, data.fingerprint, node, request.images)
    file = run.folder / f"activity-{key_of(node)[:16]}.npz"
    known = stored(file, LayerActive, key)
    if known is not None:
        return known
    check_layer(model, node)
    training = data.members("training")
    members = data.drawn(training, request.images)
    collected = Activity(len(model.classes))
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        for first in range(0, len(members), PIECE):
            yield Progress(first, len(members), "asking the layer about training images")
            part = members[first : first + PIECE]
            collected.add(predictor.outputs(node, predictor.prepare(data.pixels[part])), data.labels[part])
    counted = (len(members), len(training))
    seen = LayerActive(node, model.classes, *counted, collected.edges, collected.counts, collected.mean, collected.used)
    keep(file, seen, key)
    return seen


def _shown(image: Array) -> NDArray[np.uint8]:
    """Prepared levels about mid-grey."""
    return (128 + 50 * image).clip(0, 255).astype(np.uint8)


def channels(request: Channels) -> Job[ChannelSeen]:
    """See `Channels`."""
    node, number = request.layer, request.channel
    answered = yield from answered_image(request.subject)
    model = answered.model
    if node != IMAGE:
        check_layer(model, node)
    if node == model.plan.nodes[-1].name:
        why = "its values are the answers themselves"
        raise BadValue(f"{node} has no channels to switch off", why, "Choose a layer before it")
    predictor = Predictor.of(model)
    probe = Probe(predictor)
    image = predictor.prepare(answered.pixels[None])[0]
    predicted = int(probe.predicted(probe.scores(image[None]))[0])
    true = predicted if answered.against is None else answered.against
    targets = Targets.classes([predicted], probe.classes)
    if predicted != true:
        targets = Targets(targets.weights - Targets.classes([true], probe.classes).weights)
    yield Progress(0, 2, "switching channels off")
    adds = switched_off(probe, image, node, targets)[0]
    if not 0 <= number < len(adds):
        why = f"{node} has channels 0 to {len(adds) - 1}"
        raise BadValue(f"There is no channel {number}", why, "Choose one of these")
    first_order = contributions(probe, image, node, targets)[0]
    yield Progress(1, 2, "scaling the channel")
    rows = scaled(probe, image, node, number, list(FACTORS))
    order = np.argsort(-np.abs(adds), kind="stable").tolist()
    return ChannelSeen(
        node,
        number,
        "said − true" if predicted != true else model.classes[predicted],
        model.classes[predicted],
        model.classes[true],
        tuple(ChannelEffects(k, float(adds[k]), float(first_order[k])) for k in order),
        tuple(AnswerAt(f, by_class(model.classes, row)) for f, row in zip(FACTORS, rows, strict=True)),
        model.preprocessor.settings.names_of_channels if node == IMAGE else (),
    )
