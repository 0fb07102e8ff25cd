"""What a model was trained and judged on: known in its run, or from a file that was exported beside the model."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.core.keeping import keep, stored
from attentive_lens.desk.results.drift import HeldOut, held_out
from attentive_lens.desk.results.familiar import Familiar, familiar
from attentive_lens.desk.results.models import model_of
from attentive_lens.errors import BadFile, LensError, NotHere
from attentive_lens.explaining.channel_statistics import Known
from attentive_lens.explaining.drift_measures import DriftMeasures
from attentive_lens.workspace import Run, Workspace

ENDING = ".held-out.npz"
"""In place of the model file's own."""


@dataclass(frozen=True)
class _Exported:
    """Of `Familiar` and `HeldOut`: what cannot be worked out of the model. Statistics alone, no image."""

    known_mean: NDArray[np.float32]
    known_std: NDArray[np.float32]
    known_rows: NDArray[np.float32]
    numbers: NDArray[np.int64]
    limit: float
    mean: NDArray[np.float64]
    directions: NDArray[np.float64]
    values: NDArray[np.float64]
    predicted: NDArray[np.int64]


def familiar_to(model: Path) -> Job[Familiar]:
    """What a model file was trained on.

    Raises
    ------
    NotHere
        If it neither lies in a run of a workspace nor has what was exported with it beside it.
    """
    home = _home_of(model)
    if home is not None:
        return (yield from familiar(*home))
    return _read_beside(model).familiar


def held_out_to(model: Path) -> Job[HeldOut]:
    """What the held-out images of a model file are like; `NotHere` as `familiar_to`."""
    home = _home_of(model)
    if home is not None:
        return (yield from held_out(*home))
    return _read_beside(model)


def write_beside_model(place: Workspace, run: Run, model: Path) -> Job[Path]:
    """Write for a model file, which has just been exported from a run, what that run's images are like.

    Raises
    ------
    NotHere
        If there are too few images.
    BadFile
        If it cannot be written.
    """
    usual = yield from held_out(place, run)
    known, file = usual.familiar.known, beside(model)
    exported = _Exported(
        known.mean,
        known.std,
        known.rows,
        usual.familiar.numbers,
        usual.familiar.limit,
        usual.measures.mean,
        usual.measures.directions,
        usual.reference.values,
        usual.reference.predicted,
    )
    file.unlink(missing_ok=True)
    keep(file, exported, _key_of(model))
    if not file.exists():
        raise BadFile(f"{file} could not be written", "the folder or the disk does not take it", "Free the disk")
    return file


def beside(model: Path) -> Path:
    """The file beside a model file."""
    return model.with_name(model.stem + ENDING)


def _read_beside(model: Path) -> HeldOut:
    file = beside(model)
    what = f"Nothing can be told of what {model.name} was trained on"
    if not file.exists():
        why = f"it does not lie in its workspace as its run's best model, and {file.name} is not beside it"
        raise NotHere(what, why, "Export it again, or name it there")
    own, key = model_of(model), _key_of(model)
    exported = stored(file, _Exported, key)
    if exported is None:
        raise NotHere(what, f"{file.name} beside it belongs to another model, or is damaged", "Export it again")
    known = Familiar(
        Known(exported.known_mean, exported.known_std, exported.known_rows), exported.numbers, exported.limit
    )
    measures = DriftMeasures(own.preprocessor.settings.names_of_channels, exported.mean, exported.directions)
    return HeldOut.of(key, known, measures, own.classes, exported.values, exported.predicted)


def _home_of(model: Path) -> tuple[Workspace, Run] | None:
    """The workspace and the run whose best model a file is; None if it is none."""
    whole = model.absolute()
    try:
        place = Workspace.open(whole.parents[3])
        return place, next(run for run in place.runs() if run.model.absolute() == whole)
    except (LensError, IndexError, StopIteration):
        return None


def _key_of(model: Path) -> str:
    try:
        return hashlib.sha256(model.read_bytes()).hexdigest()
    except OSError as error:
        raise BadFile(f"{model} could not be read", str(error.strerror or error).lower(), "Check the path") from None
