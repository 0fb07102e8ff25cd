"""The task that finds slices: parts of a set that are answered worse than the rest."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.desk.collection import collection
from attentive_lens.desk.requests.images import Measure
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.slices import FindSlices, SlicesFound
from attentive_lens.desk.tasks.images import measure
from attentive_lens.desk.tasks.scoring import score
from attentive_lens.scoring.slices import slices_of
from attentive_lens.workspace import Workspace


def find_slices(request: FindSlices) -> Job[SlicesFound]:
    """See `FindSlices`."""
    place = Workspace.open(Path(request.workspace))
    scores = yield from score(Score(request.workspace, request.run, request.on))
    measures = yield from measure(Measure(request.workspace))
    run = place.run(request.run)
    rows = {row.number: row for row in collection(place, run.plan(), run).rows}
    numbers, right = scores.numbers, scores.said == scores.true
    own = [rows[number] for number in numbers.tolist()]
    values: dict[str, NDArray[np.float64] | NDArray[np.str_]] = {
        "brightness": measures.brightness[numbers - 1].astype(np.float64),
        "contrast": measures.contrast[numbers - 1].astype(np.float64),
        "sharpness": measures.sharpness[numbers - 1].astype(np.float64),
        "size in pixels": np.array([min(row.width, row.height) for row in own], np.float64),
        "shape": np.array([row.width / max(1, row.height) for row in own], np.float64),
        "format": np.array([Path(row.file).suffix.lower() or "none" for row in own]),
    }
    folders = [str(Path(row.file).parent) for row in own]
    if len(set(zip(folders, (row.label for row in own), strict=True))) > len(set(folders)):
        values["folder"] = np.array(folders)  # folders of one class each are the classes again
    return SlicesFound(slices_of(numbers, right, values))
