"""Where the object is in an image: polygons or a mask in the file's pixels, and what of it lies in each input pixel."""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import BadValue
from attentive_lens.images.preprocessing import Region, frame_of
from attentive_lens.plan.preprocessing import Preprocessing

Polygon: TypeAlias = tuple[tuple[float, float], ...]
"""Corners (across, down) in pixels from the image's upper left corner; the last is joined to the first."""
FINER = 8
"""Lines that a pixel is parted into, for what of it lies inside a polygon."""
MOST_CROSSINGS = 2_000_000
"""Edges times lines that are looked at at once."""
MOST_CORNERS = 20_000
"""Of all polygons of an image."""
REMEDY = "Mend it, or leave it out"


@dataclass(frozen=True)
class Outline:
    """Where the object, or several, are in one image.

    Attributes
    ----------
    polygons : tuple of Polygon
        The object is what lies in any of them.
    runs : bytes
        A mask besides: how many pixels, row by row, are outside, inside, outside …, int32, packed by zlib; empty
        without a mask.
    """

    polygons: tuple[Polygon, ...] = ()
    runs: bytes = b""

    def __bool__(self) -> bool:
        """Whether there is anything inside."""
        return bool(self.polygons or self.runs)

    @classmethod
    def of_mask(cls, inside: NDArray[np.bool_]) -> Outline:
        """From a mask H×W of the image's size."""
        if not inside.any():
            return cls()
        flat = np.concatenate([[False], inside.reshape(-1)])
        turns = np.flatnonzero(flat[1:] != flat[:-1])
        return cls((), zlib.compress(np.diff(np.concatenate([[0], turns, [inside.size]])).astype("<i4").tobytes()))

    @classmethod
    def of_box(cls, left: float, top: float, width: float, height: float) -> Outline:
        """A rectangle."""
        right, bottom = left + width, top + height
        return cls((((left, top), (right, top), (right, bottom), (left, bottom)),))

    def __or__(self, other: Outline) -> Outline:
        """Both; of two masks, the second."""
        return Outline((*self.polygons, *other.polygons), other.runs or self.runs)

    def run_lengths(self) -> list[int]:
        """Of the mask, as numbers."""
        return np.frombuffer(zlib.decompress(self.runs), "<i4").tolist() if self.runs else []

    def mask(self, height: int, width: int) -> NDArray[np.bool_]:
        """The mask H×W; nothing inside if there is none, or it is of another size."""
        lengths = np.array(self.run_lengths(), np.int64)
        if lengths.sum() != height * width:
            return np.zeros((height, width), bool)
        return np.repeat(np.arange(len(lengths)) % 2 == 1, lengths).reshape(height, width)

    def filled(self, height: int, width: int) -> NDArray[np.bool_]:
        """Mask and polygons as one mask H×W: the pixels of which half lies inside."""
        inside = self.mask(height, width)
        for corners in self.polygons:
            inside |= _filled(np.array(corners), height, width) >= 0.5
        return inside

    def bounds(self, height: int, width: int) -> tuple[int, int, int, int] | None:
        """Top, left, bottom and right of all that is inside, in whole pixels of an image H×W; None if nothing is."""
        boxes = [
            (
                min(y for _, y in corners),
                min(x for x, _ in corners),
                max(y for _, y in corners),
                max(x for x, _ in corners),
            )
            for corners in self.polygons
        ]
        if self.runs:
            mask = self.mask(height, width)
            rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
            if len(rows):
                boxes.append((rows[0], columns[0], rows[-1] + 1, columns[-1] + 1))
        if not boxes:
            return None
        all_ = np.array(boxes, np.float64)
        top, left = np.floor(all_[:, :2].min(axis=0)).clip(0, (height - 1, width - 1)).astype(int).tolist()
        bottom, right = np.ceil(all_[:, 2:].max(axis=0)).clip((top + 1, left + 1), (height, width)).astype(int).tolist()
        return top, left, bottom, right

    def write(self) -> dict[str, Any]:
        """As plain values, see `read_outline`."""
        out: dict[str, Any] = {}
        if self.polygons:
            out["polygons"] = [[list(corner) for corner in corners] for corners in self.polygons]
        if self.runs:
            out["runs"] = self.run_lengths()
        return out


def coverage(outline: Outline, height: int, width: int, preprocessing: Preprocessing) -> NDArray[np.float32]:
    """How much of each pixel of a prepared image lies inside, rows×columns in 0–1.

    Parameters
    ----------
    outline : Outline
        In an image H×W.
    height, width : int
        Of the file's image.
    preprocessing : Preprocessing
        Input size, resize mode and crop; what a border adds is outside.
    """
    rows, columns = preprocessing.sides
    top, left, bottom, right = region_of(outline, height, width, preprocessing) or (0, 0, height, width)
    frame = frame_of(bottom - top, right - left, preprocessing)
    corner = left + frame.left, top + frame.top
    inside = np.zeros((rows, columns), np.float32)
    for corners in outline.polygons:
        placed = (np.array(corners) - corner) * (columns / frame.width, rows / frame.height)
        inside = np.maximum(inside, _filled(placed, rows, columns))
    if outline.runs:
        masked = np.zeros((frame.height, frame.width), np.float32)
        seen = outline.mask(height, width)[top:bottom, left:right]
        seen = seen[max(0, frame.top) :, max(0, frame.left) :][: frame.height, : frame.width]
        down, across = max(0, -frame.top), max(0, -frame.left)
        masked[down : down + seen.shape[0], across : across + seen.shape[1]] = seen
        inside = np.maximum(inside, _averaged(_averaged(masked, rows).T, columns).T)
    return np.clip(inside, 0, 1)


def _filled(corners: NDArray[np.float64], rows: int, columns: int) -> NDArray[np.float32]:
    """Part of each pixel, rows×columns, inside a polygon of E×2 corners: exact along `FINER` lines of each row.

    Where it crosses itself it is inside by the even-odd rule.
    """
    lines = (np.arange(rows * FINER) + 0.5) / FINER
    (across, down), (next_across, next_down) = corners.T, np.roll(corners, -1, axis=0).T
    inside = np.zeros((rows * FINER, columns), np.float32)
    at_once = max(1, MOST_CROSSINGS // len(corners))
    for first in range(0, len(lines), at_once):
        part = lines[first : first + at_once]
        crosses = (down[:, None] <= part) != (next_down[:, None] <= part)
        slope = (next_across - across) / np.where(next_down == down, 1, next_down - down)
        places = np.where(crosses, across[:, None] + (part - down[:, None]) * slope[:, None], np.inf)
        places.sort(axis=0)
        for number in range(int(crosses.sum(axis=0).max(initial=0))):
            before = np.clip(places[number][:, None] - np.arange(columns), 0, 1)
            inside[first : first + at_once] += before if number % 2 else -before
    return np.asarray(inside.reshape(rows, FINER, columns).mean(axis=1), np.float32)


def _averaged(values: NDArray[np.float32], count: int) -> NDArray[np.float32]:
    """Lines of an array averaged over so many equal stretches, parts of lines counted as parts."""
    sums = np.concatenate([np.zeros((1, values.shape[1])), np.cumsum(values, axis=0, dtype=np.float64)])
    at = np.linspace(0, len(values), count + 1)
    whole = np.minimum(at.astype(int), len(values) - 1)
    upto = sums[whole] + (at - whole)[:, None] * values[whole]
    return np.asarray(np.diff(upto, axis=0) * (count / len(values)), np.float32)


def region_of(outline: Outline, height: int, width: int, preprocessing: Preprocessing) -> Region | None:
    """What of an image H×W is seen: None for all of it.

    With the margin, and of the input's proportions where the image is large enough: nothing need be stretched then.
    """
    bounds = outline.bounds(height, width) if preprocessing.crop_to == "object" else None
    if bounds is None:
        return None
    top, left, bottom, right = bounds
    about = 2 * preprocessing.crop_margin * max(bottom - top, right - left)
    tall, wide = bottom - top + about, right - left + about
    rows, columns = preprocessing.sides
    tall, wide = max(tall, wide * rows / columns), max(wide, tall * columns / rows)
    first_row, last_row = _span((top + bottom) / 2, tall, height)
    first_column, last_column = _span((left + right) / 2, wide, width)
    return first_row, first_column, last_row, last_column


def _span(middle: float, size: float, limit: int) -> tuple[int, int]:
    """Whole pixels about a middle, moved to lie within the image; all of them if it is no longer."""
    length = min(limit, max(1, round(size)))
    begin = min(max(0, round(middle - length / 2)), limit - length)
    return begin, begin + length


def is_inside(covered: NDArray[np.float32]) -> NDArray[np.bool_]:
    """The pixels of a prepared image that count as the object's: half of each at least; of a small one, any part."""
    half = covered >= 0.5
    return half if half.any() else covered > 0


def read_outline(value: Any, height: int, width: int) -> Outline:
    """From plain values, as files and the catalogue have them.

    Parameters
    ----------
    value : dict
        Any of ``boxes``, a list of [left, top, width, height]; ``polygons``, a list of lists of corners [across,
        down]; and ``runs``, how many pixels, row by row, are outside, inside, outside … Pixels of the file, from its
        upper left corner.
    height, width : int
        Of the image.

    Raises
    ------
    BadValue
        If anything else stands there, or reaches beyond the image.
    """
    if not isinstance(value, dict) or value.keys() - {"boxes", "polygons", "runs"}:
        raise _bad("it has not just boxes, polygons and runs")
    outline = Outline()
    for box in _list(value.get("boxes", []), "boxes"):
        left, top, wide, high = _numbers(box, 4, "a box has four numbers: left, top, width and height")
        if wide <= 0 or high <= 0:
            raise _bad(f"a box is {wide:g} wide and {high:g} high")
        outline |= Outline.of_box(left, top, wide, high)
    for corners in _list(value.get("polygons", []), "polygons"):
        pairs = [_numbers(pair, 2, "a corner has two numbers") for pair in _list(corners, "a polygon's corners")]
        if len(pairs) < 3:
            raise _bad(f"a polygon has {len(pairs)} corners, and 3 make one")
        if np.linalg.matrix_rank(np.array(pairs) - pairs[0]) < 2:
            raise _bad("the corners of a polygon lie on one line")
        outline |= Outline((tuple((x, y) for x, y in pairs),))
    if sum(map(len, outline.polygons)) > MOST_CORNERS:
        raise _bad(f"its polygons have more than {MOST_CORNERS} corners")
    for x, y in (corner for corners in outline.polygons for corner in corners):
        if not (-0.5 <= x <= width + 0.5 and -0.5 <= y <= height + 0.5):
            raise _bad(f"the point {x:g}, {y:g} lies outside the image of {width}×{height} pixels")
    if runs := _list(value.get("runs", []), "runs"):
        if not all(isinstance(n, int) and not isinstance(n, bool) and 0 <= n <= height * width for n in runs):
            raise _bad("its runs are not whole numbers of pixels")
        if sum(runs) != height * width:
            raise _bad(f"its runs make {sum(runs)} pixels, and the image has {height * width}")
        if not any(runs[1::2]):
            raise _bad("nothing in its runs is inside")
        outline |= Outline((), zlib.compress(np.array(runs, "<i4").tobytes()))
    if not outline:
        raise _bad("it holds no shape")
    return outline


def recorded_outline(value: dict[str, Any]) -> Outline:
    """What `Outline.write` made of it, taken as it stands; ValueError, KeyError or TypeError if it did not."""
    runs = zlib.compress(np.array(value["runs"], "<i4").tobytes()) if "runs" in value else b""
    polygons = tuple(tuple((float(x), float(y)) for x, y in corners) for corners in value.get("polygons", []))
    return Outline(polygons, runs)


def of_corners(numbers: Sequence[float]) -> list[list[float]]:
    """Corners from «x y x y …»; `BadValue` if one is lacking."""
    if len(numbers) % 2:
        raise _bad(f"it has {len(numbers)} numbers, and corners have two each")
    return [list(pair) for at, pair in enumerate(pairwise(numbers)) if at % 2 == 0]


def _bad(why: str) -> BadValue:
    return BadValue("The outline was not taken", why, REMEDY)


def _list(value: Any, what: str) -> list[Any]:
    if not isinstance(value, list | tuple):
        raise _bad(f"{what} are a list")
    return list(value)


def _numbers(value: Any, count: int, why: str) -> list[float]:
    """So many numbers that are finite."""
    values: Iterable[Any] = value if isinstance(value, list | tuple) else ()
    out = [float(n) for n in values if isinstance(n, int | float) and not isinstance(n, bool) and np.isfinite(n)]
    if len(out) != count or len(value) != count:
        raise _bad(why)
    return out


__all__ = ["Outline", "Polygon", "coverage", "is_inside", "of_corners", "read_outline", "recorded_outline", "region_of"]
