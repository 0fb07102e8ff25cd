"""Answers to image files, however many: files are read ahead of the network, and no more are held than it needs."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.familiar import Familiar
from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.desk.tasks.models import AT_ONCE, THREADS, by_class
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadFile, LensError
from attentive_lens.explaining.channel_statistics import channel_statistics
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.decoding import SUFFIXES, decode
from attentive_lens.predicting import Predictor

AHEAD = 3
"""Batches of files that are read ahead."""

Read = list[tuple[str, NDArray[np.uint8] | str]]
"""Files with their pixels at the input size, or why there are none."""


def image_files(places: Sequence[Path]) -> Iterator[str]:
    """The files named, and those inside the folders named, in order; a file is taken whatever its ending.

    Folders are walked while their files are used: no list of all is made.

    Raises
    ------
    BadFile
        If a place does not exist, at once; or a folder holds no images, when it is reached.
    """
    for place in places:
        if not place.exists():
            raise BadFile(f"{place} could not be read", "there is no such file", "Check the path")
    return _walked(places)


def _walked(places: Sequence[Path]) -> Iterator[str]:
    for place in places:
        if not place.is_dir():
            yield str(place)
            continue
        found = False
        for folder, inner, names in os.walk(place):
            inner.sort()
            for name in sorted(names):
                if os.path.splitext(name)[1].lower() in SUFFIXES:  # noqa: PTH122  # fast
                    found = True
                    yield os.path.join(folder, name)  # noqa: PTH118
        if not found:
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
    """

    def __init__(self, model: ModelFile, thread_pool: ThreadPool, familiar: Familiar | None = None) -> None:
        self.model, self.familiar = model, familiar
        self.predictor = Predictor.of(model, thread_pool)

    def read(self, files: Sequence[str]) -> Read:
        """Files at the input size; several threads may read at once."""
        found: Read = []
        for file in files:
            try:
                found.append((file, self.model.preprocessor.resized(decode(Path(file)).pixels)))
            except LensError as error:
                found.append((file, error.why))
        return found

    def answer(self, read: Read) -> list[Prediction | Unreadable]:
        """Answers to files that were read, in their order; a file without pixels gives its reason."""
        pixels = [image for _, image in read if not isinstance(image, str)]
        answered: Iterator[Prediction] = iter(())
        if pixels:
            files = [file for file, image in read if not isinstance(image, str)]
            answered = iter(self._asked(files, self.predictor.prepare(np.stack(pixels))))
        return [Unreadable(file, image) if isinstance(image, str) else next(answered) for file, image in read]

    def _asked(self, files: Sequence[str], images: NDArray[np.floating]) -> Iterator[Prediction]:
        scores = self.predictor.scores(images)
        unlike: list[float | None] = [None] * len(files)
        nearest: list[int | None] = [None] * len(files)
        if self.familiar is not None:
            told = self.familiar.unlikeness(channel_statistics(self.predictor, images))
            unlike, nearest = list(told[0].tolist()), list(told[1].tolist())
        rows = zip(
            files,
            self.predictor.said(scores).tolist(),
            self.predictor.checked(scores),
            unlike,
            nearest,
            strict=True,
        )
        for file, label, row, distance, number in rows:
            said, answers = self.model.classes[label], by_class(self.model.classes, row)
            yield Prediction(file, said, answers[said], answers, self.model.output, distance, number)


def answers_to(
    model: ModelFile, files: Iterable[str], familiar: Familiar | None = None
) -> Iterator[list[Prediction | Unreadable]]:
    """Answers to files in their order, a batch at a time, while the next batches are read by other threads."""
    with ThreadPool(THREADS) as thread_pool, ThreadPoolExecutor(THREADS, "reading") as readers:
        answering, left = Answering(model, thread_pool, familiar), iter(files)
        waiting = deque(readers.submit(answering.read, batch) for batch in _batches(left, AHEAD))
        while waiting:
            read = waiting.popleft().result()
            waiting.extend(readers.submit(answering.read, batch) for batch in _batches(left, 1))
            yield answering.answer(read)


def _batches(files: Iterator[str], most: int) -> Iterator[list[str]]:
    for _ in range(most):
        batch = list(islice(files, AT_ONCE))
        if not batch:
            return
        yield batch
