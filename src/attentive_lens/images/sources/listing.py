"""Image files named in a table: one line a file, with its label and perhaps its set."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from attentive_lens.errors import BadFile
from attentive_lens.images.decoding import suffixes
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources.base import SET_WORDS, Found, Skipped, Source, class_name, listed
from attentive_lens.images.sources.separated import FEWEST_PIXELS, LABEL_WORDS, SET_COLUMNS, Head, head, is_table
from attentive_lens.plan.labels import NO_LABEL, PARTED

ENDINGS = (".png", ".jpg", ".jpeg")
"""Tried when a name in the table has none."""
TRUE, FALSE = ("1", "1.0", "true", "yes", "x"), ("0", "0.0", "false", "no", "", "-")
"""Cells of a column that is a label: the image has it, or not."""


class Listing(Source):
    """A table of file names and labels, or the folder that holds one table and the images.

    Names are taken from the table's own folder. Images in that folder that no line names are reported.
    """

    title = "image files named in a table"

    @classmethod
    def recognises(cls, place: Path) -> bool:
        """A table with a column of file names, or a folder with one such table and no folders of images."""
        table = _table_at(place)
        if table is None:
            return False
        try:
            header = head(table)
        except BadFile:
            return False
        return _file_column(header, table.parent, Reading()) is not None

    @classmethod
    def readings(cls, place: Path, wish: Reading) -> list[Reading]:
        """One for each column that can hold the labels."""
        table = _table_at(place)
        if table is None:
            raise BadFile(f"{place} could not be read", "there is no table of file names", "Name the table")
        header = head(table)
        files = _file_column(header, table.parent, wish)
        if files is None:
            raise BadFile(f"{table} names no images", "no column holds names of files", "Name it with «images»")
        others = [k for k in range(len(header.names)) if k != files and k != header.column(SET_COLUMNS)]
        columns = _label_columns(header, wish.labels)
        if len(columns) > 1 or (not wish.labels and len(others) > 1 and all(_is_truth(header, k) for k in others)):
            names = ", ".join(header.names[k] for k in columns or others)
            way = replace(wish, images=header.names[files], labels=names, separator=wish.separator or PARTED)
            return [way]
        if wish.labels:
            others = [k for k in others if header.names[k] == wish.labels]
        elif (spoken := header.column(LABEL_WORDS)) in others:
            others = [k for k in others if k == spoken]
        if not others:
            known = ", ".join(header.names)
            raise BadFile(f"{table} has no labels", f"its columns are: {known}", "Name the column with «labels»")
        return [replace(wish, images=header.names[files], labels=header.names[k]) for k in others]

    def find(self) -> Iterator[Found | Skipped]:
        """The lines in order, then the images nobody named."""
        table = _table_at(self.place)
        if table is None:
            raise BadFile(f"{self.place} could not be read", "the table is gone", "Put it back")
        header = head(table)
        places = {name: k for k, name in enumerate(header.names)}
        files, labels = places[self.reading.images], _label_columns(header, self.reading.labels)
        if not labels:
            why = f"it has no column «{self.reading.labels}» any more"
            raise BadFile(f"{table} could not be read", why, "Put it back")
        sets = header.column(SET_COLUMNS)
        seen: set[Path] = {table}
        for line, row in _rows(table, header):
            if not row:
                continue
            if len(row) != len(header.names):
                yield Skipped(table, f"line {line}: it has {len(row)} values, {len(header.names)} are needed")
                continue
            file = _resolved(table.parent, row[files].strip())
            if file in seen:
                yield Skipped(file, f"line {line} names it a second time")
                continue
            seen.add(file)
            label = row[labels[0]].strip()
            if len(labels) > 1:
                cells = {header.names[k]: row[k].strip().lower() for k in labels}
                odd = next((name for name, cell in cells.items() if cell not in (*TRUE, *FALSE)), "")
                if odd:
                    yield Skipped(file, f"line {line}: «{cells[odd]:.20}» in column {odd} is neither 0 nor 1")
                    continue
                label = self.reading.separator.join(name for name, cell in cells.items() if cell in TRUE)
            if label or self.reading.several_labels:
                word = SET_WORDS.get(row[sets].strip().lower()) if sets is not None else None
                yield from self.each_page(Found(file, class_name(label) if label else NO_LABEL, word))
            else:
                yield Skipped(file, f"line {line} gives it no label")
        for file in listed(table.parent):
            if file.suffix.lower() in suffixes() and file not in seen and not file.is_dir():
                yield Skipped(file, f"{table.name} does not name it")

    @property
    def table(self) -> Path | None:
        """The table itself; None where it is gone."""
        return _table_at(self.place)

    def columns(self) -> dict[str, dict[str, str]]:
        """What else the table tells of its images: column → file, as found, → value; labels and sets left out.

        Raises
        ------
        BadFile
            If the table cannot be read.
        """
        table = _table_at(self.place)
        if table is None:
            raise BadFile(f"{self.place} could not be read", "the table is gone", "Put it back")
        header = head(table)
        sets = header.column(SET_COLUMNS)
        labels = {header.names[k] for k in _label_columns(header, self.reading.labels)}
        known = {self.reading.images, *labels, header.names[sets] if sets is not None else ""}
        files = header.names.index(self.reading.images)
        others = {k: name for k, name in enumerate(header.names) if name not in known}
        result: dict[str, dict[str, str]] = {name: {} for name in others.values()}
        for _, row in _rows(table, header):
            if len(row) == len(header.names):
                file = str(_resolved(table.parent, row[files].strip()))
                for k, name in others.items():
                    result[name].setdefault(file, row[k].strip())
        return result


def _rows(table: Path, header: Head) -> Iterator[tuple[int, list[str]]]:
    """Rows below the heading, each with its line; `BadFile` where a line is none of a table."""
    with table.open(encoding="utf-8-sig", errors="surrogateescape", newline="") as stream:
        lines = csv.reader(stream, delimiter=header.delimiter)
        try:
            if header.has_heading:
                next(lines)
            for row in lines:
                yield lines.line_num, row
        except csv.Error as error:
            what = f"{table}, line {lines.line_num} could not be read"
            raise BadFile(what, f"it is no line of a table ({error})", "Mend it") from None


def _label_columns(header: Head, names: str) -> list[int]:
    """The columns that a reading names: one, or several parted by commas; none if one of them is not there."""
    if names in header.names:
        return [header.names.index(names)]
    several = [name.strip() for name in names.split(",")]
    return [header.names.index(name) for name in several] if set(several) <= set(header.names) else []


def _is_truth(header: Head, k: int) -> bool:
    """Whether a column holds 0 and 1 alone, as far as the first lines tell."""
    return all(row[k].strip().lower() in (*TRUE, *FALSE) for row in header.rows if k < len(row))


def _table_at(place: Path) -> Path | None:
    if is_table(place):
        return place
    try:
        inside = sorted(place.iterdir()) if place.is_dir() else []
    except OSError:
        return None
    tables = [p for p in inside if p.suffix.lower() in (".csv", ".tsv") and p.is_file()]
    images = [p for p in inside if p.suffix.lower() in suffixes()]
    return tables[0] if len(tables) == 1 and images else None


def _file_column(header: Head, folder: Path, wish: Reading) -> int | None:
    """The column whose values are names of image files, for most of the first lines."""
    if wish.images:
        return header.names.index(wish.images) if wish.images in header.names else None
    for k in range(min(len(header.names), FEWEST_PIXELS)):
        cells = [row[k].strip() for row in header.rows if k < len(row) and row[k].strip()]
        named = sum(Path(cell).suffix.lower() in suffixes() or _resolved(folder, cell).is_file() for cell in cells)
        if cells and 2 * named > len(cells):
            return k
    return None


def _resolved(folder: Path, name: str) -> Path:
    file = folder / name
    if file.suffix.lower() not in suffixes():
        for ending in ENDINGS:
            longer = file.with_name(file.name + ending) if file.name else file
            if longer.is_file():
                return longer
    return file
