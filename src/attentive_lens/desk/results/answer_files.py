"""Answers written to a file while they come: a table (CSV, Parquet) or an object a line; gone on with after a break."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator, Sequence
from importlib.util import find_spec
from pathlib import Path
from typing import BinaryIO

from attentive_lens.core.files import check_folder_of, replacing
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.errors import BadFile, BadUsage, NotHere

ENDINGS = (".csv", ".jsonl", ".parquet")
COLUMNS = ("file", "predicted", "probability", "unlike", "pages", "error")
"""Before a column a class; «unlike» is empty where it was not asked, «error» where the file could be read; «pages» are
the pictures in a file of which the first was answered."""
ROWS = 8192
"""Lines that are turned into a piece of a Parquet file at once."""

Told = Prediction | Unreadable


def class_columns(before: Sequence[str], classes: Sequence[str]) -> list[str]:
    """A head for each class behind other columns: its name, or «class NAME» where that is a head already."""
    heads = list(before)
    for name in classes:
        head = name
        while head in heads or (head != name and head in classes):
            head = f"class {head}"
        heads.append(head)
    return heads[len(before) :]


class AnswerFile:
    """A file of answers, open for more.

    Lines are written whole, a batch at a time; of a file that broke off the last line is dropped if it is torn. A
    Parquet file cannot be gone on with, so its lines stand in a file beside it until `finish`.

    Parameters
    ----------
    file : Path
        With one of `ENDINGS`.
    classes : sequence of str
        The model's.
    resume : bool
        Whether to go on with what is there.

    Raises
    ------
    BadUsage
        If its ending is none of these, or it exists and is not to be gone on with.
    BadFile
        If it cannot be written, or holds answers of another model.
    NotHere
        If it is to be Parquet and the library for that is missing.
    """

    def __init__(self, file: Path, classes: Sequence[str], resume: bool = False) -> None:
        self.file, self.classes, self.kind = file, list(classes), file.suffix.lower()
        self.heads = [*COLUMNS, *class_columns(COLUMNS, classes)]
        if self.kind not in ENDINGS:
            raise unknown_word("ending of --out", file.suffix or file.name, frozenset(ENDINGS))
        if self.kind == ".parquet":
            _check_parquet()
        self.lines = file.with_name(f".{file.name}.part.jsonl") if self.kind == ".parquet" else file
        if not resume and (file.exists() or self.lines.exists()):
            why = "it holds answers, or a part of them, already"
            raise BadUsage(f"{file} was not written", why, "Go on with it by --resume, or name another file")
        self.done: set[str] = set()
        check_folder_of(file)
        self._whole = resume and self.kind == ".parquet" and file.exists()
        if self._whole:
            self._open_again()
        try:
            self._stream: BinaryIO = self.lines.open("r+b" if resume and self.lines.exists() else "w+b")
        except OSError as error:
            raise self._unwritten(error) from None
        self._predicted = False
        """Whether it holds answers."""
        try:
            self._go_on()
        except BaseException:
            self._stream.close()
            raise

    def _open_again(self) -> None:
        """Turn a Parquet file that is whole back into the lines beside it, for more answers to follow."""
        from pyarrow import ArrowException, parquet  # only here, as in `_to_parquet`

        try:
            stored = parquet.ParquetFile(self.file)
            if stored.schema_arrow.names != self.heads:
                raise self._other()
            with self.lines.open("w", encoding="utf-8") as lines:
                for batch in stored.iter_batches(ROWS):
                    for values in zip(*(column.to_pylist() for column in batch.columns), strict=True):
                        entry = dict(zip(COLUMNS, values, strict=False))
                        saved = {key: value for key, value in entry.items() if value is not None or key == "unlike"}
                        if "error" in saved:
                            saved = {"file": saved["file"], "error": saved["error"]}
                        else:
                            saved["probabilities"] = dict(zip(self.classes, values[len(COLUMNS) :], strict=True))
                        lines.write(json.dumps(saved, ensure_ascii=False) + "\n")
        except (ArrowException, OSError, ValueError) as error:
            why = f"it cannot be read as Parquet ({str(error).splitlines()[0][:100]})"
            raise BadFile(f"{self.file} was not gone on with", why, "Name another file") from None

    def _go_on(self) -> None:
        """Take what is there as done, drop a torn last line, and write from there."""
        end = 0
        for number, line in enumerate(self._stream):
            if not line.endswith(b"\n"):
                break
            if self.kind == ".csv":
                row = next(csv.reader([line.decode("utf-8")]))
                if number == 0 and row != self.heads:
                    raise self._other()
                self.done.add(row[0])
            else:
                entry = json.loads(line)
                if "error" not in entry and list(entry.get("probabilities", {})) != self.classes:
                    raise self._other()
                self.done.add(entry["file"])
            end += len(line)
        self._predicted = end > 0
        self._stream.seek(end)
        self._stream.truncate()
        if self.kind == ".csv" and not end:
            self._write([self.heads])

    def _other(self) -> BadFile:
        why = "it holds no answers as this model's are: it has other classes, or is from an earlier version"
        return BadFile(f"{self.file} was not gone on with", why, "Name another file")

    def _unwritten(self, error: OSError) -> BadFile:
        return BadFile(f"{self.file} could not be written", str(error.strerror or error).lower(), "Name another file")

    def write(self, batch: Sequence[Told]) -> None:
        """Further answers, whole lines handed to the system."""
        self._whole = False
        self._predicted = self._predicted or bool(batch)
        if self.kind == ".csv":
            self._write([_row(each) for each in batch])
            return
        text = "".join(json.dumps(_entry(each), ensure_ascii=False, allow_nan=False) + "\n" for each in batch)
        self._put(text)

    def _write(self, rows: Sequence[Sequence[object]]) -> None:
        text = io.StringIO()
        csv.writer(text, lineterminator="\n").writerows(rows)
        self._put(text.getvalue())

    def _put(self, text: str) -> None:
        try:
            self._stream.write(text.encode("utf-8", "backslashreplace"))
            self._stream.flush()
        except OSError as error:
            raise self._unwritten(error) from None

    def close(self) -> None:
        """Leave it as it is; it can be gone on with. One without an answer is taken away."""
        self._stream.close()
        if not self._predicted:
            self.lines.unlink(missing_ok=True)

    def finish(self) -> None:
        """Close it as whole."""
        self.close()
        if self.kind == ".parquet" and self._whole:
            self.lines.unlink()  # nothing came to what was whole already
        elif self.kind == ".parquet" and self._predicted:
            try:
                self._to_parquet()
                self.lines.unlink()
            except OSError as error:
                raise self._unwritten(error) from None

    def _to_parquet(self) -> None:
        import pyarrow as arrow  # only here: an optional dependency, and a second to import
        from pyarrow import parquet

        kinds = {"file": arrow.string(), "predicted": arrow.string(), "pages": arrow.int64(), "error": arrow.string()}
        names = self.heads
        schema = arrow.schema([(name, kinds.get(name, arrow.float64())) for name in names])
        with (
            replacing(self.file) as part,
            self.lines.open(encoding="utf-8") as lines,
            parquet.ParquetWriter(part, schema) as writer,
        ):
            for rows in _pieces(lines):
                columns = [list(column) for column in zip(*rows, strict=True)]
                writer.write_table(arrow.table(columns, names=names).cast(schema))


def _pieces(lines: Iterator[str]) -> Iterator[list[list[object]]]:
    rows: list[list[object]] = []
    for line in lines:
        entry = json.loads(line)
        answered = entry.get("probabilities", {})
        rows.append([entry.get(name) for name in COLUMNS] + list(answered.values()))
        if len(rows) == ROWS:
            yield _squared(rows)
            rows = []
    if rows:
        yield _squared(rows)


def _squared(rows: list[list[object]]) -> list[list[object]]:
    """All as long as the longest: files that could not be read have no answers."""
    longest = max(map(len, rows))
    return [[*row, *[None] * (longest - len(row))] for row in rows]


def _entry(result: Told) -> dict[str, object]:
    if isinstance(result, Unreadable):
        return {"file": result.file, "error": result.error}
    sure = {name: round(value, 7) for name, value in result.probabilities.items()}
    return {
        "file": result.file,
        "predicted": result.predicted,
        "probability": round(result.probability, 7),
        "unlike": result.unlike,
        "pages": result.pages,
        "probabilities": sure,
    }


def _row(result: Told) -> list[object]:
    if isinstance(result, Unreadable):
        return [result.file, "", "", "", "", result.error]
    unlike = "" if result.unlike is None else f"{result.unlike:.4g}"
    sure = [f"{value:.7g}" for value in result.probabilities.values()]
    return [result.file, result.predicted, f"{result.probability:.7g}", unlike, result.pages, "", *sure]


def _check_parquet() -> None:
    if find_spec("pyarrow") is None:
        why = "the library for it is not installed"
        raise NotHere("Parquet cannot be written", why, "Install attentive-lens[parquet], or write CSV")
