"""Whether images of today are like those a run was judged on: what is kept for it, and the counts of each day."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import replacing
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.desk.images.data import Data
from attentive_lens.desk.results.familiar import MOST, Familiar, familiar
from attentive_lens.desk.results.figures import drift_by_day, write_figure
from attentive_lens.desk.results.models import AT_ONCE, THREADS, model_and_data
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadFile, NotHere
from attentive_lens.explaining.channel_statistics import channel_statistics
from attentive_lens.explaining.drift_measures import FEATURES, DriftMeasures, words_of
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.drift import BINS, Drift, DriftCounts, DriftReference, drift
from attentive_lens.workspace import Run, Workspace

FEWEST = 50
"""Held-out images without which nothing is usual."""


@dataclass(frozen=True, eq=False)
class HeldOut:
    """Held-out images of a run, and what others are measured by to be compared with them.

    Attributes
    ----------
    key : str
        Of the run's model and images: counts made with another are of no use.
    familiar : Familiar
        What the model was trained on.
    measures : DriftMeasures
    reference : DriftReference
    """

    key: str
    familiar: Familiar
    measures: DriftMeasures
    reference: DriftReference

    @classmethod
    def of(
        cls,
        key: str,
        known: Familiar,
        measures: DriftMeasures,
        classes: Sequence[str],
        values: NDArray[np.float64],
        predicted: NDArray[np.int64],
    ) -> HeldOut:
        """From the measures of held-out images, N×M, and the classes that are said of them, N."""
        words = [words_of(name) for name in measures.names]
        return cls(key, known, measures, DriftReference.of(measures.names, classes, values, predicted, words))

    def values(
        self, pixels: PixelArray, statistics: Array, probability: Array
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The measures of N images, N×M, and how unlike all training images each is, N.

        Parameters
        ----------
        pixels : ndarray, N×H×W×C
            At the input size.
        statistics : ndarray, N×D
            Their channel statistics.
        probability : ndarray, N
            Of the class said.
        """
        return _measured(self.familiar, self.measures, pixels, statistics, probability)


def _measured(
    familiar_: Familiar, measures: DriftMeasures, pixels: PixelArray, statistics: Array, probability: Array
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    unlikeness = familiar_.unlikeness(statistics)[0]
    known = familiar_.known
    return measures.values(pixels, (statistics - known.mean) / known.std, probability, unlikeness), unlikeness


def held_out(place: Workspace, run: Run) -> Job[HeldOut]:
    """What a run's validation images are like; kept beside the run.

    Raises
    ------
    NotHere
        If there are too few, or too few training images.
    """
    known = yield from familiar(place, run)
    model, data = yield from model_and_data(place, run, classes=False)
    key = key_of("drift", run.model, data.fingerprint, MOST, BINS, FEATURES)
    file = run.folder / "drift.npz"
    saved = stored(file, _Stored, key)
    if saved is None:
        members = data.members("validation")
        chosen = data.drawn(members[data.labels[members] >= 0], MOST)
        if len(chosen) < FEWEST:
            why = f"the run has {len(chosen)} validation images, and {FEWEST} are needed to tell what is usual"
            raise NotHere("Nothing can be told of how images differ from held-out ones", why, "Add images")
        with ThreadPool(THREADS) as thread_pool:
            saved = yield from _looked(Predictor.of(model, thread_pool), known, data, chosen)
        keep(file, saved, key)
    measures = DriftMeasures(model.preprocessor.settings.names_of_channels, saved.mean, saved.directions)
    return HeldOut.of(key, known, measures, model.classes, saved.values, saved.predicted)


@dataclass(frozen=True)
class _Stored:
    """Of `DriftMeasures` and `DriftReference`: what cannot be worked out of the model."""

    mean: NDArray[np.float64]
    directions: NDArray[np.float64]
    values: NDArray[np.float64]
    predicted: NDArray[np.int64]


def _looked(predictor: Predictor, known: Familiar, data: Data, chosen: NDArray[np.int64]) -> Job[_Stored]:
    statistics, probability, predicted = [], [], []
    for first in range(0, len(chosen), AT_ONCE):
        yield Progress(first, len(chosen), "looking at held-out images")
        images = predictor.prepare(data.pixels[chosen[first : first + AT_ONCE]])
        statistics.append(channel_statistics(predictor, images))
        scores = predictor.scores(images)
        labels, answers = predictor.predicted(scores), predictor.checked(scores)
        predicted.append(labels)
        several = bool(predictor.thresholds)
        probability.append(predictor.sureness(answers) if several else answers[np.arange(len(labels)), labels])
    joined = np.concatenate(statistics)
    standard = (joined - known.known.mean) / known.known.std
    measures = DriftMeasures.of(predictor.preprocessor.settings.names_of_channels, standard)
    values, sure = [], np.concatenate(probability)
    for first in range(0, len(chosen), AT_ONCE):
        yield Progress(first, len(chosen), "measuring held-out images")
        part = slice(first, first + AT_ONCE)
        values.append(_measured(known, measures, data.pixels[chosen[part]], joined[part], sure[part])[0])
    return _Stored(
        measures.mean, measures.directions, np.concatenate(values), np.concatenate(predicted).astype(np.int64)
    )


@dataclass(eq=False)
class DriftByDay:
    """Counts of each day's images, by the day's name; a file keeps them where one is named.

    Parameters
    ----------
    held_out : HeldOut
        What they are compared with.
    file : Path, optional
        JSON; read if it is there, and written by `keep`.

    Raises
    ------
    BadFile
        If the file holds something else, or counts of another model.
    """

    held_out: HeldOut
    file: Path | None = None
    counts: dict[str, DriftCounts] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if self.file is not None and self.file.exists():
            self._read(self.file)

    def add(
        self, name: str, pixels: PixelArray, statistics: Array, predicted: NDArray[np.intp], probability: Array
    ) -> None:
        """Count images of a day.

        Parameters
        ----------
        name : str
            Of the day.
        pixels : ndarray, N×H×W×C
            At the input size.
        statistics : ndarray, N×D
            Their channel statistics.
        predicted : ndarray, N int
            The classes said.
        probability : ndarray, N
            Of these.
        """
        values, unlikeness = self.held_out.values(pixels, statistics, probability)
        reference = self.held_out.reference
        counts = self.counts.setdefault(name, DriftCounts.empty(reference))
        counts.add(reference, values, predicted, int((unlikeness > 1).sum()))

    def days(self) -> tuple[Drift, ...]:
        """Each day beside held-out images, in the order of their names."""
        return tuple(drift(name, self.counts[name], self.held_out.reference) for name in sorted(self.counts))

    def keep(self) -> None:
        """Write the file, whole or not at all; `BadFile` if that cannot be done."""
        if self.file is None:
            return
        days = {name: _plain(counts) for name, counts in sorted(self.counts.items())}
        table = {"model": self.held_out.key, "measures": self.held_out.reference.measures, "days": days}
        try:
            with replacing(self.file) as part:
                part.write_text(json.dumps(table, ensure_ascii=False), encoding="utf-8")
        except OSError as error:
            why = str(error.strerror or error).lower()
            raise BadFile(f"{self.file} could not be written", why, "Free the disk or name another file") from None

    def _read(self, file: Path) -> None:
        try:
            table = json.loads(file.read_text(encoding="utf-8"))
            is_ours = table["model"] == self.held_out.key
            days = {str(name): self._counts(plain) for name, plain in table["days"].items()} if is_ours else {}
        except (OSError, ValueError, LookupError, TypeError, AttributeError) as error:
            why = f"it holds no days ({type(error).__name__})"
            raise BadFile(f"{file} was not gone on with", why, "Name another file") from None
        if not is_ours:
            why = "it holds the days of another model, or of other held-out images"
            raise BadFile(f"{file} was not gone on with", why, "Name another file")
        self.counts.update(days)

    def _counts(self, plain: Any) -> DriftCounts:
        counts = DriftCounts.empty(self.held_out.reference)
        for name in ("bins", "sums", "predicted"):
            values = np.array(plain[name], getattr(counts, name).dtype)
            if values.shape != getattr(counts, name).shape:
                raise ValueError(f"{name} are {values.shape}")
            setattr(counts, name, values)
        counts.images, counts.unlike = int(plain["images"]), int(plain["unlike"])
        return counts


def write_chart(days: DriftByDay) -> None:
    """Write the chart of all days beside their file, as SVG, where there are images enough for one."""
    figure = drift_by_day(days.days())
    if figure is not None and days.file is not None:
        write_figure(days.file.with_suffix(".svg"), figure)


def _plain(counts: DriftCounts) -> dict[str, object]:
    return {
        "images": counts.images,
        "unlike": counts.unlike,
        "bins": counts.bins.tolist(),
        "sums": counts.sums.tolist(),
        "predicted": counts.predicted.tolist(),
    }
