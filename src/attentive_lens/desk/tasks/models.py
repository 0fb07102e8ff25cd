"""Tasks about models: their scores, and their answers to new images."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.data import Data, gather
from attentive_lens.desk.front import collection
from attentive_lens.desk.tasks.base import Result
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.batches import scores as raw_scores
from attentive_lens.engine.crew import Crew
from attentive_lens.engine.folding import folded
from attentive_lens.engine.losses import Loss, one_hot, softmax
from attentive_lens.errors import BadValue, LensError, NotHere
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.decoding import decode
from attentive_lens.images.preparation import to_square
from attentive_lens.plan.progress import Job, Progress
from attentive_lens.scoring.scores import Scores, judge
from attentive_lens.workspace import Run, Workspace

SCORED_AT_ONCE = 64
KEPT_FORMAT = 2
"""Raised whenever what is kept beside a run has other keys: what was kept before is made anew."""


def score(workspace: str, run: int, on: str) -> Job[Result]:
    """Scores of a run's best model on a set; kept beside the run and read from there the next time."""
    place = Workspace.open(Path(workspace))
    own = place.run(run)
    loss = Loss(own.plan().training.loss)
    as_of = f"{KEPT_FORMAT} {collection(place, own.plan(), own).fingerprint} {loss.kind}"
    kept = own.kept_scores(on, as_of)
    if kept is not None:
        return Result(kept)
    model, data = yield from model_and_data(place, own)
    everything = data.members(on)
    members = everything[data.labels[everything] >= 0]
    if not len(members):
        raise NotHere(
            f"There is no {on} set",
            "none of the images belongs to it",
            "Score on another set, or add a folder for it",
        )
    network = folded(model.network())
    parts: list[Array] = []
    losses: list[Array] = []
    with Crew(2) as crew:
        for first in range(0, len(members), SCORED_AT_ONCE):
            yield Progress(first, len(members), f"scoring {on} images")
            chosen = members[first : first + SCORED_AT_ONCE]
            found = raw_scores(network, model.levels.apply(data.pixels[chosen]), crew)
            parts.append(answers_of(found))
            losses.append(loss.plain(found, one_hot(data.labels[chosen], found.shape[1])))
    numbers = [data.collection.rows[place].number for place in members]
    answers, each = np.concatenate(parts), np.concatenate(losses)
    table = judge(on, model.classes, numbers, data.labels[members], answers, each, loss.kind).as_dict()
    table["unknown"] = len(everything) - len(members)
    own.keep_scores(on, table, as_of)
    return Result(table)


def predict(model: str, files: list[str]) -> Job[Result]:
    """Answers for new images; a file that cannot be read gives its reason instead."""
    source = model_of(Path(model))
    network = folded(source.network())
    answers: list[dict[str, Any]] = []
    with Crew(2) as crew:
        for first in range(0, len(files), SCORED_AT_ONCE):
            yield Progress(first, len(files), "answering")
            readable: list[tuple[int, NDArray[np.uint8]]] = []
            for file in files[first : first + SCORED_AT_ONCE]:
                answers.append({"file": file})
                try:
                    pixels = to_square(decode(Path(file)).pixels, source.preparation)
                except LensError as error:
                    answers[-1]["error"] = error.why
                else:
                    readable.append((len(answers) - 1, pixels))
            if not readable:
                continue
            batch = source.levels.apply(np.stack([pixels for _, pixels in readable]))
            for (place, _), row in zip(readable, answers_of(raw_scores(network, batch, crew)), strict=True):
                answers[place]["said"] = source.classes[int(row.argmax())]
                answers[place]["probability"] = float(row.max())
                answers[place]["probabilities"] = {n: float(p) for n, p in zip(source.classes, row, strict=True)}
    return Result({"answers": answers})


def answers_of(found: Array) -> Array:
    """Probabilities from raw scores N×K; a sentence where these are no numbers."""
    if not np.isfinite(found).all():
        why = "its scores are infinite or no numbers: its weights are too large for such images"
        raise BadValue("The model gives no answer", why, "Choose another model, or train again")
    return softmax(found)


def model_and_data(place: Workspace, run: Run) -> Job[tuple[ModelFile, Data]]:
    """A run's best model, and the images in the sets it was trained with, numbered by the model's classes."""
    model = model_of(run.model)
    data = yield from gather(place, run.plan(), run)
    return model, data.seen_by(model.classes)


def model_of(file: Path) -> ModelFile:
    """A model file, read once while it stays as it is."""
    try:
        changed = file.stat().st_mtime_ns
    except OSError:
        changed = 0
    return _model_as_of(file, changed)


@lru_cache(maxsize=4)
def _model_as_of(file: Path, changed: int) -> ModelFile:
    del changed
    return read_model(file)


def as_scores(table: dict[str, Any]) -> Scores:
    """Scores from the `score` task's values."""
    return Scores.from_dict(table)
