"""Pictures in a file that holds several, by name: «stack.tif#3» is the third one in it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

from attentive_lens.images.decoding import Picture, decode
from attentive_lens.images.pixel_format import EACH, PixelFormat
from attentive_lens.images.stored import count_of_pages

SIGN = "#"
MOST_PAGES = 999_999_999


def page_name(file: str, number: int) -> str:
    """The name of a page; the first has number 1."""
    return f"{file}{SIGN}{number}"


def parted(name: str) -> tuple[str, int | None]:
    """A file, and the number of the page that is named with it; a file that itself ends like that goes before."""
    file, sign, number = name.rpartition(SIGN)
    is_number = number.isascii() and number.isdecimal() and 0 < int(number[:10]) <= MOST_PAGES
    return (file, int(number)) if sign and file and is_number and not Path(name).exists() else (name, None)


def decode_named(name: str, pixel_format: PixelFormat) -> Picture:
    """An image file, or a page of one, see `decode`."""
    file, number = parted(name)
    return decode(Path(file), pixel_format, None if number is None else number - 1)


def each_page(files: Iterable[str], pixel_format: PixelFormat) -> Iterator[str]:
    """Files, or the pages in each where every page is an image; a file of one page keeps its own name."""
    for file in files:
        count = count_of_pages(Path(file)) if pixel_format.pages == EACH else 1  # of a page that is named, too
        if count == 1:
            yield file
        else:
            yield from (page_name(file, number) for number in range(1, count + 1))
