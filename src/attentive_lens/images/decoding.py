"""Reading one picture file into pixels, or saying in words why it cannot be read."""

from __future__ import annotations

import stat
import warnings
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageOps, UnidentifiedImageError

from attentive_lens.errors import BadFile, BadValue

MOST_PIXELS = 200_000_000
"""Larger pictures are refused before they are unpacked: 600 MB of memory each."""

ORIENTATION = 0x0112
"""The EXIF tag that says how the camera was held."""

MAKER, MODEL = 0x010F, 0x0110
"""The EXIF tags that name a camera."""
PHOTOGRAPHS = (".jpg", ".jpeg", ".tif", ".tiff", ".webp")
"""Endings of files in which cameras write what they are."""


@cache
def suffixes() -> frozenset[str]:
    """Endings of file names that an image may have, in lower case with the dot; all decoders are loaded for it."""
    return frozenset(Image.registered_extensions())


@dataclass(frozen=True)
class Picture:
    """A decoded picture.

    Attributes
    ----------
    pixels : ndarray, H×W×3 uint8
        Red, green, blue; a grey picture has three equal channels, transparency lies on white.
    mode : str
        What the file held, in words.
    note : str
        What was done to it on the way, if anything out of the ordinary.
    stored : int
        Bytes of its values in an array or a table; 0 for a file of its own.
    """

    pixels: NDArray[np.uint8]
    mode: str
    note: str = ""
    stored: int = 0


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


WHITES = (1, 255, 1023, 4095, 16_383, 65_535)
"""Values that stand for white: fractions, and whole numbers of 8, 10, 12, 14 and 16 bits."""


def white_of(highest: float) -> int:
    """The least of `WHITES` that no value exceeds; 0 if there is none."""
    return next((white for white in WHITES if highest <= white), 0)


def highest_value(file: Path) -> float | None:
    """The greatest value of a picture of more than 8 bits a channel, as its file has it; None for any other file."""
    try:
        if not stat.S_ISREG(file.stat().st_mode):
            return None  # a pipe would be waited for
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(file) as picture:
                if not _is_deep(picture.mode) or picture.width * picture.height > MOST_PIXELS:
                    return None
                highest = float(np.asarray(picture).max(initial=0))
    except (OSError, ValueError, SyntaxError, EOFError, Image.DecompressionBombError):
        return None  # decoding it says why
    return highest if np.isfinite(highest) else None


@dataclass(frozen=True)
class StoredValues:
    """What a file or an array holds, before anything is made of it: least and greatest value, bits of each."""

    low: float
    high: float
    bits: int


def stored_values(file: Path) -> StoredValues | None:
    """Of a picture file; None if it cannot be read."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(file) as picture:
                if picture.width * picture.height > MOST_PIXELS:
                    return None
                mode = picture.mode
                values = np.asarray(picture.convert("RGB") if mode == "P" else picture)
    except (OSError, ValueError, SyntaxError, EOFError, Image.DecompressionBombError):
        return None
    bits = 1 if mode == "1" else 16 if mode.startswith("I;16") else 32 if mode in ("I", "F") else 8
    return of_values(values, bits)


def of_values(values: NDArray[Any], bits: int = 0) -> StoredValues:
    """Of an array."""
    return StoredValues(float(values.min(initial=0)), float(values.max(initial=0)), bits or 8 * values.dtype.itemsize)


def _is_deep(mode: str) -> bool:
    return mode == "F" or mode.startswith("I")


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


def decode(file: Path, white: int = 0) -> Picture:
    """Read a picture; of an animation the first frame, and turned as its camera noted.

    Parameters
    ----------
    file : Path
        Of the picture.
    white : int
        The value that is white in pictures of more than 8 bits a channel, the same for all of a set; what is brighter
        counts as white. 0: 65 535 in whole numbers; in floating point the first of 1, 255 and 65 535 that is enough.

    Raises
    ------
    BadFile
        With the reason: missing, not a regular file, empty, not an image, cut off, too large, or of a kind
        that has no plain colours.
    """
    try:
        status = file.stat()
    except OSError as error:
        raise _bad(file, error.strerror.lower() if error.strerror else "it cannot be looked up") from None
    if not stat.S_ISREG(status.st_mode):
        raise _bad(file, "it is not a regular file")
    if status.st_size == 0:
        raise _bad(file, "it is empty (0 bytes)")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(file) as picture:
                if picture.width * picture.height > MOST_PIXELS:
                    raise _bad(file, f"it has {picture.width}×{picture.height} pixels, more than can be unpacked")
                mode = picture.mode
                frames = getattr(picture, "n_frames", 1)
                notes = [f"first of {frames} frames"] if frames > 1 else []
                turned: Image.Image = picture
                if picture.getexif().get(ORIENTATION, 1) != 1:
                    notes.append("turned as its camera noted")
                    turned = ImageOps.exif_transpose(picture)
                if _is_deep(mode) and white:
                    notes.append(f"white is {white}")
                return Picture(_to_rgb(turned, white), _MODES.get(mode, mode), ", ".join(notes))
    except UnidentifiedImageError:
        raise _bad(file, "its contents are not those of an image format known here") from None
    except Image.DecompressionBombError:
        raise _bad(file, "it has more pixels than can be unpacked") from None
    except UnknownScale as error:
        raise _bad(file, str(error)) from None
    except PermissionError:
        raise _bad(file, "reading it is not permitted") from None
    except (OSError, SyntaxError, ValueError, EOFError, IndexError, KeyError, TypeError, ZeroDivisionError):
        # Decoders of damaged files raise any of these.
        raise _bad(file, "it is cut off or damaged") from None


def of_picture(picture: Image.Image, white: int = 0) -> NDArray[np.uint8]:
    """Pixels H×W×3 uint8 of a picture opened by somebody else, as `decode` gives them.

    Raises
    ------
    BadFile
        If it cannot be brought to plain colours.
    """
    try:
        return _to_rgb(ImageOps.exif_transpose(picture), white)
    except (OSError, ValueError) as error:
        raise BadFile("The picture was not read", f"it has no plain colours ({error})", "Convert it to RGB") from None


def of_array(array: NDArray[Any]) -> NDArray[np.uint8]:
    """Pixels H×W×3 uint8 of an array H×W, H×W×1, H×W×3 or H×W×4.

    Parameters
    ----------
    array : ndarray
        uint8; bool; or floating point in 0–1. A fourth channel is opacity, laid on white.

    Raises
    ------
    BadValue
        If it has another shape or type, or values that are no numbers or outside their range.
    """
    values = np.asarray(array)
    sides = "×".join(map(str, values.shape))
    if values.ndim == 2:
        values = values[:, :, None]
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


def _to_rgb(picture: Image.Image, white: int = 0) -> NDArray[np.uint8]:
    if _is_deep(picture.mode):
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
