"""Tasks that check a run's model against its scores, and that keep a temperature in it."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np

from attentive_lens.core.files import replacing
from attentive_lens.core.jobs import Job
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.verifying import Calibrate, Calibrated, Verified, Verify
from attentive_lens.desk.tasks.scoring import score, scored_anew, stored_scores
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadFile, BadValue, NotHere
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.scoring.scores import Scores
from attentive_lens.workspace import Run, Workspace

AS_TRAINED = "as-trained.alens"
"""The model beside the best one that holds no temperature, while that does."""
CARD = "calibration"


def verify(request: Verify) -> Job[Verified]:
    """See `Verify`."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    before = stored_scores(place, run, request.on)
    now = yield from scored_anew(place, run, request.on)
    if before is None:
        yield from score(Score(request.workspace, request.run, request.on))
    differ, most = _apart(before, now) if before is not None else (0, 0.0)
    return Verified(
        request.run,
        request.on,
        now.images,
        before is None or before == now,
        before is not None,
        now.accuracy,
        now.loss,
        before.accuracy if before is not None else None,
        before.loss if before is not None else None,
        differ,
        most,
    )


def _apart(one: Scores, other: Scores) -> tuple[int, float]:
    """Images whose answers differ, and by how much at most; all of them where the sets are others."""
    if not np.array_equal(one.numbers, other.numbers) or one.probabilities.shape != other.probabilities.shape:
        return max(one.images, other.images), 1.0
    gaps = np.abs(one.probabilities.astype(np.float64) - other.probabilities)
    return int((gaps.max(axis=1) > 0).sum()), float(gaps.max())


def calibrate(request: Calibrate) -> Job[Calibrated]:
    """See `Calibrate`: the output layer's weights are divided by it, so that whoever asks the model gets it."""
    place = Workspace.open(Path(request.workspace))
    place.check_writable("The model was not changed")
    run = place.run(request.run)
    state = RunReader(run).view().state
    if state in ("training", "broken off"):
        why = f"it is {state}, and its best model may change" if state == "training" else "it broke off"
        raise BadValue(f"Run {request.run} was not calibrated", why, "Let it come to its end first")
    _take_out(run)
    trained = yield from score(Score(request.workspace, request.run))
    error_before = trained.measures.calibration_error
    if request.undo or error_before is None:
        error_before = error_before or 0.0
        return Calibrated(run.number, 1.0, error_before, trained.loss, error_before, trained.loss)
    if trained.temperature is None:
        why = f"its answers are made by «{trained.output}», and a temperature belongs to softmax"
        remedy = "Choose its threshold anew" if run.label else "Train with cross-entropy"
        raise BadValue(f"Run {request.run} was not calibrated", why, remedy)
    _put_in(run, trained.temperature)
    now = yield from score(Score(request.workspace, request.run))
    error = now.measures.calibration_error or 0.0
    return Calibrated(run.number, trained.temperature, error, now.loss, error_before, trained.loss)


def cooled(model: ModelFile, temperature: float) -> ModelFile:
    """A model whose raw scores are those of another divided by a temperature; its card says so.

    The last layer is linear in its weights and biases together, so dividing these divides its scores.
    """
    output = model.plan.nodes[-1].name
    divided = {
        name: (array / np.float32(temperature)).astype(array.dtype) for name, array in model.weights[output].items()
    }
    card = {**model.card, CARD: {"temperature": temperature, "fitted on": "validation"}}
    return replace(model, weights={**model.weights, output: divided}, card=card)


def temperature_of(model: ModelFile) -> float:
    """The temperature kept in a model; 1 where there is none."""
    stored = model.card.get(CARD)
    return float(stored["temperature"]) if isinstance(stored, dict) and "temperature" in stored else 1.0


def _put_in(run: Run, temperature: float) -> None:
    best = run.model
    model = read_model(best)
    try:
        with replacing(run.checkpoints / AS_TRAINED) as part:
            shutil.copyfile(best, part)
    except OSError as error:
        why = str(error.strerror or error).lower()
        raise BadFile(f"The model of run {run.number} could not be kept", why, "Free the disk") from None
    cooled(model, temperature).write(best)


def _take_out(run: Run) -> None:
    """Put the model as it was trained back, where a temperature is in it."""
    best = run.model
    if temperature_of(read_model(best)) == 1.0:
        return
    trained = run.checkpoints / AS_TRAINED
    if not trained.exists():
        why = f"{AS_TRAINED} beside it is gone"
        raise NotHere(f"The temperature of run {run.number} cannot be taken out", why, "Put the file back")
    trained.replace(best)
