"""A curve from elsewhere, to be drawn beside a run's own: a CSV file with a column of epochs and one a measure."""

from __future__ import annotations

import csv
import io
import math
from dataclasses import dataclass
from pathlib import Path

from attentive_lens.errors import BadFile
from attentive_lens.plan.measures import DRAWN, GENERATED, MEASURES

MOST_BYTES, MOST_ROWS = 16 << 20, 100_000
EPOCH = ("epoch", "epochs", "step")
"""What the column of epochs may be called."""
IMAGES = ("images", "samples")
"""What it may be called where images seen are counted in place of epochs."""


@dataclass(frozen=True)
class Reference:
    """A named curve, by measure.

    Attributes
    ----------
    name : str
        The file's, without its ending.
    curves : dict
        (epoch, value) pairs in the order of the epochs, by measure; accuracies from 0 to 1.
    in_images : bool
        Whether images seen stand in place of the epochs.
    """

    name: str
    curves: dict[str, tuple[tuple[float, float], ...]]
    in_images: bool = False


def read_reference(file: Path) -> Reference:
    """From a CSV file whose head names an epoch and measures, such as «epoch,accuracy,loss» or «images,bound».

    A value given as hundredths (greater than 1, of a measure that is a part) is taken as such; without a column of
    epochs rows are counted from 1.

    Raises
    ------
    BadFile
        If it cannot be read, has no column of a measure, or a value is no number; the line is named.
    """
    what = f"{file.name} is no reference curve"
    remedy = f"Name columns epoch and {', '.join(list(MEASURES)[:3])} in its first line"
    head, rows = table_in(file, what, remedy)
    known = MEASURES | DRAWN | GENERATED
    columns = {name: head.index(name) for name in known if name in head}
    if not columns:
        raise BadFile(what, f"its first line has {', '.join(head[:8]) or 'nothing'}", remedy)
    first = next((name for name in (*EPOCH, *IMAGES) if name in head), "")
    at = head.index(first) if first else None
    curves: dict[str, list[tuple[float, float]]] = {name: [] for name in columns}
    for line, row in rows.items():
        epoch = number_in(row, at, file, line) if at is not None else float(line - 1)
        for name, column in columns.items():
            if row[column].strip():
                curves[name].append((epoch, number_in(row, column, file, line)))
    ready = {}
    for name, points in curves.items():
        hundredths = known[name].is_share and any(value > 1 for _, value in points)
        ready[name] = tuple(sorted((epoch, value / 100 if hundredths else value) for epoch, value in points))
    return Reference(file.stem, ready, first in IMAGES)


def table_in(file: Path, what: str, remedy: str) -> tuple[list[str], dict[int, list[str]]]:
    """Heads (in small letters, with underlines) of a CSV file, and its rows by their number; the head's is 1.

    Whatever parts its columns. Empty rows count and are left out; a row has a cell for every head at least.

    Raises
    ------
    BadFile
        If it cannot be read or has no lines; it begins with ``what`` and ends with ``remedy``.
    """
    try:
        if file.stat().st_size > MOST_BYTES:
            raise BadFile(what, f"it has more than {MOST_BYTES >> 20} MiB", "Name another file")
        text = file.read_text("utf-8-sig")
        mark = max(";\t,", key=text.partition("\n")[0].count)
        rows = list(csv.reader(io.StringIO(text), delimiter=mark))
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise BadFile(what, str(getattr(error, "strerror", None) or error).lower(), remedy) from None
    filled = {line: row for line, row in enumerate(rows, 1) if any(cell.strip() for cell in row)}
    if 1 not in filled or len(filled) < 2 or len(filled) > MOST_ROWS:
        raise BadFile(what, f"it has {len(filled)} lines", remedy)
    head = [as_head(word) for word in rows[0]]
    return head, {line: row + [""] * (len(head) - len(row)) for line, row in filled.items() if line > 1}


def as_head(word: str) -> str:
    """A word as heads are compared: in small letters, with underlines."""
    return word.strip().lower().replace(" ", "_").replace("-", "_")


def number_in(row: list[str], column: int, file: Path, line: int) -> float:
    """A cell as a number, with a decimal point or comma; `BadFile` if it is none."""
    words = row[column].strip().removesuffix("%").strip()
    plain = words.replace(",", ".") if words.count(",") == 1 and "." not in words else words  # a decimal comma
    try:
        value = float(plain)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        why = f"«{words:.30}» in line {line} is no number"
        raise BadFile(f"{file.name} was not taken", why, "Mend that line")
    return value
