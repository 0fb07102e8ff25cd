"""Tasks that look inside a trained network: a layer's filters, neighbours of an image, changes tried on one."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, kept, key_of
from attentive_lens.core.records import PlainTable
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.models import THREADS, by_class, check_layer, last_layer, model_and_data
from attentive_lens.desk.requests import table as ask
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.explaining.changes import CHANGES, LIMITS
from attentive_lens.explaining.channels import (
    Excitement,
    contributions,
    patch,
    scaled,
    speaks_for,
    switched_off,
    synthetic,
)
from attentive_lens.explaining.neighbours import nearest
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.smallest import Search, smallest_cover
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

PIECE = 64
SPEAKING = 48
"""Images over which it is averaged what channels add to the classes."""
FACTORS = (1.0, 0.0, 0.5, 2.0)
"""A channel as it is, switched off, halved and doubled."""


def layer(request: ask.Layer) -> Job[ask.LayerSeen]:
    """See `Layer`; kept beside the run, and read from there the next time."""
    node = request.layer
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    model, data = yield from model_and_data(place, run)
    key = key_of("layer", run.model, data.collection.fingerprint, node, request.patches, request.images, request.drawn)
    file = run.folder / f"layer-{key_of(node)[:16]}.npz"
    known = kept(file, ask.LayerSeen, key)
    if known is not None:
        return known
    check_layer(model, node)
    fact = next(each for each in model.plan.facts(model.preprocessor.settings.shape) if each.name == node)
    if len(fact.shape) != 3:
        raise BadValue(f"{node} has no feature maps", "its output is one row of values", "Choose a layer before it")
    training = data.members("training")
    members = data.drawn(training, request.images)
    collected = Excitement(request.patches)
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        probe = Probe(predictor)
        for first in range(0, len(members), PIECE):
            yield Progress(first, len(members), "looking for patches")
            part = members[first : first + PIECE]
            collected.add(probe.outputs(node, predictor.prepare(data.pixels[part])))
        strongest = collected.strongest()
        chosen = members[np.linspace(0, len(members) - 1, min(SPEAKING, len(members))).astype(int)]
        speaks = speaks_for(probe, predictor.prepare(data.pixels[chosen]), node)
        matter = np.argsort(-np.abs(speaks).max(axis=0), kind="stable")[: request.drawn]
        drawn = []
        for number, channel in enumerate(matter):
            yield Progress(number, len(matter), "drawing what excites a channel")
            drawn.append(_shown(synthetic(probe.network, node, int(channel))))
    side = min(fact.receptive_field or data.pixels.shape[1], data.pixels.shape[1])
    cut = np.empty((*strongest.images.shape, side, side, data.pixels.shape[3]), np.uint8)
    for channel, each in enumerate(strongest.images):
        for k, at in enumerate(each):
            row, column = int(strongest.rows[channel, k]), int(strongest.columns[channel, k])
            cut[channel, k] = patch(data.pixels[members[at]], fact, row, column)
    rows = data.collection.rows
    seen = ask.LayerSeen(
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
        model.weights.get(node, {}),
    )
    keep(file, seen, key)
    return seen


def _shown(image: Array) -> NDArray[np.uint8]:
    """Prepared levels about mid-grey."""
    return (128 + 50 * image).clip(0, 255).astype(np.uint8)


def neighbours(request: ask.Neighbours) -> Job[ask.NeighboursFound]:
    """See `Neighbours`."""
    place = Workspace.open(Path(request.workspace))
    model, data = yield from model_and_data(place, place.run(request.run))
    at = data.place(request.image)
    node = request.layer or last_layer(model)
    check_layer(model, node)
    members = data.members("training")
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        image = predictor.prepare(data.pixels[at][None])
        said = int(predictor.said(predictor.scores(image))[0])
        query = predictor.outputs(node, image).reshape(-1)
        parts = []
        for first in range(0, len(members), PIECE):
            yield Progress(first, len(members), "asking the layer about training images")
            part = members[first : first + PIECE]
            outs = predictor.outputs(node, predictor.prepare(data.pixels[part]))
            parts.append(outs.reshape(len(part), -1))
    features = np.concatenate(parts)
    labels = {"said": said, "true": int(data.labels[at])}
    near: dict[str, tuple[ask.Near, ...]] = {}
    for key, label in labels.items():
        of_class = np.flatnonzero((data.labels[members] == label) & (members != at))
        order, gaps = nearest(features[of_class], query, request.count)
        numbers = [data.collection.rows[members[of_class[k]]].number for k in order]
        near[key] = tuple(ask.Near(number, float(gap)) for number, gap in zip(numbers, gaps, strict=True))
    classes = {key: model.classes[label] for key, label in labels.items()}
    return ask.NeighboursFound(request.image, node, classes, near)


def try_changes(request: ask.TryChanges) -> Job[ask.Tried]:
    """See `TryChanges`; if asked, also the smallest square whose covering changes the answer."""
    place = Workspace.open(Path(request.workspace))
    model, data = yield from model_and_data(place, place.run(request.run), request.image)
    pixels = data.pixels[data.place(request.image)]
    changed = [_changed(pixels, change) for change in request.changes]
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        images = predictor.prepare(np.stack([pixels, *changed]))
        scores = predictor.scores(images)
        answers, said = predictor.checked(scores), predictor.said(scores)
        search = (yield from smallest_cover(Probe(predictor), images[0])) if request.smallest else None
    rows = [
        ask.TriedChange(dict(change), model.classes[label], by_class(model.classes, row))
        for change, label, row in zip(({}, *request.changes), said.tolist(), answers, strict=True)
    ]
    cover = _cover(search, model.classes) if search is not None else None
    shown = np.stack(changed) if changed else np.zeros((0, *pixels.shape), np.uint8)
    return ask.Tried(request.image, rows[0], tuple(rows[1:]), cover, shown)


def _cover(search: Search, classes: tuple[str, ...]) -> ask.SmallestCover:
    cover = search.cover
    if cover is None:
        return ask.SmallestCover(search.complete)
    said = classes[cover.said]
    return ask.SmallestCover(search.complete, cover.pixels, cover.row, cover.column, cover.side, said)


def _changed(pixels: NDArray[np.uint8], change: PlainTable) -> NDArray[np.uint8]:
    rest = dict(change)
    kind = str(rest.pop("change", ""))
    if kind not in CHANGES:
        raise unknown_word("change", kind, frozenset(CHANGES))
    try:
        settings = {name: float(str(value)) for name, value in rest.items()}
        if not all(np.isfinite(value) for value in settings.values()):
            raise ValueError("not finite")
        for name, value in settings.items():
            low, high = LIMITS.get(name, (-np.inf, np.inf))
            if not low <= value <= high:
                why = f"its {name} is {low:g} to {high:g}, got {value:g}"
                raise BadUsage(f"The change {kind} could not be made", why, "Choose one in between")
        return CHANGES[kind](pixels, **settings)
    except (TypeError, ValueError, OverflowError):
        names = CHANGES[kind].__code__.co_varnames[1 : CHANGES[kind].__code__.co_argcount]
        raise BadUsage(
            f"The change {kind} could not be made", f"it takes {', '.join(names)} as numbers", "Give these"
        ) from None


def channels(request: ask.Channels) -> Job[ask.ChannelSeen]:
    """See `Channels`."""
    node, number = request.layer, request.channel
    place = Workspace.open(Path(request.workspace))
    model, data = yield from model_and_data(place, place.run(request.run), request.image)
    at = data.place(request.image)
    check_layer(model, node)
    if node == model.plan.nodes[-1].name:
        why = "its values are the answers themselves"
        raise BadValue(f"{node} has no channels to switch off", why, "Choose a layer before it")
    predictor = Predictor.of(model)
    probe = Probe(predictor)
    image = predictor.prepare(data.pixels[at][None])[0]
    said, true = int(probe.said(probe.scores(image[None]))[0]), int(data.labels[at])
    targets = Targets.classes([said], probe.classes)
    if said != true:
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
    return ask.ChannelSeen(
        node,
        number,
        "said − true" if said != true else model.classes[said],
        model.classes[said],
        model.classes[true],
        tuple(ask.ChannelEffects(k, float(adds[k]), float(first_order[k])) for k in order),
        tuple(ask.AnswerAt(f, by_class(model.classes, row)) for f, row in zip(FACTORS, rows, strict=True)),
    )
