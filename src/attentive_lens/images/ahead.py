"""Image files read ahead of whoever looks at them, however many there are."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import partial
from itertools import islice
from typing import NamedTuple, TypeAlias, TypeVar

from attentive_lens.core.helpers import Helpers
from attentive_lens.errors import LensError
from attentive_lens.images.opening import keeping_open
from attentive_lens.images.pages import parted
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.preprocessing import Preprocessor

T = TypeVar("T")

BATCH = 64
"""Files read at once."""


class Opened(NamedTuple):
    """An image file, or a page of one (see `pages`), as a model looks at it.

    Attributes
    ----------
    name : str
    pixels : ndarray, H×W×C, or str
        At the input size; or why there are none.
    pages : int
        Pictures in the file where none of them is named: the first is looked at.
    """

    name: str
    pixels: PixelArray | str
    pages: int = 1


Read: TypeAlias = list[Opened]


def opened(preprocessor: Preprocessor, name: str) -> Opened:
    """One image by its name."""
    try:
        picture = preprocessor.picture(name)
    except LensError as error:
        return Opened(name, error.why)
    return Opened(name, picture.pixels, picture.pages if parted(name)[1] is None else 1)


def read_files(preprocessor: Preprocessor, names: Sequence[str]) -> Read:
    """Images at the input size, each with its pixels or the reason why there are none."""
    with keeping_open():
        return [opened(preprocessor, name) for name in names]


def read_ahead(preprocessor: Preprocessor, names: Iterable[str]) -> Iterator[Read]:
    """Images in their order, `BATCH` at a time; no more are held than helpers read."""
    with Helpers(partial(read_files, preprocessor)) as helpers:
        yield from helpers.each(batches(names))


def batches(items: Iterable[T], size: int = BATCH) -> Iterator[list[T]]:
    """Lists of so many, the last of what is left."""
    left = iter(items)
    while batch := list(islice(left, size)):
        yield batch
