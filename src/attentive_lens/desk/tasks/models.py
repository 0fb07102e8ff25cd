"""Tasks about models: their scores, their explanations, their filters, their answers to new images."""

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
from attentive_lens.engine.losses import softmax
from attentive_lens.engine.network import Network
from attentive_lens.errors import LensError, NotHere
from attentive_lens.explaining.feature_maps import feature_maps, first_filters
from attentive_lens.explaining.saliency import DEFAULT, METHODS
from attentive_lens.explaining.trust import deletion
from attentive_lens.formats.bundle import ModelFile, read_model
from attentive_lens.images.decoding import decode
from attentive_lens.images.preparation import to_square
from attentive_lens.plan.progress import Job, Progress
from attentive_lens.plan.values import unknown_word
from attentive_lens.scoring.scores import Scores, judge
from attentive_lens.workspace import Run, Workspace

SCORED_AT_ONCE = 64


def score(workspace: str, run: int, on: str) -> Job[Result]:
    """Scores of a run's best model on a set; kept beside the run and read from there the next time."""
    place = Workspace.open(Path(workspace))
    own = place.run(run)
    as_of = collection(place, own.plan(), own).fingerprint
    kept = own.kept_scores(on, as_of)
    if kept is not None:
        return Result(kept)
    model, data = yield from _model_and_data(place, own)
    members = data.members(on)
    if not len(members):
        raise NotHere(
            f"There is no {on} set",
            "none of the images belongs to it",
            "Score on another set, or add a folder for it",
        )
    network = folded(model.network())
    parts: list[Array] = []
    with Crew(2) as crew:
        for first in range(0, len(members), SCORED_AT_ONCE):
            yield Progress(first, len(members), f"scoring {on} images")
            rows = data.pixels[members[first : first + SCORED_AT_ONCE]]
            parts.append(softmax(raw_scores(network, model.levels.apply(rows), crew)))
    numbers = [data.collection.rows[place].number for place in members]
    found = judge(on, model.classes, numbers, data.labels[members], np.concatenate(parts))
    table = found.as_dict()
    own.keep_scores(on, table, as_of)
    return Result(table)


def explain(workspace: str, run: int, image: int, method: str = DEFAULT, target: str | None = None) -> Job[Result]:
    """Why a run's model answered as it did for one image.

    The arrays are ``map said``, ``map true`` (and ``map for`` with a target), S×S float32; ``pixels``, S×S×C uint8;
    and ``layer 0`` … , every node's output in the network's order.
    """
    place = Workspace.open(Path(workspace))
    model, data = yield from _model_and_data(place, place.run(run))
    at = data.place(image)
    row = data.collection.rows[at]
    values, arrays = explain_pixels(model, data.pixels[at], method, data.labels[at], target)
    yield Progress(1, 2, "asking every layer")
    maps = feature_maps(model.network(), model.levels.apply(data.pixels[at][None])[0])
    arrays |= {f"layer {k}": np.asarray(out) for k, out in enumerate(maps.values())}
    layers = [{"name": name, "shape": list(out.shape)} for name, out in maps.items()]
    values |= {"image": image, "file": row.file, "set": data.collection.sets[at], "layers": layers}
    return Result(values, arrays)


def explain_pixels(
    model: ModelFile, pixels: NDArray[np.uint8], method: str, true: int | None, target: str | None
) -> tuple[dict[str, Any], dict[str, NDArray[Any]]]:
    """Answer, maps and their trust for one image S×S×C uint8 at the working size."""
    if method not in METHODS:
        raise unknown_word("method", method, frozenset(METHODS))
    network = model.network()
    image = model.levels.apply(pixels[None])[0]
    probabilities = softmax(network.forward(image[None]).outputs[network.answers])[0]
    said = int(probabilities.argmax())
    targets = {"said": said}
    if true is not None:
        targets["true"] = int(true)
    if target is not None:
        if target not in model.classes:
            raise unknown_word("class", target, frozenset(model.classes))
        targets["for"] = model.classes.index(target)
    maps = METHODS[method].maps(network, image, list(targets.values()))
    arrays: dict[str, NDArray[Any]] = {"pixels": pixels}
    trust = {}
    for (key, label), map_ in zip(targets.items(), maps, strict=True):
        arrays[f"map {key}"] = map_
        found = deletion(network, image, map_, label)
        trust[key] = {
            "before": found.before,
            "marked_deleted": found.marked,
            "random_deleted": found.random,
            "passed": found.passed,
        }
    values = {
        "said": model.classes[said],
        "true": model.classes[true] if true is not None else None,
        "targets": {key: model.classes[label] for key, label in targets.items()},
        "probabilities": {name: float(p) for name, p in zip(model.classes, probabilities, strict=True)},
        "method": method,
        "methods": [
            {"key": key, "label": m.label, "shows": m.shows, "misleads": m.misleads} for key, m in METHODS.items()
        ],
        "trust": trust,
    }
    return values, arrays


def filters(workspace: str, run: int) -> Job[Result]:
    """The first convolution's filters as pictures, F×K×K×3 float32 in 0–1, under ``filters``."""
    place = Workspace.open(Path(workspace))
    found = first_filters(_network(place.run(run).model))
    yield Progress(1, 1)
    if found is None:
        return Result({"layer": None})
    return Result({"layer": found[0]}, {"filters": found[1]})


def predict(model: str, files: list[str]) -> Job[Result]:
    """Answers for new images; a file that cannot be read gives its reason instead."""
    source = _model(Path(model))
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
            for (place, _), row in zip(readable, softmax(raw_scores(network, batch, crew)), strict=True):
                answers[place]["said"] = source.classes[int(row.argmax())]
                answers[place]["probability"] = float(row.max())
                answers[place]["probabilities"] = {n: float(p) for n, p in zip(source.classes, row, strict=True)}
    return Result({"answers": answers})


def _model_and_data(place: Workspace, run: Run) -> Job[tuple[ModelFile, Data]]:
    model = _model(run.model)
    data = yield from gather(place, run.plan(), run)
    if tuple(data.collection.classes) != model.classes:
        raise NotHere(
            f"Run {run.number} does not fit these images",
            "the classes have changed since it was trained",
            "Train again, or open the workspace it was trained in",
        )
    return model, data


def _model(file: Path) -> ModelFile:
    try:
        changed = file.stat().st_mtime_ns
    except OSError:
        changed = 0
    return _model_as_of(file, changed)


@lru_cache(maxsize=4)
def _model_as_of(file: Path, changed: int) -> ModelFile:
    del changed
    return read_model(file)


def _network(file: Path) -> Network:
    return _model(file).network()


def as_scores(table: dict[str, Any]) -> Scores:
    """Scores from the `score` task's values."""
    return Scores.from_dict(table)
