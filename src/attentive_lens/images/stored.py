"""What picture files hold, before anything is made of it: values of any depth, channels and pages."""

from __future__ import annotations

import logging
import stat
import struct
import tokenize
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple, cast

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.images.opening import opened_picture, opened_tiff
from attentive_lens.images.pixel_format import EACH, EIGHT, FIRST, MOST_CHANNELS, SIXTEEN, STACKED, depth_of

MOST_PIXELS = 200_000_000
"""Larger pictures are refused before they are unpacked: 600 MB of memory each."""
NPY = ".npy"
"""Ending of a file that holds one image as an array."""
BROKEN = (
    OSError, SyntaxError, ValueError, EOFError, IndexError, KeyError, TypeError, ZeroDivisionError, RuntimeError,
    AttributeError, AssertionError, OverflowError, StopIteration, struct.error, zlib.error, MemoryError,
    tokenize.TokenError, Image.DecompressionBombError,
)  # fmt: skip
"""What decoders of damaged files raise."""
for _reader in ("tifffile", "PIL"):
    logging.getLogger(_reader).setLevel(logging.CRITICAL)  # what they would say of damaged files is said here
_TIFF = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
_PNG = b"\x89PNG\r\n\x1a\n"
_ARRAY = b"\x93NUMPY"
_GREY_ALPHA, _COLOUR_ALPHA = 4, 6
"""Of the colour types of a PNG file."""
_CHANNELS_OF_PNG = {0: 1, 2: 3, _GREY_ALPHA: 2, _COLOUR_ALPHA: 4}
_CONVERTED = (3, 5, 6, 8)
"""Photometric interpretations of a TIFF that have to be converted to be red, green and blue: palette, separated, luma
and chroma, CIELAB."""
_OPACITY = (1, 2)
"""Kinds of extra samples of a TIFF that are opacity."""


class NotStored(ValueError):
    """A file that gives no values; its text is the reason."""


@dataclass(frozen=True)
class StoredValues:
    """What a file or an array holds: least and greatest value, bits of each."""

    low: float
    high: float
    bits: int


def of_values(values: NDArray[Any], bits: int = 0) -> StoredValues:
    """Of an array."""
    return StoredValues(float(values.min(initial=0)), float(values.max(initial=0)), bits or 8 * values.dtype.itemsize)


@dataclass(frozen=True)
class Kind:
    """What a picture file is by its head, without unpacking it.

    Attributes
    ----------
    depth : str
        One of `pixel_format.DEPTHS`.
    channels : int
        Opacity not counted; 3 for any ordinary picture.
    pages : int
        Of one size.
    """

    depth: str
    channels: int
    pages: int = 1

    @property
    def is_plain(self) -> bool:
        """Whether an ordinary picture holds all of it."""
        return self.depth == EIGHT and self.channels in (1, 3)


def kind_of_file(file: Path) -> Kind | None:
    """What a file is; None if it is no picture, or cannot be read."""
    try:
        if not stat.S_ISREG(file.stat().st_mode):
            return None  # a pipe would be waited for
        head = _head(file)
        if is_array(file, head):
            values = _of_array(np.load(file, mmap_mode="r", allow_pickle=False))
            return Kind(depth_of(values.dtype), values.shape[2])
        if _is_deep_png(head):
            return Kind(SIXTEEN, 1 if head[25] in (0, _GREY_ALPHA) else 3)
        if head[:4] in _TIFF:
            with opened_tiff(file) as tiff:
                page, count = tiff.pages[0], _count(tiff)
                if page.photometric in _CONVERTED and page.bitspersample <= 8:
                    return Kind(EIGHT, 3, count)  # print colours, a palette and the like: a picture's colours
                return Kind(depth_of(np.dtype(page.dtype)), int(page.samplesperpixel) - _has_opacity(page), count)
        with opened_picture(file) as picture:
            return Kind(_depth(picture.mode), 1 if is_deep(picture.mode) else 3, getattr(picture, "n_frames", 1))
    except BROKEN:
        return None  # decoding it says why


def size_of_file(file: Path) -> tuple[int, int]:
    """Height and width by a picture's head, without unpacking it; zeros for what cannot be read."""
    try:
        head = _head(file)
        if is_array(file, head):
            height, width, _ = _of_array(np.load(file, mmap_mode="r", allow_pickle=False)).shape
        elif head[:4] in _TIFF:
            with opened_tiff(file) as tiff:
                height, width = tiff.pages[0].imagelength, tiff.pages[0].imagewidth
        else:
            with opened_picture(file) as picture:
                width, height = picture.size
    except BROKEN:
        return 0, 0
    return int(height), int(width)


def stored_values(file: Path, pages: str = FIRST, page: int = 0) -> StoredValues | None:
    """Of a picture file; None if it cannot be read."""
    try:
        if needs_own_reader(file):
            return of_values(values_in(file, pages, page))
        with opened_picture(file) as picture:
            if picture.width * picture.height > MOST_PIXELS:
                return None
            picture.seek(page)
            mode = picture.mode
            values = np.asarray(picture.convert("RGB") if mode == "P" else picture)
    except BROKEN:
        return None
    return of_values(values, 1 if mode == "1" else 16 if mode.startswith("I;16") else 32 if is_deep(mode) else 8)


def needs_own_reader(file: Path) -> bool:
    """Whether the usual decoder of pictures would lose some of what a file holds, or cannot read it."""
    head = _head(file)
    return is_array(file, head) or _is_deep_png(head) or head[:4] in _TIFF


def count_of_pages(file: Path) -> int:
    """How many pictures of one size a file holds; 1 for what cannot be read."""
    kind = kind_of_file(file)
    return kind.pages if kind is not None else 1


class Held(NamedTuple):
    """Values H×W×C of a file, and how many pages of that size it has."""

    values: NDArray[Any]
    pages: int = 1


def held_by(file: Path, pages: str = FIRST, page: int = 0) -> Held:
    """Values of a picture file, in the type they are stored in, turned as the file says; opacity lies on white.

    Parameters
    ----------
    file : Path
        A picture, or an NPY array H×W, H×W×C or C×H×W.
    pages : str
        What several pages are: only the first is wanted, each is an image, or all are channels of one.
    page : int
        Which, where each is an image.

    Raises
    ------
    NotStored
        If it holds no image, or too large a one.
    OSError, ValueError, …
        One of `BROKEN`, if it is damaged.
    """
    head = _head(file)
    if is_array(file, head):
        return Held(np.array(_of_array(np.load(file, mmap_mode="r", allow_pickle=False))))
    if _is_deep_png(head):
        return Held(_of_png(file, head))
    if head[:4] in _TIFF:
        return _of_tiff(file, pages, page)
    with opened_picture(file) as picture:
        _check_size(picture.height, picture.width)
        picture.seek(page if pages == EACH else 0)
        values = np.asarray(picture if is_deep(picture.mode) else picture.convert("RGB"))
        return Held(values.reshape(*values.shape[:2], -1), getattr(picture, "n_frames", 1))


def values_in(file: Path, pages: str = FIRST, page: int = 0) -> NDArray[Any]:
    """The values alone, H×W×C, see `held_by`."""
    return held_by(file, pages, page).values


def is_array(file: Path, head: bytes | None = None) -> bool:
    """Whether a file holds an array, by its ending or by how it begins (NEP 1); its first bytes may be known."""
    return file.suffix.lower() == NPY or (_head(file) if head is None else head).startswith(_ARRAY)


def _head(file: Path) -> bytes:
    with file.open("rb") as stream:
        return stream.read(32)


def is_deep(mode: str) -> bool:
    """Whether a picture has more than 8 bits, by the decoder's word for what it holds."""
    return mode == "F" or mode.startswith("I")


def _depth(mode: str) -> str:
    """Of a picture by the decoder's word for what it holds."""
    if mode == "F":
        return depth_of(np.dtype(np.float32))
    return depth_of(np.dtype(np.uint16 if mode.startswith("I;16") else np.int32)) if is_deep(mode) else EIGHT


def _is_deep_png(head: bytes) -> bool:
    return head.startswith(_PNG) and len(head) > 25 and head[24] == 16 and head[25] in _CHANNELS_OF_PNG


def _check_size(height: int, width: int, channels: int = 1) -> None:
    if not height * width * channels:
        raise NotStored("it is empty")
    if height * width * max(1, channels / 3) > MOST_PIXELS:
        raise NotStored(f"it has {width}×{height} pixels, more than can be unpacked")


def _of_png(file: Path, head: bytes) -> NDArray[Any]:
    import imagecodecs  # as above

    width, height = struct.unpack(">II", head[16:24])
    _check_size(height, width, _CHANNELS_OF_PNG[head[25]])
    values = np.asarray(imagecodecs.png_decode(file.read_bytes())).reshape(height, width, -1)
    return on_white(values) if head[25] in (_GREY_ALPHA, _COLOUR_ALPHA) else values


def _of_tiff(file: Path, pages: str, page: int) -> Held:
    with opened_tiff(file) as tiff:
        first, count = tiff.pages[0], _count(tiff)
        is_stack = pages == STACKED and count > 1
        _check_size(first.imagelength, first.imagewidth, first.samplesperpixel * (count if is_stack else 1))
        own = _pages(tiff)
        if len(own) < count and pages != FIRST:  # one page for all of them
            values = _planes(tiff.series[0].asarray(), tiff.series[0].axes, first)
            values = np.concatenate(values, axis=2) if is_stack else values[page]
        elif is_stack:
            values = np.concatenate([_plane(each, first) for each in own], axis=2)
        else:
            values = _plane(
                own[page if pages == EACH else 0], first
            )  # alone: a file of many is not unpacked whole for each
        if _has_opacity(first) and pages != STACKED:
            values = on_white(values)
        orientation = first.tags.get("Orientation")
        return Held(_upright(values, int(orientation.value) if orientation is not None else 1), count)


def pages_of_tiff(file: Path) -> list[int]:
    """Where the pictures of the first one's size are among all pages of a TIFF; empty where that cannot be told.

    Others are small ones of them.
    """
    try:
        with opened_tiff(file) as tiff:
            return [page.index for page in _pages(tiff)]
    except BROKEN:
        return []


def _pages(tiff: Any) -> Sequence[Any]:
    """Pages that are pictures of the first one's kind, wherever they stand: each may be called a series of its own."""
    if len(tiff.series) == 1:
        return cast("Sequence[Any]", tiff.series[0].pages)  # looked up one by one: going through all reads all
    first = tiff.pages[0]
    return [page for page in tiff.pages if page.dtype == first.dtype and page.shape == first.shape]


def _count(tiff: Any) -> int:
    """Pictures of the first one's size, in pages of their own or in one."""
    page, series = tiff.pages[0], tiff.series[0]
    each = page.imagelength * page.imagewidth * page.samplesperpixel
    return max(len(_pages(tiff)), int(np.prod(series.shape)) // max(1, int(each)))


def _plane(page: Any, first: Any) -> NDArray[Any]:
    """Values H×W×C of a page of the first one's kind."""
    return np.asarray(_planes(page.asarray(), first.axes, first)[0])


def _planes(values: NDArray[Any], axes: str, first: Any) -> NDArray[Any]:
    """Values of pages of the first one's kind, N×H×W×C, whichever of their axes that of the channels is."""
    values = np.moveaxis(values, axes.index("S"), -1) if "S" in axes else values
    return values.reshape(-1, first.imagelength, first.imagewidth, first.samplesperpixel)


def _has_opacity(page: Any) -> bool:
    return bool(page.samplesperpixel in (2, 4)) and any(int(kind) in _OPACITY for kind in page.extrasamples)


def _upright(values: NDArray[Any], orientation: int) -> NDArray[Any]:
    """Turned as a camera noted (tag 274 of TIFF 6.0: where row 0 and column 0 are)."""
    if orientation in (5, 6, 7, 8):
        values = values.transpose(1, 0, 2)
    if orientation in (3, 4, 7, 8):
        values = values[::-1]
    return values[:, ::-1] if orientation in (2, 3, 6, 7) else values


def on_white(values: NDArray[Any]) -> NDArray[Any]:
    """Values H×W×(C+1) whose last channel is opacity, laid on white, in the same type."""
    top = 1.0 if values.dtype.kind == "f" else float(np.iinfo(values.dtype).max)
    opacity = values[:, :, -1:] / top
    laid = values[:, :, :-1] * opacity + top * (1 - opacity)
    return (laid if values.dtype.kind == "f" else laid + 0.5).astype(values.dtype)


def _of_array(array: NDArray[Any]) -> NDArray[Any]:
    """One image as H×W×C: channels are the last axis, or the first where only that is short enough."""
    if array.ndim == 2:
        array = array[:, :, None]
    sides = "×".join(map(str, array.shape))
    if array.ndim != 3 or array.dtype.kind not in "buif":
        raise NotStored(f"its array is {sides or 'one number'} of {array.dtype}, and H×W or H×W×C numbers are needed")
    if array.shape[2] > MOST_CHANNELS >= array.shape[0]:
        array = array.transpose(1, 2, 0)
    if array.shape[2] > MOST_CHANNELS:
        raise NotStored(f"its array is {sides}, and {MOST_CHANNELS} channels are the most")
    _check_size(*array.shape)
    return array
