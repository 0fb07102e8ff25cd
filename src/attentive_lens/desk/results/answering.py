"""Answers to image files, however many: no more are held than the network needs."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

import numpy as np

from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.desk.results.drift import DriftByDay
from attentive_lens.desk.results.familiar import Familiar
from attentive_lens.desk.results.models import THREADS, by_class
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadFile
from attentive_lens.explaining.channel_statistics import channel_statistics
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.ahead import Read, read_ahead
from attentive_lens.images.decoding import suffixes
from attentive_lens.images.pages import each_page, parted
from attentive_lens.images.pixel_format import PICTURE, PixelArray, PixelFormat
from attentive_lens.plan.labels import label_set
from attentive_lens.predicting import Predictor


def image_files(places: Sequence[Path], pixel_format: PixelFormat = PICTURE) -> Iterator[str]:
    """The files (or pages, see `pages`) named, and those inside the folders named, in order.

    Where each page is an image, those of every file. A file that is named is taken whatever its ending.

    Folders are walked while their files are used: no list of all is made.

    Raises
    ------
    BadFile
        If a place does not exist, at once; or a folder holds no images, when it is reached.
    """
    for place in places:
        if not Path(parted(str(place))[0]).exists():
            raise BadFile(f"{place} could not be read", "there is no such file", "Check the path")
    return each_page(_walked(places), pixel_format)


def _walked(places: Sequence[Path]) -> Iterator[str]:
    for place in places:
        if not place.is_dir():
            yield str(place)
            continue
        result = False
        for folder, inner, names in os.walk(place):
            inner.sort()
            for name in sorted(names):
                if os.path.splitext(name)[1].lower() in suffixes():  # noqa: PTH122  # fast
                    result = True
                    yield os.path.join(folder, name)  # noqa: PTH118
        if not result:
            raise BadFile(f"{place} holds no images", "no file in it ends like one", "Name another folder")


class Answering:
    """A model that answers to files, batch by batch.

    Parameters
    ----------
    model : ModelFile
        Who answers.
    thread_pool : ThreadPool
        Who computes.
    familiar : Familiar, optional
        What it was trained on: each answer then says how unlike all of that its image is.
    days : DriftByDay, optional
        Where images are counted whose day is named.

    Raises
    ------
    BadValue
        If the model draws images, and answers no classes.
    """

    def __init__(
        self,
        model: ModelFile,
        thread_pool: ThreadPool | None,
        familiar: Familiar | None = None,
        days: DriftByDay | None = None,
    ) -> None:
        self.model, self.familiar, self.days = model, familiar, days
        self.predictor = Predictor.of(model, thread_pool)
        self.predictor.output  # noqa: B018  # refused here if it has none

    def answer(self, read: Read, day: str = "") -> list[Prediction | Unreadable]:
        """Answers to files that were read, in their order; a file without pixels gives its reason.

        Images of a day are counted under its name.
        """
        pixels = [each.pixels for each in read if not isinstance(each.pixels, str)]
        answered: Iterator[Prediction] = iter(())
        if pixels:
            files = [each for each in read if not isinstance(each.pixels, str)]
            answered = iter(self._asked(files, np.stack(pixels), day))
        return [Unreadable(each.name, each.pixels) if isinstance(each.pixels, str) else next(answered) for each in read]

    def _asked(self, files: Read, pixels: PixelArray, day: str) -> Iterator[Prediction]:
        images = self.predictor.prepare(pixels)
        scores = self.predictor.scores(images)
        labels, all_answers = self.predictor.predicted(scores), self.predictor.checked(scores)
        several = self.model.several
        sure = self.predictor.sureness(all_answers) if several else all_answers[np.arange(len(labels)), labels]
        unlike: list[float | None] = [None] * len(files)
        nearest: list[int | None] = [None] * len(files)
        days = self.days if day else None
        if self.familiar is not None or days is not None:
            statistics = channel_statistics(self.predictor, images)
            if self.familiar is not None:
                unlikeness = self.familiar.unlikeness(statistics)
                unlike, nearest = list(unlikeness[0].tolist()), list(unlikeness[1].tolist())
            if days is not None:
                days.add(day, pixels, statistics, labels, sure)
        said = self.predictor.said(all_answers) if several else np.zeros((len(files), 0), bool)
        rows = zip(files, labels.tolist(), all_answers, sure.tolist(), said, unlike, nearest, strict=True)
        for file, label, row, probability, on, distance, number in rows:
            names = tuple(name for name, is_said in zip(self.model.classes, on, strict=several) if is_said)
            predicted, answers = self.model.classes[label], by_class(self.model.classes, row)
            predicted = label_set(names) if several else predicted
            yield Prediction(
                file.name, predicted, probability, answers, self.model.output, distance, number, names, file.pages
            )


def answers_to(
    model: ModelFile, names: Iterable[str], familiar: Familiar | None = None
) -> Iterator[list[Prediction | Unreadable]]:
    """Answers to images in their order, a batch at a time, while the next batches are read."""
    with ThreadPool(THREADS) as thread_pool:
        answering = Answering(model, thread_pool, familiar)
        for read in read_ahead(model.preprocessor, names):
            yield answering.answer(read)
