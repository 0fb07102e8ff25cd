"""The task that has a run answer to new images."""

from __future__ import annotations

import contextlib
from itertools import islice
from pathlib import Path

import numpy as np

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.requests.drift import TOGETHER
from attentive_lens.desk.requests.models import AnswerNew, NewAnswers, Prediction, Unreadable
from attentive_lens.desk.results.answering import Answering, image_files
from attentive_lens.desk.results.drift import DriftByDay, held_out
from attentive_lens.desk.results.familiar import Familiar, familiar
from attentive_lens.desk.results.models import AT_ONCE, THREADS, model_of_run
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import NotHere
from attentive_lens.images.ahead import read_files
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.scoring.drift import Drift
from attentive_lens.workspace import Workspace


def answer_new(request: AnswerNew) -> Job[NewAnswers]:
    """See `AnswerNew`; says what it has so far."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    model = model_of_run(run)
    places = [Path(name) for name in request.places]
    files = list(islice(image_files(places, model.preprocessor.pixel_format), request.most))
    known: Familiar | None = None
    days: DriftByDay | None = None
    with contextlib.suppress(NotHere):  # its images are gone or too few: the answers can be had all the same
        known = yield from familiar(place, run)
        days = DriftByDay((yield from held_out(place, run)))
    answers: list[Prediction] = []
    unreadable: list[Unreadable] = []
    shape = model.preprocessor.settings.shape
    pixels: list[PixelArray] = []

    def so_far(drift: Drift | None = None) -> NewAnswers:
        shown = np.stack(pixels) if pixels else np.zeros((0, *shape), model.preprocessor.pixel_format.dtype)
        return NewAnswers(tuple(answers), tuple(unreadable), shown, model.preprocessor.settings.caution_of_files, drift)

    with ThreadPool(THREADS) as thread_pool:
        answering = Answering(model, thread_pool, known, days)
        for first in range(0, len(files), AT_ONCE):
            yield Progress(first, len(files), "answering", so_far() if answers else None)
            read = read_files(model.preprocessor, files[first : first + AT_ONCE])
            pixels += [each.pixels for each in read if not isinstance(each.pixels, str)]
            for each in answering.answer(read, TOGETHER):
                if isinstance(each, Unreadable):
                    unreadable.append(each)
                else:
                    answers.append(each)
    return so_far(next(iter(days.days()), None) if days is not None else None)
