"""NPY and NPZ files."""

from __future__ import annotations

import zipfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import BadFile
from attentive_lens.images.sources.arrays import ArraySource, Entry, unpacked
from attentive_lens.images.sources.base import listed
from attentive_lens.images.stored import BROKEN


class Arrays(ArraySource):
    """One NPZ file, or NPY files in one folder."""

    title = "arrays (NPY, NPZ)"

    @classmethod
    def recognises(cls, place: Path) -> bool:
        """A file of either kind, or a folder of NPY files."""
        if place.is_dir():
            try:
                return any(p.suffix.lower() == ".npy" and p.is_file() for p in place.iterdir())
            except OSError:
                return False
        return place.suffix.lower() in (".npy", ".npz")

    @classmethod
    def entries(cls, place: Path) -> list[Entry]:
        """From the headers alone."""
        if place.suffix.lower() == ".npz":
            return _npz_entries(place)
        files = [p for p in listed(place if place.is_dir() else place.parent) if p.suffix.lower() == ".npy"]
        entries = [_npy_entry(file) for file in files]
        if place.is_dir():
            return entries
        return [entry for entry in entries if entry.file == place or not entry.holds_images]

    @classmethod
    def load(cls, entry: Entry) -> NDArray[Any]:
        """Memory-mapped; a packed array is unpacked to a temporary file first."""
        try:
            if entry.file.suffix.lower() == ".npy":
                return np.asanyarray(np.load(entry.file, mmap_mode="r", allow_pickle=False))
            with zipfile.ZipFile(entry.file) as archive, archive.open(f"{entry.name}.npy") as member:
                if np.prod(entry.shape) * entry.dtype.itemsize < 1 << 24:
                    return np.asarray(np.lib.format.read_array(member, allow_pickle=False))
                shape, columns_first, dtype = _header(member)
                return unpacked(member, shape, dtype, columns_first)
        except (*BROKEN, zipfile.BadZipFile) as error:
            raise _damaged(entry.file, error) from None


def _header(stream: Any) -> tuple[tuple[int, ...], bool, np.dtype[Any]]:
    version = np.lib.format.read_magic(stream)
    read = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
    shape, columns_first, dtype = read(stream)
    if dtype.hasobject:
        raise ValueError("it holds Python objects, which are not read for safety")
    return tuple(int(n) for n in shape), columns_first, dtype


def _npy_entry(file: Path) -> Entry:
    try:
        with file.open("rb") as stream:
            shape, _, dtype = _header(stream)
            room = file.stat().st_size - stream.tell()
    except BROKEN as error:
        raise _damaged(file, error) from None
    needed = int(np.prod(shape)) * dtype.itemsize
    if room < needed:
        raise _damaged(file, ValueError(f"it ends {needed - room} bytes too early"))
    return Entry(file.stem, file, shape, dtype)


def _npz_entries(file: Path) -> list[Entry]:
    entries = []
    try:
        with zipfile.ZipFile(file) as archive:
            for name in sorted(archive.namelist()):
                if name.endswith(".npy"):
                    with archive.open(name) as member:
                        shape, _, dtype = _header(member)
                    entries.append(Entry(name.removesuffix(".npy"), file, shape, dtype))
    except (*BROKEN, zipfile.BadZipFile) as error:
        raise _damaged(file, error) from None
    return entries


def _damaged(file: Path, error: Exception) -> BadFile:
    why = str(error.strerror).lower() if isinstance(error, OSError) and error.strerror else str(error)
    return BadFile(f"{file} could not be read", f"it is damaged or cut off ({why})", "Replace it")
