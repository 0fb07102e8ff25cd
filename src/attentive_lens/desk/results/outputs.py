"""What one layer, and the whole model, make of many images; the last few answers are remembered."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import key_of
from attentive_lens.core.recent import Recent
from attentive_lens.desk.images.data import Data
from attentive_lens.desk.results.models import AT_ONCE
from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.distances import squeezed
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Run

VALUES = 4096
"""Values of an output that are compared, at most; feature maps of more are averaged over squares."""


@dataclass(frozen=True, eq=False)
class Outputs:
    """A layer's outputs N×D (at most `VALUES`), the classes said N and the answers for them N.

    Of a network that draws −1 and NaN.
    """

    features: Array
    predicted: NDArray[np.int64]
    probability: NDArray[np.float32]


_KNOWN: Recent[Outputs] = Recent(2)


def outputs_of(run: Run, predictor: Predictor, data: Data, layer: str, members: NDArray[np.int64]) -> Job[Outputs]:
    """What a layer of a run's model makes of some images, by their places; asked once while nothing changes."""
    key = key_of(run.model, data.fingerprint, layer, members.tolist())
    known = _KNOWN.known(key)
    if known is not None:
        return known
    parts: list[Array] = []
    predicted: list[NDArray[np.intp]] = []
    answers: list[Array] = []
    for first in range(0, len(members), AT_ONCE):
        yield Progress(first, len(members), "asking the layer about the images")
        images = predictor.prepare(data.pixels[members[first : first + AT_ONCE]])
        parts.append(compared(predictor, layer, images))
        if predictor.draws:
            predicted.append(np.full(len(images), -1))
            answers.append(np.full(len(images), np.nan, np.float32))
            continue
        scores = predictor.scores(images)
        predicted.append(predictor.predicted(scores))
        answers.append(np.take_along_axis(predictor.checked(scores), predicted[-1][:, None], axis=1)[:, 0])
    if not parts:
        return Outputs(np.zeros((0, 1), np.float32), np.zeros(0, np.int64), np.zeros(0, np.float32))
    return _KNOWN.keep(
        key, Outputs(np.concatenate(parts), np.concatenate(predicted).astype(np.int64), np.concatenate(answers))
    )


def compared(predictor: Predictor, layer: str, images: Array) -> Array:
    """What is compared of a layer's outputs for prepared images: N×D."""
    return np.asarray(squeezed(predictor.outputs(layer, images), VALUES))
