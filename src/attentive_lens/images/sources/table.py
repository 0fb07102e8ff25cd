"""A table of pixels: one line an image, with its label in a column of its own."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import BadFile
from attentive_lens.images.decoding import Picture, of_stored
from attentive_lens.images.layouts import Scale, readings, unfolded
from attentive_lens.images.pixel_format import EIGHT, usual_channels
from attentive_lens.images.reading import Reading
from attentive_lens.images.scale import Sampled
from attentive_lens.images.sources.base import SET_WORDS, Found, Skipped, Source, class_name, with_scale
from attentive_lens.images.sources.separated import (
    FEWEST_PIXELS,
    LABEL_WORDS,
    SET_COLUMNS,
    Head,
    head,
    is_number,
    is_table,
)
from attentive_lens.images.stored import StoredValues


class PixelTable(Source):
    """Each line has the values of one image, 0 to 255 (or 0 to 1), and its label.

    An image is remembered by the first byte of its line, so a table larger than memory is read a line at a time.
    """

    title = "table of pixels"

    def __init__(self, place: Path, reading: Reading | None = None) -> None:
        super().__init__(place, reading)
        self._columns: tuple[Head, int, int | None] | None = None
        self._scale: Scale | None = Scale(self.reading.white) if self.reading.white else None

    @classmethod
    def recognises(cls, place: Path) -> bool:
        """A text table with many columns of numbers."""
        if not is_table(place):
            return False
        try:
            header = head(place)
        except BadFile:
            return False
        return len(header.names) > FEWEST_PIXELS and sum(map(is_number, header.rows[0] if header.rows else [])) > 12

    @classmethod
    def readings(cls, place: Path, wish: Reading) -> list[Reading]:
        """By the column with the labels, and by the order of the pixels where they have colours."""
        header = head(place)
        sets = header.column(SET_COLUMNS)
        able = [k for k in range(len(header.names)) if k != sets]
        if wish.labels:
            able = [k for k in able if header.names[k] == wish.labels]
        elif (spoken := header.column(LABEL_WORDS)) in able:
            able = [k for k in able if k == spoken]
        else:
            texts = [k for k in able if any(not is_number(row[k]) for row in header.rows if k < len(row))]
            able = texts[:1] or [able[0], able[-1]]
        values = len(header.names) - 1 - (sets is not None)
        complete = []
        for k in able:
            way = replace(wish, labels=header.names[k])
            complete += readings((1, values), 1, replace(way, layout="NP"))
        if not complete:
            raise BadFile(
                f"{place} could not be read as images",
                f"its lines have {values} pixels beside the label, no square of one or three channels",
                "Name the size with «height» and «width», and the label's column with «labels»",
            )
        return complete

    def find(self) -> Iterator[Found | Skipped]:
        """The lines in order."""
        header, labels, sets = self._located()
        with self.place.open("rb") as stream:
            if header.has_heading:
                stream.readline()
            number = int(header.has_heading)
            while True:
                start = stream.tell()
                line = stream.readline()
                if not line:
                    return
                number += 1
                if not line.strip():
                    continue
                count = line.count(header.delimiter.encode()) + 1
                if count != len(header.names):
                    why = f"line {number}: it has {count} values, {len(header.names)} are needed"
                    yield Skipped(self.place, why)
                    continue
                label = _cell(line, labels, count, header.delimiter)
                if not label:
                    yield Skipped(self.place, f"line {number}: its label is blank")
                    continue
                word = _cell(line, sets, count, header.delimiter).lower() if sets is not None else ""
                yield Found(self.place, class_name(label), SET_WORDS.get(word), "byte", start)

    def picture(self, file: Path, part: str, index: int) -> Picture:
        """The image whose line starts at byte ``index``."""
        del part
        header, labels, sets = self._located()
        pixel_format = self.reading.pixel_format
        try:
            with file.open("rb") as stream:
                stream.seek(index)
                values = _numbers(stream.readline(), header, labels, sets)
            image = unfolded(values, self.reading)
            if not pixel_format.is_plain:
                return replace(of_stored(image, pixel_format, " line of a table"), stored=values.size)
            grey = "grey " if image.shape[2] == 1 else ""
            return Picture(self._scaled().pixels(image), f"{grey}line of a table", stored=values.size)
        except (ValueError, OSError) as error:
            why = str(error.strerror).lower() if isinstance(error, OSError) else str(error)
            raise BadFile(f"{file.name}, byte {index} was not read", why, "Mend the line") from None

    def stored(self, file: Path, part: str, index: int) -> StoredValues | None:
        """A table's numbers have no depth of their own."""
        del file, part, index
        return None

    def _located(self) -> tuple[Head, int, int | None]:
        if self._columns is None:
            header = head(self.place)
            if self.reading.labels not in header.names:
                why = f"it has no column «{self.reading.labels}» any more"
                raise BadFile(f"{self.place} has changed", why, "Restore it")
            self._columns = header, header.names.index(self.reading.labels), header.column(SET_COLUMNS)
        return self._columns

    def _scaled(self) -> Scale:
        """What white is, from the first lines that can be read."""
        if self._scale is None:
            sample = self._first_lines()
            self._scale = Scale.of(np.stack(sample) if sample else np.full((1, 1), 255.0))
        return self._scale

    def _first_lines(self) -> list[NDArray[np.float64]]:
        """The pixels of those that can be read."""
        header, labels, sets = self._located()
        sample = []
        for row in header.rows:
            line = header.delimiter.join(row).encode("utf-8", "surrogateescape")
            try:
                sample.append(_numbers(line, header, labels, sets))
            except ValueError:
                continue
        return sample

    def completed(self) -> Reading:
        """By the values of the first lines: those that 8 bits hold make ordinary pictures."""
        reading = self.reading
        if reading.depth == EIGHT and not reading.channels:
            top = self._scaled().top
            return reading if reading.has_scale or top <= 255 else replace(reading, white=top)
        lines = self._first_lines()
        sampled = Sampled.of(lines)
        if reading.depth or reading.channels or reading.beyond_eight_bits or not sampled.has_eight_bits:
            count = lines[0].size // (reading.height * reading.width) if lines else 1
            names = reading.channels or ", ".join(usual_channels(count))
            reading = replace(reading, depth=reading.depth or sampled.depth_for(reading), channels=names)
            return reading if reading.has_scale or reading.depth == EIGHT else with_scale(reading, lines)
        return reading


def _cell(line: bytes, column: int, count: int, delimiter: str) -> str:
    """One cell of a line; the ends are found without cutting the whole line up."""
    mark = delimiter.encode()
    if column == 0:
        cell = line.split(mark, 1)[0]
    elif column == count - 1:
        cell = line.rsplit(mark, 1)[1]
    else:
        cell = line.split(mark, column + 1)[column]
    text = cell.decode("utf-8-sig", "replace").strip()
    return next(csv.reader([text]), [""])[0] if text.startswith('"') else text


def _numbers(line: bytes, header: Head, labels: int, sets: int | None) -> NDArray[np.float64]:
    """The pixels of a line; `ValueError` with the reason if one is missing or no number."""
    cells = line.strip(b"\r\n").split(header.delimiter.encode())
    if len(cells) != len(header.names):
        raise ValueError(f"it has {len(cells)} values, {len(header.names)} are needed")
    for column in sorted({labels, *([sets] if sets is not None else [])}, reverse=True):
        del cells[column]
    try:
        return np.array(cells).astype(np.float64)
    except ValueError:
        bad = next(k for k, cell in enumerate(cells) if not is_number(cell.decode("utf-8", "replace")))
        shown = cells[bad].decode("utf-8", "replace").strip()
        raise ValueError(f"pixel {bad + 1} is {'blank' if not shown else repr(shown)}, no number") from None
