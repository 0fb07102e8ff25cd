"""The task that writes a model for other programs, and checks what it wrote."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import check_folder_of, write_bytes
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.random import random_generator
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.data import references
from attentive_lens.desk.requests.exporting import Exported, ExportModel
from attentive_lens.desk.results.beside_model import write_beside_model
from attentive_lens.desk.results.exporting import write_archive
from attentive_lens.desk.results.models import model_of_run
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.encoding import Coder
from attentive_lens.errors import NotHere
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.plan.base import SHELF
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting.predictor import Predictor
from attentive_lens.workspace import Run, Workspace

LEVEL = 1 / 255
"""Of pixels, 0 to 1."""
SETS = ("test", "validation", "training")
"""Sets that a sample is taken from, the first that has images."""


def export(request: ExportModel) -> Job[Exported]:
    """See `ExportModel`."""
    ending = request.ending
    name = request.model.removeprefix(SHELF)
    file = Path(request.file or f"model-{name}.onnx")
    check_folder_of(file)
    place = Workspace.open(Path(request.workspace))
    source, plan, run = _model_of(place, request.model)
    yield Progress(0, 1, request.doing)
    model = model_of_run(run) if run is not None else read_model(source)
    images, same, most, beside = 0, 0, 0.0, ""
    caution = model.preprocessor.settings.caution_of_files
    if ending == ".onnx":
        from attentive_lens.formats.onnx.writing import write_onnx  # only here: the schemas take long to load

        write_onnx(model, file, request.half)
        images, same, most = yield from _compared(file, model, _sample(place, plan, run, request.sample))
    elif ending == ".alens":
        if request.half or model.several:  # thresholds may have been chosen since it was written
            model.write(file, half=request.half)
        else:
            write_bytes(file, source.read_bytes())
        if run is not None and not model.draws:
            with contextlib.suppress(NotHere):  # too few images for anything to be usual
                beside = str((yield from write_beside_model(place, run, file)))
    else:
        _write_weights(model.flat(request.half), file, ending)
    return Exported(str(file), file.stat().st_size, images, same, most, model.draws, beside, caution, model.several)


def _model_of(place: Workspace, wanted: str) -> tuple[Path, Plan, Run | None]:
    """The file of a run's best model or of one on the Shelf, and by what the images stand in sets."""
    if not wanted.isdecimal():
        return place.shelf.model(wanted.removeprefix(SHELF)).file, Plan(), None
    run = place.run(int(wanted))
    return run.model, run.plan(), run


def _sample(place: Workspace, plan: Plan, run: Run | None, count: int) -> list[PixelArray]:
    """Pictures as decoded, H×W×3, spread over a set; those whose files are gone are left out."""
    rows = collection(place, plan, run)
    for on in SETS:
        own = [row for row, of in zip(rows.rows, rows.sets, strict=True) if of == on]
        if own and count:
            steps = np.linspace(0, len(own) - 1, min(count, len(own))).astype(int)
            chosen = references(place, [own[k] for k in steps])
            return [reference.picture().pixels for reference in chosen if reference is not None]
    return []


def _compared(file: Path, model: ModelFile, pictures: list[PixelArray]) -> Job[tuple[int, int, float]]:
    """How many images there were, how many get the same class there, and by how much answers differ at most.

    Of a model that draws, how many are drawn the same to a level of 8 bits, and by how much pixels, 0 to 1, differ.
    """
    if not pictures:
        return 0, 0, 0.0
    from attentive_lens.formats.onnx.checking import answers_of
    from attentive_lens.formats.onnx.writing import INPUT

    if model.draws:
        feeds, here = _drawn(model, pictures, INPUT)
        there = yield from answers_of(file, feeds)
        apart = np.abs(there - here).reshape(len(here), -1).max(axis=1)
        return len(here), int((apart < LEVEL).sum()), float(apart.max())
    predictor, stored = Predictor.of(model), model.preprocessor.pixel_format.stored
    scores = predictor.scores(predictor.prepare(np.stack([model.preprocessor.resized(each) for each in pictures])))
    there = yield from answers_of(file, [{INPUT: stored(picture)[None]} for picture in pictures])
    same = there.argmax(axis=1) == predictor.predicted(scores)
    if model.several:
        same = (predictor.said(there) == predictor.said(predictor.checked(scores))).all(axis=1)
    return len(pictures), int(same.sum()), float(np.abs(there - predictor.checked(scores)).max())


def _drawn(model: ModelFile, pictures: list[PixelArray], image: str) -> tuple[list[dict[str, NDArray[Any]]], Array]:
    """What a model that draws is fed for as many images, and what it draws here: pictures again, or of noise."""
    coder, count = Coder(model.network()), len(pictures)
    if coder.encodes:
        fitted = np.stack([model.preprocessor.resized(each) for each in pictures])
        codes = coder.means(coder.encode(model.preprocessor.apply(fitted)))
        stored = model.preprocessor.pixel_format.stored
        return [{image: stored(picture)[None]} for picture in pictures], coder.decode(codes)
    codes, labels = coder.random_codes(random_generator(0, "codes for samples"), count), np.arange(count)
    labels %= max(1, coder.classes)
    arrays = {coder.code: codes, **coder.class_values(labels)}
    feeds: list[dict[str, NDArray[Any]]] = [
        {name: array[k : k + 1] for name, array in arrays.items()} for k in range(count)
    ]
    return feeds, coder.decode(codes, None, labels)


def _write_weights(flat: Mapping[str, Array], file: Path, ending: str) -> None:
    """Every array by «node/array»."""
    if ending == ".npz":
        write_archive(flat, file)
        return
    from safetensors.numpy import save

    write_bytes(file, save({name: np.ascontiguousarray(array) for name, array in flat.items()}))
