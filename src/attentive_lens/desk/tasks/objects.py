"""The task that tells whether answers rest on the objects."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.core.random import some_of
from attentive_lens.desk.images.collection import Library, collection
from attentive_lens.desk.images.data import Data, fingerprint_of
from attentive_lens.desk.images.outlines import covered_at, known_outlines
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.objects import MeasureObjects, ObjectImage, ObjectRow, ObjectsMeasured
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.results.models import THREADS, model_and_data
from attentive_lens.desk.tasks.choosing import method_for
from attentive_lens.desk.tasks.scoring import score
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import NotHere
from attentive_lens.explaining.objects import ObjectTrial, most_images, share_inside, strongest, try_objects
from attentive_lens.explaining.probe import Probe
from attentive_lens.explaining.saliency import MapMethod
from attentive_lens.explaining.trust import blank
from attentive_lens.formats.reading import read_model
from attentive_lens.images.outlines import Outline, is_inside
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.answers import Answer
from attentive_lens.scoring.intervals import interval_of_mean
from attentive_lens.scoring.measures import Share
from attentive_lens.workspace import Run, Workspace

MOST = 600
"""Wrong answers, and right ones, that are looked at, at most."""


@dataclass(frozen=True)
class _Looked:
    """Images N and what was measured of them: see `ObjectImage`; ``pointed`` with the object, and with others'."""

    answers: list[Answer]
    area: NDArray[np.float64]
    shares: NDArray[np.float64]
    pointed: NDArray[np.float64]
    trial: ObjectTrial
    on_rest: NDArray[np.bool_]
    units: NDArray[np.int64]

    @property
    def right(self) -> NDArray[np.bool_]:
        return np.array([each.predicted == each.true for each in self.answers], bool)


def measure_objects(request: MeasureObjects) -> Job[ObjectsMeasured]:
    """See `MeasureObjects`; kept beside the run."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    outlines = known_outlines(place)
    file = run.folder / f"objects-{request.on}{run.of_label}.npz"
    key = _key(place, run, request, outlines)
    known = stored(file, ObjectsMeasured, key)
    if known is not None:
        return known
    scores = yield from score(Score(request.workspace, request.run, request.on))
    model, data = yield from model_and_data(place, run)
    outlined = [each for each in scores.answers if each.image in outlines]
    if not outlined:
        why = f"no {request.on} image has an outline"
        raise NotHere("What answers rest on cannot be told", why, "Draw outlines, or take them from mask pictures")
    wrong = [each for each in outlined if each.predicted != each.true]
    right = [each for each in outlined if each.predicted == each.true]
    most = min(MOST, most_images(np.asarray(data.pixels[:1])) // 2)
    chosen = [
        *(wrong[k] for k in some_of(len(wrong), most, "wrong answers")),
        *(right[k] for k in some_of(len(right), most, "right answers")),
    ]
    method = yield from method_for(request.method, RunImage(request.workspace, request.run, 0), model)
    units = Library.read(place).units(run.plan())
    with ThreadPool(THREADS) as thread_pool:
        looked = yield from _looked(Predictor.of(model, thread_pool), method, data, outlines, chosen, units)
    classes = model.classes
    rows = [_row(looked, "", right, np.ones(len(chosen), bool)) for right in (True, False)]
    true = np.array([each.true for each in chosen])
    rows += [_row(looked, name, right, true == k) for k, name in enumerate(classes) for right in (True, False)]
    images = [
        ObjectImage(
            answer.image,
            classes[answer.true],
            classes[answer.predicted],
            classes[looked.trial.without[k]],
            classes[looked.trial.alone[k]],
            float(looked.area[k]),
            _number(looked.shares[k, 0]),
            _number(looked.shares[k, 1]),
            _number(looked.trial.rest[k]),
            _number(looked.trial.object[k]),
            bool(looked.on_rest[k]),
        )
        for k, answer in enumerate(chosen)
    ]
    images.sort(key=lambda each: (not each.on_rest, -(each.rest or 0), (each.share or 0) - (each.elsewhere or 0)))
    result = ObjectsMeasured(
        request.run,
        request.on,
        request.method,
        len(scores.answers),
        len(outlined),
        tuple(row for row in rows if row is not None),
        tuple(images),
    )
    if key == _key(
        place, run, request, known_outlines(place)
    ):  # else somebody changed an outline or an image meanwhile
        keep(file, result, key)
    return result


def _number(value: float) -> float | None:
    return None if np.isnan(value) else float(value)


def _key(place: Workspace, run: Run, request: MeasureObjects, outlines: dict[int, Outline]) -> str:
    split = collection(place, run.plan(), run)
    fingerprint = fingerprint_of(place, split, read_model(run.model).preprocessor.settings)
    units = Library.read(place).units(run.plan()).tobytes()
    return key_of("objects", run.model, fingerprint, request.on, request.method.write_kind(), repr(outlines), units)


def _looked(
    predictor: Predictor,
    method: MapMethod,
    data: Data,
    outlines: dict[int, Outline],
    answers: list[Answer],
    units: NDArray[np.int64],
) -> Job[_Looked]:
    probe = Probe(predictor)
    untrained = blank(probe)
    places = np.array([data.place(each.image) for each in answers], np.int64)
    rows = [data.collection.rows[k] for k in places]
    settings = predictor.preprocessor.settings
    pixels = np.asarray(data.pixels[places])
    covered = np.stack([covered_at(row, outlines[row.number], settings) for row in rows])
    elsewhere = (covered.sum(axis=0) - covered) / max(1, len(covered) - 1)
    shares, pointed = np.empty((len(rows), 3)), np.empty((len(rows), 2))
    for k, answer in enumerate(answers):
        if k % 8 == 0:
            yield Progress(k, 2 * len(rows), "explaining images with outlines")
        image = predictor.prepare(pixels[k][None])[0]
        targets = probe.against_next(image, answer.predicted)
        map_, random_map = (method.maps(each, image, targets)[0] for each in (probe, untrained))
        shares[k] = (
            share_inside(map_, covered[k]),
            share_inside(map_, elsewhere[k]),
            share_inside(random_map, covered[k]),
        )
        at = strongest(map_)
        pointed[k] = float(is_inside(covered[k])[at]), float(elsewhere[k][at])
    predicted = np.array([each.predicted for each in answers], np.int64)
    true = np.array([each.true for each in answers], np.int64)
    trial = yield from try_objects(predictor, pixels, covered, predicted, true)
    area = covered.mean(axis=(1, 2), dtype=np.float64)
    return _Looked(answers, area, shares, pointed, trial, trial.on_rest(predicted), units[places])


def _row(looked: _Looked, name: str, right: bool, members: NDArray[np.bool_]) -> ObjectRow | None:
    """Of some of the images; None where there are none."""
    here = np.flatnonzero(members & (looked.right == right))
    if not len(here):
        return None
    speaking = here[~np.isnan(looked.shares[here]).any(axis=1)]  # the others' maps are zero
    share = looked.shares[speaking]
    low, high = interval_of_mean(share[:, 0], looked.units[speaking]) if len(speaking) else (0.0, 1.0)
    means = share.mean(axis=0) if len(speaking) else np.zeros(3)
    predicted = np.array([looked.answers[k].predicted for k in here])
    probability = looked.trial.probability[here].mean(axis=0)
    return ObjectRow(
        name,
        right,
        len(here),
        float(looked.area[here].mean()),
        float(means[0]),
        max(0.0, low),
        min(1.0, high),
        float(means[1]),
        float(means[2]),
        float(looked.pointed[here, 0].mean()),
        *Share.by_group(looked.pointed[here, 0] > 0, looked.units[here]).bounds,
        float(looked.pointed[here, 1].mean()),
        float((looked.trial.without[here] == predicted).mean()),
        float((looked.trial.alone[here] == predicted).mean()),
        float(probability[0]),
        float(probability[1]),
        float(probability[2]),
        int(looked.on_rest[here].sum()),
    )
