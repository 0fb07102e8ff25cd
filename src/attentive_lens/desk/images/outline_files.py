"""Files that tell where objects are: mask pictures and arrays, tables, and JSON."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path, PurePath
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, UnidentifiedImageError

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.tables import table_in
from attentive_lens.desk.images.naming import Finder, naming_column
from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.images.decoding import suffixes
from attentive_lens.images.outlines import Outline, of_corners, read_outline
from attentive_lens.images.stored import NPY
from attentive_lens.workspace import ImageRow

BOX = ("left", "top", "width", "height")
CORNERS = ("left", "top", "right", "bottom")
POLYGON = "polygon"
MOST_BYTES = 256 << 20
"""Of a file of outlines."""
NOISY = ".jpg", ".jpeg"
"""Endings of pictures whose values are not kept exactly."""


@dataclass
class Gathered:
    """What files tell of objects.

    Attributes
    ----------
    outlines : dict
        By image number.
    skipped : list of (name, reason)
        What was not taken.
    """

    outlines: dict[int, Outline] = field(default_factory=dict)
    skipped: list[tuple[str, str]] = field(default_factory=list)

    def add(self, row: ImageRow, outline: Outline) -> None:
        """Another of an image's objects."""
        self.outlines[row.number] = self.outlines.get(row.number, Outline()) | outline


def not_taken(place: Path) -> str:
    """The beginning of a sentence that says why."""
    return f"The outlines in {place.absolute().name} were not taken"


def gathered(rows: Sequence[ImageRow], place: Path) -> Job[Gathered]:
    """What a folder of mask pictures, one such picture, a table or a JSON file tells of objects in some images.

    Raises
    ------
    BadFile
        If the place cannot be read, or is nothing of this kind.
    """
    what = not_taken(place)
    if place.is_dir():
        return (yield from _of_masks(rows, place, sorted(file for file in place.rglob("*") if file.is_file())))
    if not place.is_file():
        raise BadFile(what, f"there is no {place}", "Check the path")
    if place.suffix.lower() == ".json":
        return _of_json(rows, place, what)
    if place.suffix.lower() == NPY and (masks := _array_in(place)).ndim == 3:
        return (yield from _of_stack(rows, masks, what))
    if place.suffix.lower() in suffixes():
        return (yield from _of_masks(rows, place.parent, [place]))
    return _of_table(rows, place, what)


def _of_masks(rows: Sequence[ImageRow], folder: Path, files: Sequence[Path]) -> Job[Gathered]:
    result, finder, numbers = Gathered(), Finder(rows), {row.number: row for row in rows}
    for at, file in enumerate(files):
        yield Progress(at, len(files), "reading masks")
        name = str(file.relative_to(folder))
        if file.suffix.lower() not in suffixes() or file.name.startswith("."):
            continue
        try:
            row = _named(finder, numbers, name)
            if row.number in result.outlines:
                raise BadValue("", f"another mask here is that of image {row.number} already", "")
            result.add(row, _mask_in(file, row))
        except LensError as error:
            result.skipped.append((name, error.why))
    return result


def _of_stack(rows: Sequence[ImageRow], masks: NDArray[Any], what: str) -> Job[Gathered]:
    """An array N×H×W, a mask for each image in their order; what is not 0 is inside."""
    if len(masks) != len(rows):
        why = f"it has {len(masks)} masks, and the workspace {len(rows)} images"
        raise BadFile(what, why, "Give one for each image, in the order of their numbers")
    result = Gathered()
    for at, (row, mask) in enumerate(zip(rows, masks, strict=True)):
        if at % 64 == 0:
            yield Progress(at, len(rows), "reading masks")
        if mask.shape != (row.height, row.width):
            why = f"it has {mask.shape[1]}×{mask.shape[0]} pixels, and the image {row.width}×{row.height}"
            result.skipped.append((f"image {row.number}", why))
        elif np.any(mask):
            result.add(row, Outline.of_mask(np.asarray(mask) != 0))
    return result


def _array_in(file: Path) -> NDArray[Any]:
    """An array of a file, read where it is looked at; `BadValue` with the reason."""
    try:
        array: NDArray[Any] = np.asanyarray(np.load(file, mmap_mode="r", allow_pickle=False))
    except (OSError, ValueError, EOFError) as error:
        raise BadValue(not_taken(file), f"it is no array of masks ({error})", "Save it anew with numpy.save") from None
    if array.dtype.kind not in "buif":
        raise BadValue(not_taken(file), f"it holds {array.dtype}, and no numbers", "Save masks of whole numbers")
    return array


def _named(finder: Finder, rows: Mapping[int, ImageRow], name: str) -> ImageRow:
    """The image that a mask picture is called like: with its folders or without, whatever its ending."""
    path = PurePath(name)
    for each in (name, str(path.with_suffix("")), path.name, path.stem):
        images = finder.images("", each)
        if len(images) > 1:
            raise BadValue("", f"it may be the mask of image {images[0]} or {images[1]}", "")
        if images:
            return rows[images[0]]
    raise BadValue("", "no image here is called so", "")


def _mask_in(file: Path, row: ImageRow) -> Outline:
    """What is not black in a picture of an image's size; of one packed with loss, what is at least half white."""
    if file.suffix.lower() == NPY:
        mask = _array_in(file)
        if mask.shape != (row.height, row.width):
            why = f"it is an array of {mask.shape}, and image {row.number} has {row.height} rows of {row.width} pixels"
            raise BadValue("", why, "")
        return _if_any(np.asarray(mask) != 0)
    try:
        with Image.open(file) as picture:
            if picture.size != (row.width, row.height):
                wide, high = picture.size
                why = f"it has {wide}×{high} pixels, and image {row.number} has {row.width}×{row.height}"
                raise BadValue("", why, "")
            values = np.asarray(picture.convert("RGB") if picture.mode in ("LA", "CMYK", "YCbCr", "HSV") else picture)
    except (OSError, ValueError, SyntaxError, UnidentifiedImageError, Image.DecompressionBombError) as error:
        if isinstance(error, LensError):
            raise
        raise BadValue("", f"it cannot be read ({error})", "") from None
    inside = values >= 128 if file.suffix.lower() in NOISY else values > 0
    if inside.ndim == 3:
        seen = inside[:, :, 3] if values.shape[2] == 4 else np.ones(inside.shape[:2], bool)
        inside = inside[:, :, :3].any(axis=2) & seen
    return _if_any(inside)


def _if_any(inside: NDArray[np.bool_]) -> Outline:
    if not inside.any():
        raise BadValue("", "nothing in it is inside", "")
    return Outline.of_mask(inside)


def _of_table(rows: Sequence[ImageRow], file: Path, what: str) -> Gathered:
    """A line an object: the image, and a box or a polygon."""
    head, lines = table_in(file, what, "Name a folder of mask pictures, a table or a JSON file")
    columns = next((each for each in (BOX, CORNERS) if set(each) <= set(head)), ())
    if not columns and POLYGON not in head:
        why = f"its columns are {', '.join(head[:8])}"
        raise BadFile(what, why, f"Call those of a box {', '.join(BOX)}, or write corners in a column {POLYGON}")
    finder, by_number = Finder(rows), {row.number: row for row in rows}
    by = naming_column(head, lines, finder)
    if by < 0:
        raise BadFile(what, "no column of it names the workspace's images", "Name each line's image by number or file")
    result = Gathered()
    for line, cells in lines.items():
        try:
            images = finder.images(head[by], cells[by])
            if len(images) != 1:
                raise BadValue("", f"{len(images) or 'no'} images here are called «{cells[by]:.60}»", "")
            row = by_number[images[0]]
            value: dict[str, Any] = {}
            if columns and cells[head.index(columns[0])].strip():
                left, top, third, fourth = (_number(cells[head.index(name)]) for name in columns)
                size = (third, fourth) if columns == BOX else (third - left, fourth - top)
                value["boxes"] = [[left, top, *size]]
            if POLYGON in head and (words := cells[head.index(POLYGON)].replace(",", " ").split()):
                value["polygons"] = [of_corners([_number(word) for word in words])]
            result.add(row, read_outline(value, row.height, row.width))
        except LensError as error:
            result.skipped.append((f"line {line}", error.why))
    return result


def _number(word: str) -> float:
    try:
        return float(word)
    except ValueError:
        raise BadValue("", f"«{word.strip():.40}» is no number", "") from None


def _of_json(rows: Sequence[ImageRow], file: Path, what: str) -> Gathered:
    """An object by image name or number, see `read_outline`."""
    try:
        if file.stat().st_size > MOST_BYTES:
            raise BadFile(what, f"it has more than {MOST_BYTES >> 20} MiB", "Part it into several")
        content = json.loads(file.read_text("utf-8-sig"))
    except OSError as error:
        raise BadFile(what, str(error.strerror).lower(), "Check the path") from None
    except (ValueError, RecursionError) as error:
        raise BadFile(what, f"it is no JSON ({str(error).splitlines()[0][:120]})", "Mend it") from None
    if not isinstance(content, dict):
        raise BadFile(what, "it is no object with one entry an image", "Name every image, with its boxes and polygons")
    result, finder, by_number = Gathered(), Finder(rows), {row.number: row for row in rows}
    for name, value in content.items():
        try:
            images = finder.images("image", name)
            if len(images) != 1:
                raise BadValue("", f"{len(images) or 'no'} images here are called so", "")
            row = by_number[images[0]]
            result.add(row, read_outline(value, row.height, row.width))
        except LensError as error:
            result.skipped.append((str(name)[:80], error.why))
    return result
