"""Arrays as images: which axis is what, and how numbers become pixels.

An array of numbers does not say which of its axes counts images and which are rows, columns and channels. `readings`
lists every way that fits the shape and the number of labels; `one` takes a single image out.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import isqrt
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.pixel_format import MOST_CHANNELS, white_of
from attentive_lens.images.reading import Reading

CHANNELS = (1, 3, 4)


def images_in(shape: tuple[int, ...], layout: str) -> int:
    """Images in an array of a shape."""
    return shape[layout.index("N")]


def readings(shape: tuple[int, ...], labels: int | None, wish: Reading, turned: bool = False) -> list[Reading]:
    """Every reading of an array that fits its shape, the likeliest first.

    Parameters
    ----------
    shape : tuple of int
        Of the array.
    labels : int or None
        How many labels there are, if known: only an axis of that length can count the images.
    wish : Reading
        Settings already decided.
    turned : bool
        Whether arrays of this kind are usually stored column by column.
    """
    layouts = {2: ("NP", "PN"), 3: ("NHW", "HWN"), 4: ("NHWC", "NCHW", "HWCN")}.get(len(shape), ())
    if turned:
        layouts = tuple(sorted(layouts, key=lambda layout: layout[-1] != "N"))
    able = _channel_counts(shape, layouts, wish)
    ways = []
    for layout in layouts:
        if wish.layout and layout != wish.layout:
            continue
        if labels is not None and images_in(shape, layout) != labels:
            continue
        if "C" in layout and shape[layout.index("C")] not in able:
            continue
        way = replace(wish, layout=layout)
        if "P" in layout:
            ways += _flat_readings(shape[layout.index("P")], way, turned)
        else:
            size = (shape[layout.index("H")], shape[layout.index("W")])
            if wish.height in (0, size[0]) and wish.width in (0, size[1]):
                ways.append(replace(way, height=size[0], width=size[1]))
    return ways


def _channel_counts(shape: tuple[int, ...], layouts: tuple[str, ...], wish: Reading) -> tuple[int, ...]:
    """How many channels an array can have: as many as are named, a picture's, or any where it cannot be a picture's."""
    if wish.channel_names:
        return (len(wish.channel_names),)
    usual = any("C" in layout and shape[layout.index("C")] in CHANNELS for layout in layouts)
    return CHANNELS if usual else tuple(range(1, MOST_CHANNELS + 1))


def _flat_readings(values: int, wish: Reading, turned: bool) -> list[Reading]:
    ways = []
    for channels in (len(wish.channel_names),) if wish.channel_names else CHANNELS:
        size = _size(values, channels, wish)
        if size is None:
            continue
        grey = ("WHC", "HWC") if turned else ("HWC",)
        colour = ("WHC", "CWH", "HWC", "CHW") if turned else ("CHW", "HWC")
        orders = (wish.order,) if wish.order else grey if channels == 1 else colour
        ways += [replace(wish, order=order, height=size[0], width=size[1]) for order in orders]
        if channels == 1 and ways:
            break  # four planes of side s are also one of side 2s; the plain picture is meant
    return ways


def _size(values: int, channels: int, wish: Reading) -> tuple[int, int] | None:
    """Rows and columns of an image of so many values, or None if it cannot have so many channels."""
    pixels, rest = divmod(values, channels)
    if rest or not pixels:
        return None
    height, width = wish.height, wish.width
    if not height and not width:
        side = isqrt(pixels)
        return (side, side) if side * side == pixels else None
    height, width = height or pixels // width, width or pixels // height
    return (height, width) if height * width == pixels else None


def one(array: NDArray[Any], index: int, reading: Reading) -> NDArray[Any]:
    """Image ``index`` of an array, H×W×C, in the array's own numbers."""
    raw = array[..., index] if reading.layout.endswith("N") else array[index]
    if "P" in reading.layout:
        return unfolded(raw, reading)
    if reading.layout == "NCHW":
        return np.asarray(raw).transpose(1, 2, 0)
    return np.asarray(raw).reshape(reading.height, reading.width, -1)


def unfolded(line: NDArray[Any], reading: Reading) -> NDArray[Any]:
    """An image kept in one line, as H×W×C."""
    height, width = reading.height, reading.width
    sizes = {"H": height, "W": width, "C": line.size // (height * width)}
    shaped = np.asarray(line).reshape([sizes[axis] for axis in reading.order])
    return shaped.transpose([reading.order.index(axis) for axis in "HWC"])


@dataclass(frozen=True)
class Scale:
    """What the numbers of an array mean.

    Attributes
    ----------
    top : float
        The number that stands for white: one of `WHITES`.
    """

    top: float

    @classmethod
    def of(cls, sample: NDArray[Any]) -> Scale:
        """From some images N×…: truth values and fractions up to 1, else as many bits as are needed.

        A single image that exceeds all others sets no scale: its values are at fault.
        """
        if sample.dtype == np.bool_:
            return cls(1.0)
        values = np.nan_to_num(sample.astype(np.float64), posinf=0, neginf=0).reshape(len(sample), -1)
        highest = float(np.sort(values.max(axis=1, initial=0))[-2:].min(initial=np.inf)) if len(sample) else 0.0
        if sample.dtype.kind == "f" and highest <= 1.0:
            return cls(1.0)
        return cls(float(white_of(max(highest, 2.0)) or 255))

    def pixels(self, image: NDArray[Any]) -> NDArray[np.uint8]:
        """H×W×C numbers as H×W×3 uint8 red, green, blue; a fourth channel is taken for opacity, over white.

        Raises
        ------
        ValueError
            If a number lies outside 0 to `top`, or is none; the text is a reason to show.
        """
        if image.dtype != np.uint8 or self.top != 255.0:
            values = image.astype(np.float64)
            if not np.isfinite(values).all():
                raise ValueError("it has values that are not numbers")
            low, high = float(values.min()), float(values.max())
            if low < 0 or high > self.top:
                raise ValueError(f"its values run from {low:g} to {high:g}, outside 0 to {self.top:g}")
            image = (values * (255 / self.top) + 0.5).astype(np.uint8)
        if image.shape[2] == 4:
            opacity = image[:, :, 3:].astype(np.float32) / 255
            image = (image[:, :, :3] * opacity + 255 * (1 - opacity) + 0.5).astype(np.uint8)
        return np.repeat(image, 3, axis=2) if image.shape[2] == 1 else np.ascontiguousarray(image)


def label_words(values: NDArray[Any], names: list[str] | None = None, separator: str = "") -> list[str]:
    """Labels as words, N: whole numbers (named by ``names`` if given), text, or one column a class (N×K).

    With a separator every column that is not 0 is a label, and stands between those of an image. A blank or missing
    label is an empty word.
    """
    values = np.asarray(values)
    if separator and values.ndim == 2 and min(values.shape) > 1:
        columns = label_words(np.arange(values.shape[1]), names)
        return [separator.join(columns[k] for k in np.flatnonzero(row).tolist()) for row in values]
    if values.ndim == 2 and min(values.shape) > 1:
        values = values.argmax(axis=1)
    words = [_word(value) for value in values.reshape(-1)]
    if names is None:
        return words
    return [names[int(w)] if w.isdigit() and int(w) < len(names) else w for w in words]


def _word(value: Any) -> str:
    if isinstance(value, np.ndarray):
        return _word(value.reshape(-1)[0]) if value.size else ""
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace").strip()
    if isinstance(value, float | np.floating):
        return "" if np.isnan(value) else f"{value:g}"
    return str(value).strip()


def may_be_several(values: NDArray[Any]) -> bool:
    """Whether labels N×K are 0 and 1, and some image has several of them or none."""
    if values.ndim != 2 or min(values.shape) < 2:
        return False
    values = np.asarray(values)
    return bool(np.isin(values, (0, 1)).all() and (values.sum(axis=1) != 1).any())


__all__ = ["Scale", "images_in", "label_words", "may_be_several", "one", "readings", "unfolded"]
