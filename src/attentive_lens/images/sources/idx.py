"""IDX files, plain or packed with gzip: a short header and the numbers."""

from __future__ import annotations

import gzip
import struct
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import BadFile
from attentive_lens.images.sources.arrays import ArraySource, Entry, unpacked
from attentive_lens.images.sources.base import listed

_TYPES = {8: ">u1", 9: ">i1", 11: ">i2", 12: ">i4", 13: ">f4", 14: ">f8"}
"""By the third byte of the file; the fourth counts the axes, then each axis has four bytes, all big-endian."""


class IdxFiles(ArraySource):
    """An IDX file of images with one of labels beside it, or a folder of such pairs, each a set of its own."""

    title = "IDX files"

    @classmethod
    def recognises(cls, place: Path) -> bool:
        """By the first bytes: two zeros, a type, the number of axes."""
        if place.is_dir():
            try:
                files = [p for p in place.iterdir() if p.is_file()]
            except OSError:
                return False
            return any(_header(file) is not None for file in files[:50])
        return place.is_file() and _header(place) is not None

    @classmethod
    def entries(cls, place: Path) -> list[Entry]:
        """Every IDX file of the folder; of a file, it and the columns beside it."""
        entries = []
        for file in listed(place if place.is_dir() else place.parent):
            header = _header(file) if file.is_file() else None
            if header is not None:
                entries.append(Entry(file.name, file, header[0], header[1]))
        if place.is_dir():
            return entries
        return [entry for entry in entries if entry.file == place or entry.is_column]

    @classmethod
    def sets_of(cls, images: Sequence[Entry]) -> list[str | None]:
        """Each pair is a set: beside one whose name says «train», one whose name says nothing is the test set."""
        named = super().sets_of(images)
        if "training" in named:
            return [name or "test" for name in named]
        return named

    @classmethod
    def load(cls, entry: Entry) -> NDArray[Any]:
        """Memory-mapped; a packed file is unpacked to a temporary one first."""
        start = 4 + 4 * len(entry.shape)
        try:
            if _is_packed(entry.file):
                with gzip.open(entry.file) as stream:
                    stream.read(start)
                    return unpacked(stream, entry.shape, entry.dtype)
            return np.memmap(entry.file, entry.dtype, "r", start, entry.shape)
        except (OSError, ValueError, EOFError, zlib.error) as error:
            raise BadFile(
                f"{entry.file} could not be read", f"it is damaged or cut off ({error})", "Replace it"
            ) from None


def _is_packed(file: Path) -> bool:
    with file.open("rb") as stream:
        return stream.read(2) == b"\x1f\x8b"


def _header(file: Path) -> tuple[tuple[int, ...], np.dtype[Any]] | None:
    """Shape and type, or None if the file is not of this kind."""
    try:
        with gzip.open(file) if _is_packed(file) else file.open("rb") as stream:
            start = stream.read(4)
            if len(start) < 4 or start[:2] != b"\0\0" or start[2] not in _TYPES or not 1 <= start[3] <= 4:
                return None
            sizes = stream.read(4 * start[3])
        return struct.unpack(f">{start[3]}I", sizes), np.dtype(_TYPES[start[2]])
    except (OSError, EOFError, struct.error, zlib.error):
        return None
