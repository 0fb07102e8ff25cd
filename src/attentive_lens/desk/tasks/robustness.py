"""The task that asks a model about pictures made worse."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress, breathe
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.images.collection import Library
from attentive_lens.desk.requests.robustness import (
    Grade,
    MeasureRobustness,
    RobustnessMeasured,
    ShowWorse,
    Way,
    WorseInAWay,
    WorsePictures,
)
from attentive_lens.desk.results.models import AT_ONCE, THREADS, model_and_data
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import NotHere
from attentive_lens.explaining.degrading import DEGRADATIONS, Degradation
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.measures import Share
from attentive_lens.workspace import Workspace

PIECE = 8
"""Images made worse at once."""


def measure_robustness(request: MeasureRobustness) -> Job[RobustnessMeasured]:
    """See `MeasureRobustness`; kept beside the run, and told way by way while it works."""
    names = request.ways or tuple(DEGRADATIONS)
    for name in names:
        if name not in DEGRADATIONS:
            raise unknown_word("way", name, frozenset(DEGRADATIONS))
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    model, data = yield from model_and_data(place, run)
    facts = [(name, DEGRADATIONS[name].grades) for name in names]
    of_each = Library.read(place).units(run.plan(), copies=True)
    key = key_of("robustness", run.model, data.fingerprint, request.on, facts, request.most, of_each.tobytes())
    file = run.folder / f"robustness-{request.on}{run.of_label}.npz"
    known = stored(file, RobustnessMeasured, key)
    if known is not None:
        return known
    every = data.members(request.on)
    every = every[data.labels[every] >= 0]
    if not len(every):
        raise NotHere(f"There is no {request.on} set", "none of the images belongs to it", "Name another set")
    members = data.drawn(every, request.most)
    pixels, labels, units = np.asarray(data.pixels[members]), data.labels[members], of_each[members]
    numbers = [data.collection.rows[at].number for at in members]
    ways: list[Way] = []
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        right = _predicted(predictor, pixels) == labels

        def so_far() -> RobustnessMeasured:
            share = Share.by_group(right, units)
            return RobustnessMeasured(
                request.run, request.on, len(members), len(every), model.classes, share, tuple(ways)
            )

        total = sum(len(DEGRADATIONS[name].grades) for name in names)
        done = 0
        for name in names:
            way, grades = DEGRADATIONS[name], []
            for grade in way.grades:
                yield Progress(done, total, f"making pictures worse: {name}", so_far() if ways else None)
                predicted = _predicted(predictor, _worse(way, grade, pixels, numbers, thread_pool))
                broken = np.flatnonzero(right & (predicted != labels)).tolist()
                grades.append(
                    Grade(
                        float(grade),
                        Share.by_group(predicted == labels, units),
                        tuple(numbers[k] for k in broken),
                        tuple(int(predicted[k]) for k in broken),
                    )
                )
                done += 1
            ways.append(Way(name, way.what, way.unit, tuple(grades)))
    measured = so_far()
    keep(file, measured, key)
    return measured


def show_worse(request: ShowWorse) -> Job[WorsePictures]:
    """See `ShowWorse`."""
    place = Workspace.open(Path(request.workspace))
    _, data = yield from model_and_data(place, place.run(request.run), request.image)
    pixels = np.asarray(data.pixels[data.place(request.image)])
    ways = []
    for way in DEGRADATIONS.values():
        breathe()
        pictures = np.stack([way.apply(pixels, grade, request.image) for grade in way.grades])
        ways.append(WorseInAWay(way.what, way.unit, tuple(map(float, way.grades)), pictures))
    return WorsePictures(request.image, tuple(ways))


def _worse(
    way: Degradation, grade: float, pixels: PixelArray, numbers: list[int], thread_pool: ThreadPool
) -> PixelArray:
    made = np.empty_like(pixels)

    def piece(k: int) -> None:
        for at in range(k * PIECE, min(len(pixels), (k + 1) * PIECE)):
            made[at] = way.apply(pixels[at], grade, numbers[at])

    thread_pool.each(piece, -(-len(pixels) // PIECE))
    return made


def _predicted(predictor: Predictor, pixels: PixelArray) -> NDArray[np.intp]:
    parts = []
    for first in range(0, len(pixels), AT_ONCE):
        breathe()
        parts.append(predictor.predicted(predictor.scores(predictor.prepare(pixels[first : first + AT_ONCE]))))
    return np.concatenate(parts)
