"""Scores from elsewhere, to stand beside a run's own: accuracy by class, or a confusion matrix, as a CSV file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from attentive_lens.core.tables import as_head, number_in, table_in
from attentive_lens.errors import BadFile, BadValue

NAMES = ("class", "name", "label")
PARTS = ("accuracy", "recall", "right")


@dataclass(frozen=True)
class ReferenceScores:
    """What somebody else's model reaches.

    Attributes
    ----------
    name : str
        The file's, without its ending, or what was typed.
    accuracy : float or None
        Over all images, 0–1; None where the classes' sizes are not known.
    by_class : dict
        Part of a class's images that is right, 0–1, by the class's name.
    """

    name: str
    accuracy: float | None
    by_class: Mapping[str, float] = field(default_factory=dict)


def typed_reference(words: str) -> ReferenceScores:
    """An accuracy as it is typed: 0.93, 93 %, 93,5.

    Raises
    ------
    BadValue
        If it is no number from 0 to 100.
    """
    plain = words.strip().removesuffix("%").strip().replace(",", ".")
    try:
        value = float(plain)
    except ValueError:
        value = -1.0
    if not 0 <= value <= 100:
        raise BadValue(f"«{words:.20}» is no accuracy", "a part or a percentage is needed", "Write 0.93 or 93 %")
    return ReferenceScores("typed", value / 100 if value > 1 or "%" in words else value)


def read_reference_scores(file: Path) -> ReferenceScores:
    """From a CSV file: columns class and accuracy (and images), or a matrix of counts, true classes down.

    Raises
    ------
    BadFile
        If it is neither, or a value is no number; the line is named.
    """
    what, remedy = f"{file.name} is no reference score", "Name columns class and accuracy, or give a matrix of counts"
    head, rows = table_in(file, what, remedy)
    name = next((head.index(word) for word in NAMES if word in head), None)
    part = next((head.index(word) for word in PARTS if word in head), None)
    if name is not None and part is not None:
        return _by_class(file, head, rows, name, part)
    first = [row[0].strip() for row in rows.values()]
    if len(rows) > 1 and [as_head(word) for word in first] == head[1:]:
        return _of_matrix(file, rows, first)
    raise BadFile(what, f"its first line has {', '.join(head[:8]) or 'nothing'}", remedy)


def _by_class(file: Path, head: list[str], rows: dict[int, list[str]], name: int, part: int) -> ReferenceScores:
    values: dict[str, float] = {}
    for line, row in rows.items():
        own = row[name].strip()
        if not own or own in values:
            why = f"«{own}» in line {line} stands above too" if own else f"line {line} names no class"
            raise BadFile(f"{file.name} is no reference score", why, "Mend that line")
        values[own] = number_in(row, part, file, line)
    if any(value > 1 for value in values.values()):
        values = {key: value / 100 for key, value in values.items()}
    if min(values.values()) < 0 or max(values.values()) > 1:
        raise BadFile(f"{file.name} is no reference score", "accuracies lie from 0 to 1, or to 100 %", "Mend them")
    accuracy = None
    if "images" in head:
        at = head.index("images")
        counts = {row[name].strip(): number_in(row, at, file, line) for line, row in rows.items()}
        if min(counts.values()) < 0:
            raise BadFile(f"{file.name} is no reference score", "a number of images is below zero", "Mend that line")
        whole = sum(counts.values())
        accuracy = sum(values[key] * counts[key] for key in values) / whole if whole > 0 else None
    return ReferenceScores(file.stem, accuracy, values)


def _of_matrix(file: Path, rows: dict[int, list[str]], names: list[str]) -> ReferenceScores:
    counts = [[number_in(row, k, file, line) for k in range(1, len(names) + 1)] for line, row in rows.items()]
    if min(min(row) for row in counts) < 0:
        raise BadFile(f"{file.name} is no reference score", "a count is below zero", "Mend that line")
    whole = sum(map(sum, counts))
    right = sum(counts[k][k] for k in range(len(names)))
    by_class = {name: counts[k][k] / sum(counts[k]) for k, name in enumerate(names) if sum(counts[k])}
    return ReferenceScores(file.stem, right / whole if whole else None, by_class)
