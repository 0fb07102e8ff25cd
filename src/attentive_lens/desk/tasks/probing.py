"""The task that asks whether a base helps, before anything is trained on it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.core.random import some_of
from attentive_lens.desk.images.data import Data, fingerprint_of, gather
from attentive_lens.desk.network.bases import base_file, base_model, learned_from
from attentive_lens.desk.network.beginnings import FROZEN, LEARNING, NEW, Extent, Trained, compared, extent_of
from attentive_lens.desk.requests.bases import (
    DOES_NOT,
    HELPS,
    UNKNOWN,
    BaseProbe,
    ProbeBase,
    ProbedLayer,
    WaysCompared,
    WayTried,
)
from attentive_lens.desk.results.models import THREADS
from attentive_lens.desk.tasks.scoring import scored_anew
from attentive_lens.desk.training.executing import execute
from attentive_lens.engine.arrays import DTYPES, Array
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue
from attentive_lens.explaining.linear_probe import linear_probe, pooled
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.advantage import advantage
from attentive_lens.workspace import Run, Workspace

MOST = 400
"""Training images that are learned from, and validation images that judge, at most."""
FEWEST = 20
"""Validation images that the base was not trained with; with fewer the training images judge, one left out a time."""
KNOWS = 2.0
"""Standard errors by which a layer must be ahead of random weights and of the pixels to know more than they."""
WORTH = 0.02
"""Advantage at the end of which a base helps: so much of it, or more, must be sure."""
AT_ONCE = 16
PIXELS = 16
"""Rows and columns to which images are averaged for a probe of the pixels."""


def probe(request: ProbeBase) -> Job[BaseProbe]:
    """See `ProbeBase`."""
    place, plan = Workspace.open(Path(request.workspace)), Plan.read(request.plan)
    model = base_model(place, plan)
    if plan.base is None or model is None:
        raise BadValue("The plan has no base", "there is nothing to ask", "Name a run or a model file")
    data = yield from gather(place, plan, preprocessing=model.preprocessor.settings)
    seen = learned_from(place, plan.base)
    unseen = [k for k in data.members("validation").tolist() if data.collection.rows[k].number not in seen]
    training, validation = (
        members[some_of(len(members), MOST, "images to probe with")]
        for members in (data.members("training"), np.array(unseen, np.int64))
    )
    validation = validation if len(validation) >= FEWEST else validation[:0]
    if len(training) < 2:
        raise BadValue("The base cannot be asked", f"the training set has {len(training)} images", "Add images")
    places = np.concatenate([training, validation])
    network = Network.start(model.plan, model.preprocessor.settings.shape, plan.seed, DTYPES[plan.training.precision])
    measured = Preprocessor.measured(Chosen(data.pixels, data.members("training")), model.preprocessor.settings)
    layers = _ends(model, plan.base.until)
    accuracies: dict[tuple[str, str], float] = {}
    with ThreadPool(THREADS) as thread_pool:
        for word, preprocessor in _statistics(model.preprocessor, measured):
            predictor = Predictor(model.network(), preprocessor, model.classes, model.output, thread_pool)
            for layer, features in (yield from _features(predictor, data, places, layers)).items():
                accuracies[word, layer] = _accuracy(features, data, training, validation)
        predictor = Predictor(network, measured, model.classes, model.output, thread_pool)
        drawn = yield from _features(predictor, data, places, layers)
        untrained = max(_accuracy(features, data, training, validation) for features in drawn.values())
    pixels = _accuracy((yield from _pixels(data, places)), data, training, validation)
    probed = tuple(ProbedLayer(layer, word, accuracy) for (word, layer), accuracy in accuracies.items())
    chosen = next((p for p in probed if (p.layer, p.statistics) == (plan.base.until, plan.base.statistics)), probed[0])
    judged_by = len(validation) or len(training)
    best = _best(probed, chosen, judged_by)
    advice = advice_of(plan.base.words, chosen, best, untrained, pixels, judged_by)
    result = BaseProbe(plan.base.words, probed, chosen, best, untrained, pixels, len(training), judged_by, advice)
    return replace(result, compared=(yield from _compared(place, plan, data, seen, request.quick)))


def _compared(
    place: Workspace, plan: Plan, data: Data, seen: frozenset[int], known_only: bool
) -> Job[WaysCompared | None]:
    """The ways to begin, compared now or before on the same images by the same plan."""
    if plan.base is None:
        return None
    base = base_file(place, plan.base)
    fingerprint = fingerprint_of(place, data.collection, plan.preprocessing)
    key = key_of("ways to begin", replace(plan, name="plan").write(), base, fingerprint)
    file = place.cache / "probes" / f"{key[:16]}.npz"
    known = stored(file, WaysCompared, key)
    if known is not None or known_only:
        return known
    place.check_writable("Nothing was trained")
    extent = extent_of(place, plan, seen)
    trained = yield from compared(place, plan, extent, seen, _answered)
    result = judged(trained, extent)
    keep(file, result, key)
    return result


def _answered(place: Workspace, run: Run) -> Job[dict[int, bool]]:
    """Train a short plan, and say which images of its fold it answers rightly."""
    yield from execute(place, run, lambda: False)
    scores = yield from scored_anew(place, run, "validation")
    return {answer.image: answer.predicted == answer.true for answer in scores.answers}


def judged(trained: Mapping[str, Trained], extent: Extent) -> WaysCompared:
    """What short trainings say of the base's ways beside new weights."""
    new = trained[NEW]
    ways = [WayTried(NEW, float(new.ended.mean()), float(new.halfway.mean()), 0.0, 0.0, 0.0, 0.0, new.seconds)]
    for word in (FROZEN, LEARNING):
        tried = trained[word]
        early, late = tried.halfway - new.halfway, tried.ended - new.ended
        ahead = advantage(early, late, 1 - new.ended, extent.doublings, extent.folds)
        accuracy, halfway = float(tried.ended.mean()), float(tried.halfway.mean())
        ways.append(WayTried(word, accuracy, halfway, ahead.gain, ahead.final, ahead.low, ahead.high, tried.seconds))
    verdict = UNKNOWN
    if max(each.low for each in ways[1:]) > WORTH:
        verdict = HELPS
    elif max(each.high for each in ways[1:]) < WORTH:
        verdict = DOES_NOT
    whole = round(extent.passes * 2**extent.doublings)
    return WaysCompared(tuple(ways), len(new.ended), extent.images, extent.passes, whole, verdict)


def _best(probed: tuple[ProbedLayer, ...], chosen: ProbedLayer, judged_by: int) -> ProbedLayer:
    """The most accurate; with other statistics than those chosen only where that is more than chance may give."""
    alike = max((layer for layer in probed if layer.statistics == chosen.statistics), key=lambda layer: layer.accuracy)
    best = max(probed, key=lambda layer: layer.accuracy)
    return best if best.accuracy - alike.accuracy >= _error(best.accuracy, judged_by) else alike


def _statistics(base: Preprocessor, measured: Preprocessor) -> list[tuple[str, Preprocessor]]:
    """The ways to standardise; one where nothing is measured."""
    ways = [("base", base), ("training images", measured)]
    return ways[:1] if base.settings.normalisation == "0-1" else ways


def advice_of(
    name: str, chosen: ProbedLayer, best: ProbedLayer, untrained: float, pixels: float, judged_by: int
) -> str:
    """What the accuracies say about building on the base."""
    figures = (
        f"A linear classifier on what «{chosen.layer}» of {name} gives is right on {chosen.accuracy:.0%} of"
        f" {judged_by} images; on layers with random weights {untrained:.0%}, on the pixels {pixels:.0%}"
    )
    error = _error(best.accuracy, judged_by)
    if best.accuracy - max(untrained, pixels) < KNOWS * error:
        return f"{figures}: frozen, it knows no more of these images than these do."
    if best.accuracy - chosen.accuracy >= error:
        whose = "" if best.statistics == chosen.statistics else f" with the statistics of the {best.statistics}"
        return f"{figures}. Better is «{best.layer}»{whose}: {best.accuracy:.0%}."
    return f"{figures}: frozen, it comes to about that; layers that learn on may get further."


def _error(accuracy: float, images: int) -> float:
    """Standard error of an accuracy."""
    return math.sqrt(max(accuracy * (1 - accuracy), 0.01) / images)


def _ends(model: ModelFile, until: str) -> tuple[str, ...]:
    """The last layer of every size of feature map, and the one that was chosen."""
    facts = [fact for fact in model.plan.facts(model.preprocessor.settings.shape) if len(fact.shape) == 3]
    last = {fact.shape[:2]: fact.name for fact in facts}
    names = set(last.values()) | {until}
    return tuple(node.name for node in model.plan.nodes if node.name in names)


def _features(
    predictor: Predictor, data: Data, places: NDArray[np.int64], layers: tuple[str, ...]
) -> Job[dict[str, Array]]:
    """What the layers give for some images, each as rows."""
    network, pool, watch = predictor.network, predictor.thread_pool, frozenset(layers)
    parts: dict[str, list[Array]] = {layer: [] for layer in layers}
    for first in range(0, len(places), AT_ONCE):
        yield Progress(first, len(places), "asking the base")
        images = predictor.prepare(data.pixels[places[first : first + AT_ONCE]])
        halves = [images[: AT_ONCE // 2], images[AT_ONCE // 2 :]]

        def piece(k: int, halves: list[Array] = halves) -> dict[str, Array]:
            outputs = network.forward(halves[k], watch=watch, ready=predictor.ready).outputs
            return {layer: pooled(outputs[layer]) for layer in layers}

        count = sum(bool(len(half)) for half in halves)
        for outputs in pool.each(piece, count) if pool is not None else map(piece, range(count)):
            for layer, rows in outputs.items():
                parts[layer].append(rows)
    return {layer: np.concatenate(rows) for layer, rows in parts.items()}


def _pixels(data: Data, places: NDArray[np.int64]) -> Job[Array]:
    parts: list[Array] = []
    for first in range(0, len(places), AT_ONCE):
        yield Progress(first, len(places), "looking at the pixels")
        parts.append(pooled(np.asarray(data.pixels[places[first : first + AT_ONCE]], np.float32), PIXELS))
    return np.concatenate(parts)


def _accuracy(features: Array, data: Data, training: NDArray[np.int64], validation: NDArray[np.int64]) -> float:
    split, classes = len(training), len(data.collection.taught)
    labels, truth = data.labels[training], data.labels[validation]
    return linear_probe(features[:split], labels, features[split:], truth, classes)
