"""Images at the input size in one file, known again by its seal: decoded once, however many they are."""

from __future__ import annotations

import hashlib
import math
import os
import shutil
from collections.abc import Iterator, Sequence
from contextlib import nullcontext
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import psutil

from attentive_lens.core.files import part_of, remove_leftovers
from attentive_lens.core.helpers import Helpers
from attentive_lens.core.jobs import Job, Progress, paced
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images.ahead import batches
from attentive_lens.images.opening import keeping_open
from attentive_lens.images.rows import Pixels, Rows, is_whole, seal
from attentive_lens.images.sources.base import Reference
from attentive_lens.plan.preprocessing import Preprocessing

SPARE = 1 << 20
"""Bytes left free on a disk, for journals and checkpoints."""


def prepared(
    images: Sequence[Reference | None],
    preprocessing: Preprocessing,
    folder: Path,
    state: str = "",
) -> Job[Pixels]:
    """All images at the input size, from the cache or decoded now.

    They are written a chunk at a time, so making them takes little memory however many there are.

    Parameters
    ----------
    images : sequence of Reference or None
        Readable images; None stands for one that is gone and gives black.
    preprocessing : Preprocessing
        Input size, resize mode and colour space.
    folder : Path
        Cache folder; what is in it may be deleted at any time.
    state : str
        From `state_of`, if it is known already.

    Returns
    -------
    Rows, N×H×W×C uint8 or float32
        In the order of the images, read from the file when asked for; an ndarray if the folder cannot be written.

    Raises
    ------
    BadFile
        If an image can no longer be read as it was when it was imported, or there is no room for all.
    """
    target = folder / f"prepared-{state or state_of(images, preprocessing)}.npy"
    shape, dtype = (len(images), *preprocessing.shape), _dtype_of(images)
    cached = _kept(target, shape, dtype)
    if cached is not None:
        return cached
    writable = os.access(folder, os.W_OK)
    _check_room(folder if writable else None, math.prod(shape) * dtype.itemsize)
    partial_file = part_of(target)
    remove_leftovers(folder)
    whole = np.empty((0, *preprocessing.shape) if writable else shape, dtype)
    try:
        with (
            Helpers(partial(_decoded, preprocessing, dtype), 0 if any(_is_whole(images)) else None) as helpers,
            partial_file.open("wb") if writable else nullcontext() as file,
        ):
            if file is not None:
                header = {"descr": dtype.str, "fortran_order": False, "shape": shape}
                np.lib.format.write_array_header_1_0(file, header)
            done = 0
            for chunk in helpers.each(batches(images)):
                yield Progress(done, len(images), "preparing images")
                if file is not None:
                    file.write(chunk.data)
                else:
                    whole[done : done + len(chunk)] = chunk
                done += len(chunk)
        if not writable:
            return whole
        partial_file.replace(target)
        seal(target)
    finally:
        if writable:
            partial_file.unlink(missing_ok=True)
    cached = _kept(target, shape, dtype)
    if cached is None:
        raise BadFile(f"{target} could not be read", "it was changed while it was written", "Try again")
    return cached


def _is_whole(images: Sequence[Reference | None]) -> Iterator[bool]:
    return (one.source.is_whole for one in images if one is not None)


def _dtype_of(images: Sequence[Reference | None]) -> np.dtype[Any]:
    """Of prepared pixels; a set has one type.

    Raises
    ------
    BadValue
        If some sources give 8 bits and others more.
    """
    known = {id(one.source): one.source for one in images if one is not None}
    types = {source.reading.pixel_format.dtype for source in known.values()}
    if len(types) > 1:
        why = "some of its sources give 8 bits a channel, and some more"
        raise BadValue("The images have no common scale", why, "Import those of one depth by themselves")
    return types.pop() if types else np.dtype(np.uint8)


def _decoded(preprocessing: Preprocessing, dtype: np.dtype[Any], images: Sequence[Reference | None]) -> Any:
    """Images at the input size, N×H×W×C uint8 or float32."""
    black = np.zeros(preprocessing.shape, dtype)
    with keeping_open():
        return np.stack([black if one is None else one.resized(preprocessing) for one in images])


def _check_room(folder: Path | None, needed: int) -> None:
    """Refuse to prepare what fits neither on the disk nor, where nothing may be written, into memory."""
    free = shutil.disk_usage(folder).free - SPARE if folder is not None else psutil.virtual_memory().available
    if needed > free:
        where = "on the disk" if folder is not None else "in memory, as the workspace cannot be written"
        raise BadFile(
            "The images cannot be prepared",
            f"they need {size_in_words(needed)} at this input size, and {size_in_words(max(0, free))} are free {where}",
            "Make room, or choose a smaller input size or subset",
        )


def size_in_words(count: int) -> str:
    """Bytes as 1.5 GiB or 87.0 MiB."""
    return f"{count / 2**30:.1f} GiB" if count >= 1 << 30 else f"{count / 2**20:.1f} MiB"


def state_of(images: Sequence[Reference | None], preprocessing: Preprocessing) -> str:
    """Changes when the prepared pixels may: every image's file as it is now, the preprocessing before normalisation."""
    seen = "".join(f" {name}" for name in preprocessing.channel_names)
    digest = hashlib.sha256(
        f"{preprocessing.input_size} {preprocessing.resize_mode} {preprocessing.channels}{seen}".encode()
    )
    known: dict[str, str] = {}
    readings: set[int] = set()
    for image in paced(images):
        if image is None:
            digest.update(b"gone\n")
            continue
        if id(image.source) not in readings:
            readings.add(id(image.source))
            digest.update(image.source.reading.summary.encode())
        if image.file not in known:
            known[image.file] = _state(image.file)
        digest.update(
            f"{known[image.file]}\0{image.part}\0{image.index}{image.region or ''}\n".encode(errors="surrogateescape")
        )
        if image.index < 0:
            del known[image.file]
    return digest.hexdigest()[:16]


def _state(file: str) -> str:
    try:
        status = os.stat(file)  # noqa: PTH116  # asked for every image; half the time of Path
    except OSError:
        remedy = "Put it back, or let the source be looked through again"
        raise BadFile(f"{file} is gone", "it was there when it was imported", remedy) from None
    return f"{file}\0{status.st_size}\0{status.st_mtime_ns}\0{status.st_ctime_ns}"


def _kept(file: Path, shape: tuple[int, ...], dtype: np.dtype[Any]) -> Rows | None:
    """The cached images, or None if the file is not what its name and its seal say."""
    if not is_whole(file):
        return None
    try:
        rows = Rows(file)
    except BadFile:
        return None
    return rows if rows.shape == shape and rows.dtype == dtype else None
