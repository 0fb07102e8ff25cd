"""The task that turns a file of the standard into a model file of ours, and holds the two against each other."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from attentive_lens.core.files import check_folder_of
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.requests.importing import Imported, ImportModel
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.formats.bundle import ModelFile

FAR = 1e-2
"""Part of its greatest output by which a network may differ from the file it was made of: more is a fault of ours."""
IMAGES, SEED = 2, 5
"""Of noise, that both are asked about."""


def import_model(request: ImportModel) -> Job[Imported]:
    """See `ImportModel`."""
    from attentive_lens.formats.onnx.importing import take_in  # only here: the standard's schemas take long to load
    from attentive_lens.formats.onnx.reading import read

    source = Path(request.model)
    file = Path(request.file or f"{source.stem}.alens")
    check_folder_of(file)
    mean, std = _figures("mean", request.mean), _figures("std", request.std)
    yield Progress(0, 2, "reading the file")
    graph = read(source)
    taken = take_in(graph, request.classes, mean, std, request.side)
    yield Progress(1, 2, "comparing the two")
    model = taken.model
    rows, columns, channels = model.preprocessor.settings.shape
    noise = np.random.default_rng(SEED).standard_normal((IMAGES, channels, rows, columns)).astype(np.float32)
    rest, end = graph.ending_with(taken.begin), graph.outputs[0]
    there = [rest.run({taken.begin: one[None]})[end].reshape(1, -1) for one in noise]  # some take one at a time
    most = _apart(model, np.ascontiguousarray(noise.transpose(0, 2, 3, 1)), np.concatenate(there))
    if not most <= FAR:  # no number is none
        why = f"the network made of it differs from it by {most:.2g} of its greatest output"
        raise BadFile(f"{source} was not taken in", why, "Please report it with the file")
    model.write(file)
    weights = sum(array.size for arrays in model.weights.values() for array in arrays.values())
    sides, count = model.preprocessor.settings.sides, len(model.plan.nodes)
    return Imported(str(file), count, weights, model.classes, sides, model.output, IMAGES, most, taken.assumed)


def _figures(name: str, words: tuple[str, ...]) -> tuple[float, ...]:
    try:
        return tuple(float(word) for word in words)
    except ValueError:
        why = f"«{' '.join(words)}» are no numbers for --{name}"
        raise BadValue("The model was not taken in", why, "Name numbers") from None


def _apart(model: ModelFile, images: Array, there: Array) -> float:
    """By how much a file's output differs from our scores, answers or their logarithms, in parts of its greatest."""
    raw = model.network().forward(images).outputs[model.plan.nodes[-1].name]
    answers = OUTPUTS[model.output].answers(OUTPUTS[model.output].spread(raw))
    size = max(float(np.abs(there).max()), 1e-6)
    logarithms = np.log(np.maximum(answers, np.finfo(np.float32).tiny))
    near = (each for each in (raw, answers, answers[:, 1:], logarithms) if each.shape == there.shape)
    return min(float(np.abs(each - there).max()) for each in near) / size
