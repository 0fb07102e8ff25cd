"""Tasks that make many maps: every method for one image, and what each class rests on."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.random import some_of
from attentive_lens.desk.images.data import Data
from attentive_lens.desk.requests.maps import (
    ClassesRest,
    ClassMaps,
    ImageMaps,
    MapByMethod,
    MapImages,
    Maps,
    MapsMade,
    PlaceTrial,
    RestsOn,
)
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.results.models import THREADS, answered_image, class_number, last_layer, model_and_data
from attentive_lens.desk.tasks.choosing import method_for
from attentive_lens.desk.tasks.scoring import score
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue, LensError, NotHere
from attentive_lens.explaining.causes.base import FEWEST
from attentive_lens.explaining.causes.grouping import Group, grouped, in_cells
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.explaining.probe import Probe, Targets, contrast_targets, contrasts
from attentive_lens.explaining.saliency import MapMethod
from attentive_lens.explaining.trials import Trial, tried
from attentive_lens.explaining.trust import blank, gains, rivals_of
from attentive_lens.images.pixel_format import levels, of_levels
from attentive_lens.plan.augmentation import MaskPlace
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

OTHERS = 64
"""Images of other classes into which a place is put, at most."""


def maps(request: Maps) -> Job[MapsMade]:
    """See `Maps`."""
    answered = yield from answered_image(request.subject)
    wanted = sorted(request.methods or [method() for method in MAP_METHODS.values()], key=lambda each: each.slow)
    classes = answered.model.classes
    target, against = (
        class_number(answered.model, name) if name else None for name in (request.target, request.against)
    )
    made: list[MapByMethod] = []
    methods: list[MapMethod] = []
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(answered.model, thread_pool)
        probe = Probe(predictor)
        image = predictor.prepare(answered.pixels[None])[0]
        scores = probe.scores(image[None])
        label = target if target is not None else int(probe.predicted(scores)[0])
        pair = (label, against) if against is not None else contrasts(scores[0], [label])[0]
        targets = contrast_targets([pair], probe.classes)
        result = MapsMade(answered.number, answered.file, classes[label], request.against, ())
        for number, settings in enumerate(wanted):
            yield Progress(number, len(wanted), "asking every method", replace(result, maps=tuple(made)))
            method = yield from method_for(settings, request.subject, answered.model)
            methods.append(method)
            made.append(_made(method, probe, image, targets))
        there = [k for k, each in enumerate(made) if each.values is not None and each.values.any()]
        if there and not request.against:
            so_far = replace(result, maps=tuple(made))
            yield Progress(len(wanted), len(wanted) + 1, "deleting and restoring pixels", so_far)
            values: NDArray[np.float32] = np.stack([np.asarray(made[k].values) for k in there])
            empty, rivals = blank(probe), []
            for k, value in zip(there, values, strict=True):
                rivals += rivals_of(methods[k], probe, image, targets, value[None], empty)
            for k, gain in zip(there, gains(probe, image, values, [pair] * len(there), rivals), strict=True):
                made[k] = replace(made[k], passed=gain.passed)
            result = replace(result, tested=True)
    return replace(result, maps=tuple(made))


def _made(method: MapMethod, probe: Probe, image: NDArray[np.float32], targets: Targets) -> MapByMethod:
    try:
        values = method.maps(probe, image, targets)[0]
    except LensError as error:
        return MapByMethod(method.settings, None, error.why)
    if not np.isfinite(values).all():
        return MapByMethod(method.settings, None, "some of its values are no numbers")
    return MapByMethod(method.settings, values)


def map_images(request: MapImages) -> Job[ImageMaps]:
    """See `MapImages`."""
    place = Workspace.open(Path(request.workspace))
    model, data = yield from model_and_data(place, place.run(request.run))
    method = yield from method_for(request.method, RunImage(request.workspace, request.run, 0), model)
    result = np.zeros((len(request.images), *model.preprocessor.settings.sides), np.float32)
    with ThreadPool(THREADS) as thread_pool:
        probe = Probe(Predictor.of(model, thread_pool))
        for number, image in enumerate(request.images):
            yield Progress(number, len(request.images), "explaining images")
            prepared = probe.predictor.prepare(data.pixels[data.place(image)][None])
            result[number] = method.maps(probe, prepared[0], probe.against_next(prepared[0]))[0]
    return ImageMaps(request.images, result)


def class_maps(request: ClassMaps) -> Job[ClassesRest]:
    """See `ClassMaps`."""
    if request.images < 1:
        why = f"at least 1 image of each is looked at, got {request.images}"
        raise BadValue("The classes could not be looked at", why, "Choose more")
    place = Workspace.open(Path(request.workspace))
    scores = yield from score(Score(request.workspace, request.run, request.on))
    model, data = yield from model_and_data(place, place.run(request.run))
    method = yield from method_for(request.method, RunImage(request.workspace, request.run, 0), model)
    right = np.array([data.place(a.image) for a in scores.answers if a.predicted == a.true], np.int64)
    if not len(right):
        why = f"run {request.run} answers no {request.on} image rightly"
        raise NotHere("There is nothing that classes rest on", why, "Choose another set or another run")
    rests = []
    with ThreadPool(THREADS) as thread_pool:
        probe = Probe(Predictor.of(model, thread_pool))
        for label, name in enumerate(model.classes):
            members = right[data.labels[right] == label]
            others = right[data.labels[right] != label]
            members = members[some_of(len(members), request.images, f"right answers of class {label}")]
            others = others[some_of(len(others), OTHERS, f"others than class {label}")]
            if len(members):
                doing = f"explaining right answers of {name}"
                yield Progress(label, len(model.classes), doing)
                rests.append((yield from _rests_on(probe, method, data, label, (members, others), last_layer(model))))
    return ClassesRest(request.run, request.on, request.method, tuple(rests))


def _rests_on(
    probe: Probe,
    method: MapMethod,
    data: Data,
    label: int,
    chosen: tuple[NDArray[np.int64], NDArray[np.int64]],
    layer: str,
) -> Job[RestsOn]:
    """What the right answers of one class rest on; ``chosen`` are places of its images and of others'."""
    members, others = chosen
    pixels = np.asarray(data.pixels[members])
    maps, features = [], []
    for number, image in enumerate(probe.predictor.prepare(pixels)):
        if number % 8 == 0:
            yield Progress(number, len(members), f"explaining right answers of {probe.predictor.classes[label]}")
        maps.append(method.maps(probe, image, probe.against_next(image, label))[0])
        features.append(probe.outputs(layer, image[None])[0].reshape(-1))
    strength = np.maximum(np.stack(maps), 0)
    sums = strength.sum(axis=(1, 2), keepdims=True)
    mean_map = (strength / np.where(sums > 0, sums, 1)).mean(axis=0)
    group = _aside(np.stack(maps), np.stack(features))
    order = np.arange(len(members))
    trial = None
    if group is not None:
        order = np.concatenate([group.members, np.setdiff1d(order, group.members)])
        spot = (group.row, group.column, MaskPlace().side)
        other_pixels = np.asarray(data.pixels[others])
        trial = tried(
            probe.predictor, pixels[group.members], other_pixels, data.labels[others].astype(np.int64), label, spot
        )
        row, column = group.row, group.column
    else:
        cells = in_cells(mean_map.astype(np.float32))
        row, column = ((k + 0.5) / len(cells) for k in np.unravel_index(int(cells.argmax()), cells.shape))
    rows = data.collection.rows
    together = len(group.members) if group is not None else 0
    return RestsOn(
        probe.predictor.classes[label],
        tuple(rows[members[k]].number for k in order.tolist()),
        of_levels(levels(pixels).mean(axis=0), pixels.dtype),
        mean_map.astype(np.float32),
        float(row),
        float(column),
        together,
        None if trial is None else _told(trial),
        _in_words(together, len(members), (float(row), float(column)), trial) if sums.any() else _nothing(len(members)),
    )


def _aside(maps: NDArray[np.float32], features: NDArray[np.float32]) -> Group | None:
    """The largest group of them that rests on one place aside."""
    return next(
        (group for group in grouped(maps, features) if group.at_one_place and len(group.members) >= FEWEST), None
    )


def _told(trial: Trial) -> PlaceTrial:
    return PlaceTrial(trial.covered, trial.covered_elsewhere, trial.pasted, trial.pasted_elsewhere, trial.decides)


def _nothing(of: int) -> str:
    return f"the maps of {of} right answer{'s' * (of != 1)} are zero everywhere: the method finds nothing they rest on"


def _in_words(together: int, of: int, at: tuple[float, float], trial: Trial | None) -> str:
    if of < FEWEST:
        return f"{of} right answer{'s' * (of != 1)}: too few to tell what they rest on"
    if not together:
        return f"{of} right answers, at no one place aside from the middle"
    where = f"{together} of {of} right answers rest on one place, {at[0]:.0%} down and {at[1]:.0%} across"
    if trial is None:
        return f"{where}; too few images to try what comes of it"
    verdict = "the model goes by it" if trial.decides else "the model does not go by it alone"
    return (
        f"{where}: covering it turns {trial.covered:.0%} (mirrored {trial.covered_elsewhere:.0%}), putting it into"
        f" others makes {trial.pasted:.0%} of them this class (mirrored {trial.pasted_elsewhere:.0%}): {verdict}"
    )
