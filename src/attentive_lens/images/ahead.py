"""Image files read by threads ahead of whoever looks at them, however many there are."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from pathlib import Path
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import LensError
from attentive_lens.images.preprocessing import Preprocessor

BATCH = 64
"""Files read at once."""
READERS, AHEAD = 2, 3
"""Threads that read, and batches that are asked of them in advance."""

Read: TypeAlias = list[tuple[str, NDArray[np.uint8] | str]]
"""Files with their pixels at the input size H×W×C, or why there are none."""


def read_files(preprocessor: Preprocessor, files: Sequence[str]) -> Read:
    """Files at the input size, each with its pixels or the reason why there are none."""
    outcome: Read = []
    for file in files:
        try:
            outcome.append((file, preprocessor.opened(Path(file))))
        except LensError as error:
            outcome.append((file, error.why))
    return outcome


def read_ahead(preprocessor: Preprocessor, files: Iterable[str]) -> Iterator[Read]:
    """Files in their order, `BATCH` at a time; no more are held than `AHEAD` batches."""
    left = iter(files)
    with ThreadPoolExecutor(READERS, "reading") as readers:
        waiting = deque(readers.submit(read_files, preprocessor, batch) for batch in _batches(left, AHEAD))
        while waiting:
            read = waiting.popleft().result()
            waiting.extend(readers.submit(read_files, preprocessor, batch) for batch in _batches(left, 1))
            yield read


def _batches(files: Iterator[str], most: int) -> Iterator[list[str]]:
    for _ in range(most):
        batch = list(islice(files, BATCH))
        if not batch:
            return
        yield batch
