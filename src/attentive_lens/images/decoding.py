"""Reading one picture file into pixels, or saying in words why it cannot be read."""

from __future__ import annotations

import stat
import warnings
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageOps, UnidentifiedImageError

from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images.opening import opened_picture
from attentive_lens.images.pixel_format import (
    COLOURS,
    EACH,
    EIGHT,
    GREY,
    PICTURE,
    STACKED,
    WHITES,
    PixelArray,
    PixelFormat,
    depth_of,
)
from attentive_lens.images.stored import (
    BROKEN,
    MOST_PIXELS,
    NPY,
    NotStored,
    count_of_pages,
    held_by,
    is_array,
    is_deep,
    pages_of_tiff,
    values_in,
)

ORIENTATION = 0x0112
"""The EXIF tag that says how the camera was held."""

MAKER, MODEL = 0x010F, 0x0110
"""The EXIF tags that name a camera."""
PHOTOGRAPHS = (".jpg", ".jpeg", ".tif", ".tiff", ".webp")
"""Endings of files in which cameras write what they are."""


@cache
def suffixes() -> frozenset[str]:
    """Endings of file names that an image may have, in lower case with the dot; all decoders are loaded for it."""
    return frozenset(Image.registered_extensions()) | {NPY}


@dataclass(frozen=True)
class Picture:
    """A decoded picture.

    Attributes
    ----------
    pixels : ndarray, H×W×3 uint8, or H×W×C uint8 or float32
        Red, green, blue; a grey picture has three equal channels, transparency lies on white. Of another format than
        the plain one see `PixelFormat.scaled`.
    mode : str
        What the file held, in words.
    note : str
        What was done to it on the way, if anything out of the ordinary.
    stored : int
        Bytes of its values in an array or a table; 0 for a file of its own.
    beyond : int
        Values beyond the set's scale, which stand at its ends.
    values : ndarray, H×W×C, or None
        As they are stored, where pixels were scaled from them.
    pages : int
        Pictures in the file, of which this is one.
    """

    pixels: PixelArray
    mode: str
    note: str = ""
    stored: int = 0
    beyond: int = 0
    values: NDArray[Any] | None = None
    pages: int = 1


_MODES = {
    "1": "black and white",
    "L": "grey",
    "LA": "grey with transparency",
    "P": "palette",
    "RGB": "colour",
    "RGBA": "colour with transparency",
    "CMYK": "print colours (CMYK)",
    "YCbCr": "luma and chroma",
    "I;16": "grey, 16 bit",
    "I;16B": "grey, 16 bit",
    "I": "grey, 32 bit",
}


def camera(file: Path) -> str:
    """Maker and model that a photograph's file names; empty where it names none or cannot be read."""
    if file.suffix.lower() not in PHOTOGRAPHS:
        return ""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(file) as picture:
                exif = picture.getexif()
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return ""
    words = [str(exif.get(tag, "")).replace("\0", "").strip() for tag in (MAKER, MODEL)]
    return " ".join(word for word in dict.fromkeys(words) if word)


def decode(file: Path, pixel_format: PixelFormat = PICTURE, page: int | None = None) -> Picture:
    """Read a picture, turned as its camera noted; of an animation the first frame, or of several pages the one named.

    Parameters
    ----------
    file : Path
        Of the picture.
    pixel_format : PixelFormat
        Of its set. Where it is the plain one, its white is that of pictures of more than 8 bits a channel; what is
        brighter counts as white. 0: 65 535 in whole numbers; in floating point the first of 1, 255 and 65 535 that is
        enough.
    page : int, optional
        Which, from 0, as an image of its own, whatever the set makes of pages; else the first, or all of them.

    Raises
    ------
    BadFile
        With the reason: missing, not a regular file, empty, not an image, cut off, too large, of a kind that has no
        plain colours, or not of the set's depth and channels.
    """
    try:
        status = file.stat()
    except OSError as error:
        raise _bad(file, error.strerror.lower() if error.strerror else "it cannot be looked up") from None
    if not stat.S_ISREG(status.st_mode):
        raise _bad(file, "it is not a regular file")
    if status.st_size == 0:
        raise _bad(file, "it is empty (0 bytes)")
    if page is not None and pixel_format.pages != EACH:
        pixel_format = replace(pixel_format, pages=EACH)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            read = _plain if pixel_format.is_plain else _as_stored
            return read(file, pixel_format, page or 0)
    except UnidentifiedImageError:
        raise _bad(file, "its contents are not those of an image format known here") from None
    except Image.DecompressionBombError:
        raise _bad(file, "it has more pixels than can be unpacked") from None
    except (UnknownScale, NotStored, _Misfit) as error:
        raise _bad(file, str(error)) from None
    except PermissionError:
        raise _bad(file, "reading it is not permitted") from None
    except BROKEN:
        if page and page >= (count := count_of_pages(file)):
            why = f"it holds {count} picture{'s' if count > 1 else ''}, and the one asked for is number {page + 1}"
            raise _bad(file, why) from None
        raise _bad(file, "it is cut off or damaged") from None


def _plain(file: Path, pixel_format: PixelFormat, page: int) -> Picture:
    if is_array(file):
        return Picture(of_array(_colours(values_in(file))), "array")
    with opened_picture(file) as picture:
        if picture.width * picture.height > MOST_PIXELS:
            raise NotStored(f"it has {picture.width}×{picture.height} pixels, more than can be unpacked")
        own: Sequence[int] = range(getattr(picture, "n_frames", 1))
        if len(own) > 1 and picture.format == "TIFF":
            own = pages_of_tiff(file) or own
        frames = len(own)
        picture.seek(own[page])
        notes = [f"first of {frames} frames"] if frames > 1 and pixel_format.pages != EACH else []
        mode = picture.mode
        turned: Image.Image = picture
        if picture.getexif().get(ORIENTATION, 1) != 1:
            notes.append("turned as its camera noted")
            turned = ImageOps.exif_transpose(picture)
        white = int(pixel_format.white)
        if is_deep(mode) and white:
            notes.append(f"white is {white}")
        return Picture(_to_rgb(turned, white), _MODES.get(mode, mode), ", ".join(notes), pages=frames)


def _colours(values: NDArray[Any]) -> NDArray[Any]:
    if values.shape[2] not in (1, 3, 4):
        raise _Misfit(f"it has {values.shape[2]} channels, and one, three or four are expected")
    return values


def _as_stored(file: Path, pixel_format: PixelFormat, page: int) -> Picture:
    values, pages = held_by(file, pixel_format.pages, page)
    depth = depth_of(values.dtype)
    if depth != pixel_format.depth:
        raise _Misfit(f"its values are {depth}, and those of the set {pixel_format.depth}")
    picture = of_stored(values, pixel_format)
    if pages == 1 or pixel_format.pages == STACKED:
        return picture
    notes = [picture.note] if pixel_format.pages == EACH else [picture.note, f"first of {pages} frames"]
    return replace(picture, note=", ".join(filter(None, notes)), pages=pages)


def of_stored(values: NDArray[Any], pixel_format: PixelFormat, what: str = "") -> Picture:
    """Values H×W×C as they are stored as a picture of a format that is not the plain one.

    Raises
    ------
    ValueError
        If they do not fit the format; the text is a reason to show.
    """
    try:
        pixels, beyond = pixel_format.scaled(values)
    except ValueError as error:
        raise _Misfit(str(error)) from None
    own = pixel_format.channels
    words = "grey" if own == GREY else "colour" if own == COLOURS else f"{len(own)} channels"
    note = pixel_format.scale_in_words if pixel_format.depth != EIGHT else ""
    return Picture(pixels, f"{words}{what}, {pixel_format.depth}", note, beyond=beyond, values=values)


class _Misfit(ValueError):
    """Values that are not of their set's format; its text is the reason."""


def of_picture(picture: Image.Image, pixel_format: PixelFormat = PICTURE) -> PixelArray:
    """Pixels H×W×C of a picture opened by somebody else, as `decode` gives them.

    Raises
    ------
    BadFile
        If it cannot be brought to plain colours.
    """
    try:
        upright = ImageOps.exif_transpose(picture)
        if not pixel_format.is_plain:
            values = np.asarray(upright)
            return of_stored(values.reshape(*values.shape[:2], -1), pixel_format).pixels
        return _to_rgb(upright, int(pixel_format.white))
    except (OSError, ValueError) as error:
        raise BadFile("The picture was not read", f"it has no plain colours ({error})", "Convert it to RGB") from None


def of_array(array: NDArray[Any], pixel_format: PixelFormat = PICTURE) -> PixelArray:
    """Pixels H×W×3 uint8 of an array H×W, H×W×1, H×W×3 or H×W×4; or H×W×C of another format.

    Parameters
    ----------
    array : ndarray
        uint8; bool; or floating point in 0–1. A fourth channel is opacity, laid on white. Of a format that is not the
        plain one: values as they are stored in files.
    pixel_format : PixelFormat
        Of the model or set that it is for.

    Raises
    ------
    BadValue
        If it has another shape or type, or values that are no numbers or outside their range.
    """
    values = np.asarray(array)
    sides = "×".join(map(str, values.shape))
    if values.ndim == 2:
        values = values[:, :, None]
    if not pixel_format.is_plain:
        return _of_stored_array(values, pixel_format)
    if values.ndim != 3 or values.shape[2] not in (1, 3, 4) or 0 in values.shape:
        why = f"it is {sides or 'one number'}, and H×W, H×W×1, H×W×3 or H×W×4 are needed"
        raise BadValue("The array is no image", why, "Bring it to one of these shapes")
    if values.dtype.kind == "f":
        if not np.isfinite(values).all() or values.min() < 0 or values.max() > 1:
            raise BadValue("The array is no image", "floating-point values lie in 0 to 1", "Divide them by the white")
        values = (values * 255 + 0.5).astype(np.uint8)
    elif values.dtype == bool:
        values = values.astype(np.uint8) * np.uint8(255)
    elif values.dtype != np.uint8:
        why = f"it is of type {values.dtype}, and uint8, bool or floating point is needed"
        raise BadValue("The array is no image", why, "Convert it, so that white is 255, or 1.0")
    if values.shape[2] == 1:
        return np.repeat(values, 3, axis=2)
    return _to_rgb(Image.fromarray(np.ascontiguousarray(values)))


def _of_stored_array(values: NDArray[Any], pixel_format: PixelFormat) -> PixelArray:
    try:
        if values.ndim != 3 or 0 in values.shape or values.dtype.kind not in "buif":
            raise _Misfit(f"it is {'×'.join(map(str, values.shape))} of {values.dtype}, and H×W×C numbers are needed")
        return of_stored(values, pixel_format).pixels
    except ValueError as error:
        raise BadValue("The array is no image of this kind", str(error), f"Give {pixel_format.names}") from None


def _to_rgb(picture: Image.Image, white: int = 0) -> NDArray[np.uint8]:
    if is_deep(picture.mode):
        values = np.asarray(picture)
        if picture.mode == "F":
            white = white or _white_of_floats(values)
        top = float(white if white > 1 or picture.mode == "F" else WHITES[-1])
        grey = (values.astype(np.float64).clip(0, top) * (255 / top) + 0.5).astype(np.uint8)
        return np.repeat(grey[:, :, None], 3, axis=2)
    if picture.mode in ("LA", "PA", "RGBA", "La", "RGBa") or "transparency" in picture.info:
        layered = picture.convert("RGBA")
        paper = Image.new("RGBA", layered.size, (255, 255, 255, 255))
        picture = Image.alpha_composite(paper, layered)
    return np.array(picture if picture.mode == "RGB" else picture.convert("RGB"))


def _white_of_floats(values: NDArray[np.float32]) -> int:
    """White of a picture of which nothing else is known: 1, 255 or 65 535, the first that no value exceeds."""
    if not np.isfinite(values).all():
        raise UnknownScale("some of its floating-point values are no numbers")
    low, high = float(values.min(initial=0)), float(values.max(initial=0))
    white = next((scale for scale in (1, 255, 65_535) if high <= scale), None)
    if low < 0 or white is None:
        raise UnknownScale(f"its floating-point values run from {low:.4g} to {high:.4g}: which of them is white?")
    return white


class UnknownScale(ValueError):
    """Floating-point values of which nobody can say what is white; its text is the reason."""


def _bad(file: Path, why: str) -> BadFile:
    return BadFile(f"{file.name!r} was not read", why, "Replace or remove the file")
