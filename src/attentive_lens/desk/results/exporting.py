"""Results written down for others: scores as JSON, every answer as CSV."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import check_folder_of, make_folder, replacing, write_text
from attentive_lens.core.records import without_arrays
from attentive_lens.desk.requests.numbers import NumbersSeen
from attentive_lens.desk.results.answer_files import class_columns
from attentive_lens.errors import BadFile
from attentive_lens.scoring.labels import LabelScores
from attentive_lens.scoring.scores import Scores


def write_scores(folder: Path, result: object, scores: Scores, files: Mapping[int, str]) -> None:
    """``scores.json`` with what is told of them, and ``answers.csv``: an image a line, with the answer of every class.

    Raises
    ------
    BadFile
        If the folder cannot be written.
    """
    heads = ["image", "file", "true", "predicted", "probability", "loss"]
    rows: list[list[object]] = []
    for answer, row, loss in zip(scores.answers, scores.probabilities, scores.losses, strict=True):
        names = scores.classes[answer.true], scores.classes[answer.predicted]
        figures = [f"{value:.6g}" for value in (answer.probability, loss, *row)]
        rows.append([answer.image, files.get(answer.image, ""), *names, *figures])
    _write_answers(folder, result, [*heads, *class_columns(heads, scores.classes)], rows)


def write_label_scores(folder: Path, scores: LabelScores, files: Mapping[int, str]) -> None:
    """The same of several labels: of each image those it has and those it is said to have, and the answer of each.

    Raises
    ------
    BadFile
        If the folder cannot be written.
    """
    heads = ["image", "file", "true", "predicted"]
    rows: list[list[object]] = []
    for number, there, said, row in zip(
        scores.numbers.tolist(), scores.there, scores.said, scores.probabilities, strict=True
    ):
        names = scores.names(there), scores.names(said)
        rows.append([number, files.get(number, ""), *names, *(f"{value:.6g}" for value in row)])
    _write_answers(folder, scores, [*heads, *class_columns(heads, scores.labels)], rows)


def _write_answers(folder: Path, result: object, heads: list[str], rows: list[list[object]]) -> None:
    make_folder(folder)
    text = json.dumps(without_arrays(result), ensure_ascii=False, allow_nan=False, indent=1)
    write_text(folder / "scores.json", text + "\n")
    lines = io.StringIO()
    csv.writer(lines, lineterminator="\n").writerows([heads, *rows])
    write_text(folder / "answers.csv", lines.getvalue())


def write_numbers(seen: NumbersSeen, file: Path) -> str:
    """A layer's values, gradient and optimiser state as one NumPy archive; where it is.

    Raises
    ------
    BadFile
        If the file cannot be written.
    """
    arrays: dict[str, Any] = {"values": seen.values}
    if seen.gradient is not None:
        arrays["gradient"] = seen.gradient
    arrays |= {f"optimiser {name}": array for name, array in seen.optimiser.items()}
    return write_archive(arrays, file)


def write_archive(arrays: Mapping[str, NDArray[np.generic]], file: Path) -> str:
    """Arrays by their names as one NumPy archive, whole or not at all; where it is.

    Raises
    ------
    BadFile
        If the file cannot be written.
    """
    check_folder_of(file)
    try:
        with replacing(file) as part, part.open("wb") as stream:
            np.savez(stream, **dict(arrays))  # type: ignore[arg-type]
    except OSError as error:
        why = str(error.strerror or error).lower()
        raise BadFile(f"{file} could not be written", why, "Name another file") from None
    return str(file)
