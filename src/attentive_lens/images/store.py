"""Images at the working size in one memory-mapped file, so that they are decoded once and may outgrow memory."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import BadFile
from attentive_lens.images.decoding import decode
from attentive_lens.images.preparation import to_square
from attentive_lens.plan.progress import Job, Progress
from attentive_lens.plan.settings import Preparation

CHUNK = 256
"""Images decoded between two reports."""


def prepared(files: Sequence[Path], preparation: Preparation, folder: Path, threads: int = 2) -> Job[NDArray[np.uint8]]:
    """All images at the working size, from the cache or decoded now.

    Parameters
    ----------
    files : sequence of Path
        Readable image files.
    preparation : Preparation
        Side, fit and colour.
    folder : Path
        Cache folder; what is in it may be deleted at any time.
    threads : int
        Threads that decode.

    Returns
    -------
    ndarray, N×S×S×C uint8
        Memory-mapped, in the order of the files; in memory only if the folder cannot be written.

    Raises
    ------
    BadFile
        If a file can no longer be read as it was when it was imported.
    """
    digest = hashlib.sha256(f"{preparation.side} {preparation.fit} {preparation.colour}".encode())
    for file in files:
        try:
            status = file.stat()
        except OSError:
            raise BadFile(
                f"{file} is gone", "it was there when it was imported", "Put it back, or import again"
            ) from None
        digest.update(f"{file}\0{status.st_size}\0{status.st_mtime_ns}\n".encode(errors="surrogateescape"))
    target = folder / f"prepared-{digest.hexdigest()[:16]}.npy"
    shape = (len(files), *preparation.shape)
    if target.exists():
        kept = _mapped(target, shape)
        if kept is not None:
            return kept
    writable = os.access(folder, os.W_OK)
    own = folder / f".{target.name}.{os.getpid()}"
    pixels: NDArray[np.uint8] = (
        np.lib.format.open_memmap(own, "w+", np.uint8, shape) if writable else np.empty(shape, np.uint8)
    )

    def one(place: int) -> None:
        pixels[place] = to_square(decode(files[place]).pixels, preparation)

    try:
        with ThreadPoolExecutor(threads) as pool:
            for first in range(0, len(files), CHUNK):
                yield Progress(first, len(files), "preparing images")
                list(pool.map(one, range(first, min(first + CHUNK, len(files)))))
        if not writable:
            return pixels
        own.replace(target)
    finally:
        own.unlink(missing_ok=True)
    kept = _mapped(target, shape)
    return pixels if kept is None else kept


def _mapped(file: Path, shape: tuple[int, ...]) -> NDArray[np.uint8] | None:
    """The cached array, or None if the file is not what its name says."""
    try:
        array = np.load(file, mmap_mode="r", allow_pickle=False)
    except (OSError, ValueError):
        return None
    return array if array.shape == shape and array.dtype == np.uint8 else None
