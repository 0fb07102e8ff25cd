"""Drawings beside real images, by what a trained network sees in both."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.random import random_generator
from attentive_lens.desk.images.data import Data
from attentive_lens.desk.network.bases import base_file
from attentive_lens.desk.requests.drawing import PICTURES
from attentive_lens.desk.requests.fidelity import Fidelity, MeasureFidelity, Nearness
from attentive_lens.desk.results.drawing_files import check_ending, sheet, write_picture
from attentive_lens.desk.results.models import AT_ONCE, THREADS, last_layer, model_and_data, model_of, model_of_run
from attentive_lens.desk.tasks.drawing import coder_of, random_codes
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadUsage, BadValue, LensError
from attentive_lens.explaining.linear_probe import pooled
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.display import usual_display
from attentive_lens.images.pixel_format import COLOURS, GREY, PixelArray, are_ordinary
from attentive_lens.images.preprocessing import resized
from attentive_lens.plan.base import SHELF, Base
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.distributions import covered, frechet, nearest
from attentive_lens.workspace import Workspace

FEWEST = 20
"""Images, at least, of which anything is said."""
USUAL = f"{SHELF}motifs"
COPY = 0.01
"""Part of the validation images that are nearer to a training image than what counts as a copy."""
SEEN_CELLS = 1
Looked: TypeAlias = tuple[Array, NDArray[np.intp] | None]
"""Features N×D of images, and the classes said of them."""


@dataclass(frozen=True)
class Seer:
    """By what images are compared: a model, what it is called, and its layer; and what those images' channels are."""

    model: ModelFile
    words: str
    layer: str
    channels: tuple[str, ...]

    def looks(self, predictor: Predictor, images: PixelArray) -> Looked:
        """Features N×D of images N×H×W×C of any size, and the classes said N; None if it answers none.

        A model of ordinary pictures sees those channels of other images that are shown first, see `usual_display`.
        """
        settings, channels = predictor.preprocessor.settings, self.channels
        if not settings.channel_names and not are_ordinary(channels):
            places = usual_display(channels).chosen(images.shape[-1])
            images, channels = images[..., places], COLOURS if len(places) == len(COLOURS) else GREY
        fitted = np.stack([resized(image, settings, channels) for image in images])
        prepared = predictor.prepare(fitted)
        rows = pooled(predictor.outputs(self.layer, prepared), SEEN_CELLS)
        return rows, None if self.model.draws else predictor.predicted(predictor.scores(prepared))


def measure(request: MeasureFidelity) -> Job[Fidelity]:
    """See `MeasureFidelity`."""
    check_ending(request.file, PICTURES)
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    drawing = model_of_run(run)
    coder = coder_of(drawing, run.number)
    seer = _seer(place, request, drawing)
    model, data = yield from model_and_data(place, run)
    members = data.drawn(data.members(request.on), request.count)
    if len(members) < FEWEST:
        why = f"the {request.on} set has {len(members)} images, and {FEWEST} are needed"
        raise BadValue("Drawings cannot be compared", why, "Choose a larger set")
    training = data.members("training")
    random = random_generator(request.seed, "codes for samples")
    codes = yield from random_codes(place, run, coder, random, len(members))
    labels = data.labels[members] if coder.classes else np.full(len(members), -1)
    with ThreadPool(THREADS) as pool:
        predictor = Predictor.of(seer.model, pool)
        parts = []
        for first in range(0, len(codes), AT_ONCE):
            own = slice(first, first + AT_ONCE)
            parts.append(model.preprocessor.pixels(coder.decode(codes[own], pool, labels[own])))
            yield Progress(first, len(codes), "drawing")
        drawn = np.concatenate(parts)
        seen, said = yield from _seen(seer, predictor, drawn, "looking at drawings")
        real, said_of_real = yield from _of_data(seer, predictor, data, members)
        taught, _ = (
            (real, None)
            if request.on == "training" and len(members) == len(training)
            else (yield from _of_data(seer, predictor, data, training))
        )
        held_out, _ = yield from _of_data(seer, predictor, data, data.drawn(data.members("validation"), request.count))
    places, gaps = nearest(seen, taught)
    usual = nearest(held_out, taught)[1][:, 0] if len(held_out) else np.zeros(0)
    near = float(np.quantile(usual, COPY)) if len(usual) else 0.0
    shown = slice(0, request.most)
    accuracy, by_class = _accuracy(seer, model, labels, said)
    of_real, _ = _accuracy(seer, model, data.labels[members], said_of_real)
    beside = np.asarray(data.pixels[training[places[shown, 0]]])
    if request.file:
        pairs = np.stack([drawn[shown], beside], axis=1).reshape(-1, *drawn.shape[1:])
        write_picture(Path(request.file), sheet(pairs, 2 * max(1, round(math.sqrt(len(pairs) / 4)))))
    half, other = slice(0, None, 2), slice(1, None, 2)
    return Fidelity(
        run.number,
        request.on,
        seer.words,
        seer.layer,
        len(members),
        len(drawn),
        _nearness(seen, real),
        (_nearness(seen[half], real[half]), _nearness(seen[other], real[other])),
        _nearness(real[half], real[other]),
        float((gaps[:, 0] < near).mean()) if len(usual) else None,
        accuracy,
        by_class,
        None if accuracy is None else of_real,
        model.classes,
        request.file,
        labels[shown],
        np.array([data.collection.rows[k].number for k in training[places[shown, 0]]], np.int64),
        gaps[shown, 0] / max(1e-12, float(np.median(usual)) if len(usual) else float(np.median(gaps))),
        drawn[shown],
        beside,
    )


def _seer(place: Workspace, request: MeasureFidelity, drawing: ModelFile) -> Seer:
    """By what is compared that a model draws."""
    named = request.features.strip()
    if not named:
        named = next((str(run.number) for run in reversed(place.runs()) if _answers(run.model)), USUAL)
    if named.isascii() and named.isdigit() and len(named) < 10:
        model, words = model_of_run(place.run(int(named))), f"run {int(named)}"
    else:
        base = Base(model=named)
        model, words = model_of(base_file(place, base)), base.words
    if model.plan.meeting:
        why = f"the network of {words} draws of noise"
        raise BadUsage("Images cannot be compared by it", why, "Name a run that answers classes, or a model")
    layer = model.plan.code.after[0] if model.draws else last_layer(model)
    own = drawing.preprocessor.settings
    return Seer(model, words, layer, own.channel_names or (COLOURS if own.is_colour else GREY))


def _answers(file: Path) -> bool:
    """Whether a model answers classes."""
    try:
        return not model_of(file).draws
    except LensError:
        return False


def _nearness(drawn: Array, real: Array) -> Nearness:
    return Nearness(frechet(drawn, real), covered(drawn, real), covered(real, drawn))


def _of_data(seer: Seer, predictor: Predictor, data: Data, members: NDArray[np.int64]) -> Job[Looked]:
    return (yield from _seen(seer, predictor, np.asarray(data.pixels[members]), "looking at images"))


def _seen(seer: Seer, predictor: Predictor, images: PixelArray, doing: str) -> Job[Looked]:
    """Features of images, and the classes said of them."""
    rows, said = [], []
    for first in range(0, len(images), AT_ONCE):
        yield Progress(first, len(images), doing)
        features, predicted = seer.looks(predictor, images[first : first + AT_ONCE])
        rows.append(features)
        if predicted is not None:
            said.append(predicted)
    if not rows:
        return np.zeros((0, 1), np.float32), None
    return np.concatenate(rows), np.concatenate(said) if said else None


def _accuracy(
    seer: Seer, model: ModelFile, labels: NDArray[np.int64], said: NDArray[np.intp] | None
) -> tuple[float | None, dict[str, float]]:
    """How often drawings are taken for the class they were to be, in all and by class."""
    if said is None or (labels < 0).all() or not set(model.classes) <= set(seer.model.classes):
        return None, {}
    numbers = np.array([seer.model.classes.index(name) for name in model.classes])
    known = labels >= 0  # of images whose class the run does not know nothing was to be drawn
    right = said[known] == numbers[labels[known]]
    labels = labels[known]
    by_class = {name: float(right[labels == k].mean()) for k, name in enumerate(model.classes) if (labels == k).any()}
    return float(right.mean()), by_class
