"""Images kept in a file, read when they are asked for: a file cut by somebody is a sentence, not the process's end."""

from __future__ import annotations

import contextlib
import json
import os
import zlib
from pathlib import Path
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import DTypeLike, NDArray

from attentive_lens.errors import BadFile
from attentive_lens.images.pixel_format import PixelArray, level_of

TYPES = (np.dtype(np.uint8), np.dtype(np.float32))
"""Of pixels."""
BLOCKS, BLOCK = 64, 4096
"""Blocks that are looked at to know the file again, and their bytes."""


class Rows:
    """An NPY file of images N×H×W×C uint8 or float32, indexed like an array by number, slice, or array of numbers.

    Unlike a memory map it does not end the process where the file turns out shorter than it was.

    Parameters
    ----------
    file : Path
        C order, uint8 or float32 in 0–1.
    missing : int, optional
        Level 0–255 that stands for pixels that cannot be read any more; without it they are an error.

    Raises
    ------
    BadFile
        If the file is none, or shorter than it says.
    """

    ndim = 4

    def __init__(self, file: Path, missing: int | None = None) -> None:
        self.file, self.missing = file, missing
        try:
            self._stream = file.open("rb", buffering=0)
            version = np.lib.format.read_magic(self._stream)
            read = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
            shape, columns_first, dtype = read(self._stream)
        except (OSError, ValueError) as error:
            raise BadFile(f"{file} could not be read", f"it is no file of images ({error})", "Delete it") from None
        self.shape: tuple[int, ...] = tuple(int(n) for n in shape)
        self._start = self._stream.tell()
        self.dtype = np.dtype(dtype)
        self._size = int(np.prod(self.shape[1:], dtype=np.int64)) * self.dtype.itemsize
        short = os.fstat(self._stream.fileno()).st_size < self._start + len(self) * self._size
        if len(self.shape) != 4 or columns_first or self.dtype not in TYPES or short:
            self._stream.close()
            raise BadFile(f"{file} could not be read", "it is cut off, or holds no images", "Delete it")

    def __len__(self) -> int:
        return self.shape[0]

    def __getitem__(self, places: Any) -> Any:  # PixelArray, of one type in one file
        if isinstance(places, tuple):
            first = () if isinstance(places[0], int | np.integer) else (slice(None),)
            return np.asarray(self[places[0]][(*first, *places[1:])])
        if isinstance(places, slice):
            begin, last, step = places.indices(len(self))
            if step == 1:
                out = np.empty((max(0, last - begin), *self.shape[1:]), self.dtype)
                self._read(begin, out)
                return out
            places = np.arange(begin, last, step)
        if isinstance(places, int | np.integer):
            place = int(places) + (len(self) if places < 0 else 0)
            if not 0 <= place < len(self):
                raise IndexError(f"there is no image {places} among {len(self)}")
            out = np.empty(self.shape[1:], self.dtype)
            self._read(place, out)
            return out
        chosen = np.asarray(places)
        chosen = np.flatnonzero(chosen) if chosen.dtype == bool else chosen.astype(np.int64)
        out = np.empty((*chosen.shape, *self.shape[1:]), self.dtype)
        flat = out.reshape(-1, *self.shape[1:])
        for k, place in enumerate(chosen.reshape(-1).tolist()):
            if not -len(self) <= place < len(self):
                raise IndexError(f"there is no image {place} among {len(self)}")
            self._read(place % len(self), flat[k])
        return out

    def __array__(self, dtype: DTypeLike | None = None, copy: bool | None = None) -> NDArray[Any]:
        return np.asarray(self[:].astype(dtype or self.dtype, copy=False))

    def _read(self, place: int, out: NDArray[Any]) -> None:
        """Fill an array from the file, beginning with an image."""
        view = out.data.cast("B") if out.size else memoryview(b"")
        at, done = self._start + place * self._size, 0
        while done < len(view):
            try:
                got = os.preadv(self._stream.fileno(), [view[done:]], at + done)
            except OSError:
                got = 0
            if not got:
                if self.missing is None:
                    raise BadFile(
                        f"{self.file.name} was cut off while it was used",
                        "something else changed the workspace's cache",
                        "Do it again: the images are prepared anew",
                    )
                out.reshape(-1)[done // out.itemsize :] = level_of(self.missing, self.dtype)
                return
            done += got

    def __del__(self) -> None:
        with contextlib.suppress(AttributeError, OSError):
            self._stream.close()


Pixels: TypeAlias = PixelArray | Rows
"""Images N×H×W×C uint8 or float32, in memory or in a file."""


def stretched(pixels: Pixels, count: int, level: int = 128) -> Pixels:
    """At least so many images: those that are not there yet are of one level, 0–255."""
    lacking = count - len(pixels)
    if lacking <= 0:
        return pixels
    if isinstance(pixels, Rows):
        longer = Rows(pixels.file, level)
        longer.shape = (count, *pixels.shape[1:])
        return longer
    return np.concatenate([pixels, np.full((lacking, *pixels.shape[1:]), level_of(level, pixels.dtype), pixels.dtype)])


class Chosen:
    """Some of many images, by their places: indexed like the images themselves, and read no sooner.

    Parameters
    ----------
    pixels : Pixels
        All images.
    places : ndarray, M int64
        Those chosen.
    """

    def __init__(self, pixels: Pixels, places: NDArray[np.int64]) -> None:
        self.pixels, self.places = pixels, places

    def __len__(self) -> int:
        return len(self.places)

    def __getitem__(self, chosen: slice | NDArray[np.int64]) -> Any:  # as `Rows` gives them
        return np.asarray(self.pixels[self.places[chosen]])


def _fingerprint(file: Path) -> dict[str, int]:
    """Length, and a checksum of the beginning and of blocks all over the file."""
    size = file.stat().st_size
    sum_ = 0
    with file.open("rb") as stream:
        for at in np.unique(np.linspace(0, max(0, size - BLOCK), BLOCKS).astype(np.int64)).tolist():
            stream.seek(at)
            sum_ = zlib.crc32(stream.read(BLOCK), sum_)
    return {"bytes": size, "checksum": sum_}


def _beside(file: Path) -> Path:
    return file.with_suffix(".json")


def seal(file: Path) -> None:
    """Note beside a file how it can be known again."""
    _beside(file).write_text(json.dumps(_fingerprint(file)), "utf-8")


def is_whole(file: Path) -> bool:
    """Whether a file is as it was sealed."""
    try:
        return bool(json.loads(_beside(file).read_text("utf-8")) == _fingerprint(file))
    except (OSError, ValueError):
        return False
