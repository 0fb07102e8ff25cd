"""Text tables, by their first lines: what parts the columns, what they are called, which has the labels."""

from __future__ import annotations

import csv
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

from attentive_lens.errors import BadFile

LOOKED_AT = 20
FEWEST_PIXELS = 16
"""Columns of numbers from which a table is one of pixels."""
LABEL_WORDS = ("label", "class", "target", "type", "kind", "category")
SET_COLUMNS = ("set", "split", "usage", "part")


@dataclass(frozen=True)
class Head:
    """The first lines of a table.

    Attributes
    ----------
    delimiter : str
        The character between columns.
    names : list of str
        The columns' names, or "column 1" … without a heading.
    has_heading : bool
        Whether the first line names the columns.
    rows : list of list of str
        Some lines after it.
    """

    delimiter: str
    names: list[str]
    has_heading: bool
    rows: list[list[str]]

    def column(self, words: tuple[str, ...]) -> int | None:
        """The first column whose name has one of the words."""
        for k, name in enumerate(self.names):
            if self.has_heading and any(word in name.lower() for word in words):
                return k
        return None


def is_table(place: Path) -> bool:
    """Whether a place is a text table, by its ending."""
    return place.suffix.lower() in (".csv", ".tsv", ".txt") and place.is_file()


def head(file: Path) -> Head:
    """Read the first lines.

    Raises
    ------
    BadFile
        If it cannot be read or is empty.
    """
    try:
        with file.open(encoding="utf-8-sig", errors="surrogateescape", newline="") as stream:
            first = stream.readline()
            stream.seek(0)
            delimiter = max(",;\t|", key=first.count)
            rows = [row for row in islice(csv.reader(stream, delimiter=delimiter), LOOKED_AT) if row]
    except OSError as error:
        raise BadFile(f"{file} could not be read", str(error.strerror).lower(), "Check its permissions") from None
    except csv.Error as error:
        raise BadFile(f"{file} could not be read", f"it is no table ({error})", "Replace it") from None
    if not rows:
        raise BadFile(f"{file} could not be read", "it is empty", "Replace it")
    names = [name.strip() for name in rows[0]]
    numbers = sum(is_number(name) for name in names)
    below = sum(is_number(value) for value in rows[1]) if len(rows) > 1 else 0
    words = {word for name in names for word in name.lower().split()}
    named = numbers == 0 and (below > 0 or bool(words & {*LABEL_WORDS, *SET_COLUMNS, "file", "image", "path", "name"}))
    if not named:
        names = [f"column {k}" for k in range(1, len(names) + 1)]
    return Head(delimiter, names, named, rows[1:] if named else rows)


def is_number(text: str) -> bool:
    """Whether a cell is a number."""
    try:
        float(text)
    except ValueError:
        return False
    return True
