"""The task that finds slices: parts of a set that are answered worse than the rest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.core.numbering import place_of
from attentive_lens.desk.images.collection import Library, collection
from attentive_lens.desk.requests.images import Measure
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.slices import FindSlices, SlicesFound
from attentive_lens.desk.tasks.images import measure
from attentive_lens.desk.tasks.scoring import score
from attentive_lens.scoring.slices import FEWEST, slices_of
from attentive_lens.workspace import ImageRow, Workspace


def find_slices(request: FindSlices) -> Job[SlicesFound]:
    """See `FindSlices`."""
    place = Workspace.open(Path(request.workspace))
    scores = yield from score(Score(request.workspace, request.run, request.on))
    measures = yield from measure(Measure(request.workspace))
    run = place.run(request.run)
    rows = {row.number: row for row in collection(place, run.plan(), run).rows}
    numbers, right = scores.numbers, scores.predicted == scores.true
    own = [rows[number] for number in numbers.tolist()]
    values: dict[str, NDArray[np.float64] | NDArray[np.str_]] = {
        "brightness": measures.brightness[place_of(numbers)].astype(np.float64),
        "contrast": measures.contrast[place_of(numbers)].astype(np.float64),
        "sharpness": measures.sharpness[place_of(numbers)].astype(np.float64),
        "size in pixels": np.array([min(row.width, row.height) for row in own], np.float64),
        "shape": np.array([row.width / max(1, row.height) for row in own], np.float64),
        "format": np.array([Path(row.file).suffix.lower() or "none" for row in own]),
    }
    folders = [str(Path(row.file).parent) for row in own]
    if len(set(zip(folders, (row.label for row in own), strict=True))) > len(set(folders)):
        values["folder"] = np.array(folders)  # folders of one class each are the classes again
    values |= columns_of(Library.read(place).columns, own)
    return SlicesFound(slices_of(numbers, right, values, scores.true, scores.groups))


def columns_of(
    columns: Mapping[str, Mapping[int, str]], rows: Sequence[ImageRow]
) -> dict[str, NDArray[np.float64] | NDArray[np.str_]]:
    """What tables tell of some images besides: numbers where all values are, words elsewhere.

    A column that says something else of every image, as an identifier does, is left out.
    """
    result: dict[str, NDArray[np.float64] | NDArray[np.str_]] = {}
    for name, by_image in columns.items():
        words = [by_image.get(row.number, "none") for row in rows]
        numbers = _numbers(words)
        if numbers is not None:
            result[f"column {name}"] = numbers
        elif len(set(words)) <= max(2, len(words) // FEWEST):
            result[f"column {name}"] = np.array(words)
    return result


def _numbers(words: Sequence[str]) -> NDArray[np.float64] | None:
    """As numbers, where all but those missing are and there are more than a few of them."""
    try:
        values = np.array([float(word) if word != "none" else np.nan for word in words])
    except ValueError:
        return None
    return values if len(np.unique(values[np.isfinite(values)])) > FEWEST else None
