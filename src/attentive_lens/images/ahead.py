"""Image files read ahead of whoever looks at them, however many there are."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import partial
from itertools import islice
from pathlib import Path
from typing import TypeAlias, TypeVar

from attentive_lens.core.helpers import Helpers
from attentive_lens.errors import LensError
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.preprocessing import Preprocessor

T = TypeVar("T")

BATCH = 64
"""Files read at once."""

Read: TypeAlias = list[tuple[str, PixelArray | str]]
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
    """Files in their order, `BATCH` at a time; no more are held than helpers read."""
    with Helpers(partial(read_files, preprocessor)) as helpers:
        yield from helpers.each(batches(files))


def batches(items: Iterable[T], size: int = BATCH) -> Iterator[list[T]]:
    """Lists of so many, the last of what is left."""
    left = iter(items)
    while batch := list(islice(left, size)):
        yield batch
