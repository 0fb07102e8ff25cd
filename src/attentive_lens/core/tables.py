"""Tables as text, whatever parts their columns: heads, rows by their number, and numbers in cells."""

from __future__ import annotations

import csv
import io
import math
from importlib.util import find_spec
from pathlib import Path

from attentive_lens.errors import BadFile

MOST_BYTES, MOST_ROWS = 64 << 20, 1_000_000
PARQUET = ".parquet"


def table_in(file: Path, what: str, remedy: str) -> tuple[list[str], dict[int, list[str]]]:
    """Heads (in small letters, with underlines) of a CSV or Parquet file, and rows by their number; the head's is 1.

    Whatever parts the columns of text. Empty rows count and are left out; a row has a cell for every head at least.

    Raises
    ------
    BadFile
        If it cannot be read or has no lines; it begins with ``what`` and ends with ``remedy``.
    """
    try:
        if file.stat().st_size > MOST_BYTES:
            raise BadFile(what, f"it has more than {MOST_BYTES >> 20} MiB", "Name another file")
        if file.suffix.lower() == PARQUET:
            rows = _of_parquet(file, what)
        else:
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


def _of_parquet(file: Path, what: str) -> list[list[str]]:
    """Its names and its rows as text, what is missing as nothing."""
    if find_spec("pyarrow") is None:
        raise BadFile(
            what, "the library for Parquet is not installed", "Install attentive-lens[parquet], or save it as CSV"
        )
    from pyarrow import ArrowException, parquet  # only here: it is large, and few need it

    try:
        stored = parquet.ParquetFile(file)
        if stored.metadata.num_rows >= MOST_ROWS:
            raise BadFile(what, f"it has {stored.metadata.num_rows} rows", f"Name one of less than {MOST_ROWS}")
        table = stored.read()
    except ArrowException as error:
        raise BadFile(
            what, f"it is no whole Parquet file ({str(error).splitlines()[0][:120]})", "Save it again"
        ) from None
    columns = [column.to_pylist() for column in table.columns]
    rows = [["" if cell is None else str(cell) for cell in row] for row in zip(*columns, strict=True)]
    return [[str(name) for name in table.column_names], *rows]


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
