"""Where the objects are: taken in from files beside the images, joined with what people drew, and written out again."""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path, PurePath
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, UnidentifiedImageError

from attentive_lens.core.files import replacing
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.recent import Recent
from attentive_lens.core.tables import table_in
from attentive_lens.desk.images.naming import Finder, naming_column
from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.images.decoding import suffixes
from attentive_lens.images.outlines import Outline, coverage, of_corners, read_outline, region_of
from attentive_lens.images.preprocessing import Region
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.workspace import ImageRow, Workspace
from attentive_lens.workspace.corrections import Corrections

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


_KNOWN: Recent[dict[int, Outline]] = Recent(2)


def known_outlines(workspace: Workspace) -> dict[int, Outline]:
    """Where the object is, by image number: as drawn, elsewhere as taken from files."""
    catalogue = workspace.catalogue
    stamp = catalogue.settled_stamp()
    key = (catalogue.file.absolute(), stamp)
    known = _KNOWN.known(key) if stamp is not None else None
    if known is not None:
        return known
    result = with_drawn(catalogue.outlines.values(), catalogue.corrections())
    return result if stamp is None else _KNOWN.keep(key, result)


def covered_at(row: ImageRow, outline: Outline, settings: Preprocessing) -> NDArray[np.float32]:
    """How much of each pixel of an image, as a plan prepares it, is the object's: rows×columns in 0–1."""
    return coverage(outline, row.height, row.width, settings)


def regions_of(workspace: Workspace, rows: Sequence[ImageRow], settings: Preprocessing) -> dict[int, Region]:
    """What of each image is seen, by number; images that are seen whole are left out."""
    if settings.crop_to == "image":
        return {}
    outlines, result = known_outlines(workspace), {}
    for row in rows:
        region = region_of(outlines[row.number], row.height, row.width, settings) if row.number in outlines else None
        if region is not None:
            result[row.number] = region
    return result


def caution_of_crops(workspace: Workspace, settings: Preprocessing, images: Iterable[int]) -> str:
    """What to say of images, by number, that are cropped to their objects: how many have no outline; or nothing."""
    if settings.crop_to == "image":
        return ""
    outlines, numbers = known_outlines(workspace), list(images)
    lacking = sum(number not in outlines for number in numbers)
    if not lacking:
        return ""
    return f"{lacking} of {len(numbers)} images have no outline and are seen whole, where the others are cropped."


def with_drawn(taken: Mapping[int, Outline], corrections: Corrections) -> dict[int, Outline]:
    """What was taken from files, and what people drew in its place; without images that have none."""
    drawn = {image: each.outline for image, each in corrections.items() if each.outline is not None}
    return {image: outline for image, outline in sorted({**taken, **drawn}.items()) if outline}


def take_outlines(workspace: Workspace, place: Path, alone: bool = False) -> Job[Gathered]:
    """Note what a file or a folder of mask pictures tells, ``alone`` or besides others; a rescan reads it again.

    Raises
    ------
    BadFile
        If it cannot be read, or tells of no image here; nothing is changed then.
    """
    workspace.check_writable("The outlines were not taken")
    result = yield from gathered(workspace.catalogue.images(), place)
    if not result.outlines:
        name, why = result.skipped[0] if result.skipped else ("", "")
        why = f"it tells of no object in an image here; {name}: {why}" if name else "there is nothing in it"
        raise BadFile(_what(place), why, "Name masks, boxes or polygons of the images")
    if alone:
        workspace.catalogue.outlines.forget()
    folder, whole = str(workspace.folder.absolute()), os.path.abspath(place)  # noqa: PTH100  # keeps links
    workspace.catalogue.outlines.take(result.outlines, whole.removeprefix(folder + os.sep))
    return result


def taken_again(workspace: Workspace) -> Job[list[str]]:
    """Read every file and folder of outlines again, as a rescan does; a sentence for each that could not be."""
    sentences = []
    for place in workspace.catalogue.outlines.places():
        try:
            yield from take_outlines(workspace, workspace.folder / place)
        except LensError as error:
            sentences.append(f"{PurePath(place).name} was not read again, and its outlines stay: {error}")
    return sentences


def gathered(rows: Sequence[ImageRow], place: Path) -> Job[Gathered]:
    """What a folder of mask pictures, one such picture, a table or a JSON file tells of objects in some images.

    Raises
    ------
    BadFile
        If the place cannot be read, or is nothing of this kind.
    """
    what = _what(place)
    if place.is_dir():
        return (yield from _of_masks(rows, place, sorted(file for file in place.rglob("*") if file.is_file())))
    if not place.is_file():
        raise BadFile(what, f"there is no {place}", "Check the path")
    if place.suffix.lower() == ".json":
        return _of_json(rows, place, what)
    if place.suffix.lower() in suffixes():
        return (yield from _of_masks(rows, place.parent, [place]))
    return _of_table(rows, place, what)


def _what(place: Path) -> str:
    return f"The outlines in {place.absolute().name} were not taken"


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


def write_outlines(workspace: Workspace, target: Path) -> int:
    """Write all outlines: into one JSON file, or as mask pictures into a folder; how many.

    Raises
    ------
    BadFile
        If there are none, or it cannot be written.
    """
    rows, outlines = workspace.catalogue.images(), known_outlines(workspace)
    if not outlines:
        raise BadFile(f"{target} was not written", "the workspace has no outlines", "Draw or take in some first")
    by_number = {row.number: row for row in rows}
    try:
        if target.suffix.lower() == ".json":
            with replacing(target) as part:
                part.write_text(json.dumps({str(image): each.write() for image, each in outlines.items()}), "utf-8")
        else:
            for image, file in _mask_files([by_number[image] for image in outlines], target):
                file.parent.mkdir(parents=True, exist_ok=True)
                row = by_number[image]
                mask = outlines[image].filled(row.height, row.width)
                Image.fromarray(mask.astype(np.uint8) * 255).save(file)
    except OSError as error:
        raise BadFile(f"{target} could not be written", str(error.strerror).lower(), "Name another place") from None
    return len(outlines)


def _mask_files(rows: Sequence[ImageRow], folder: Path) -> Iterator[tuple[int, Path]]:
    """Where the mask of each image goes: its folders as far as they tell images apart, its name and ``.png``."""
    shared = os.path.commonpath([str(PurePath(row.file).parent) for row in rows])
    for row in rows:
        yield row.number, (folder / os.path.relpath(row.file, shared)).with_suffix(".png")


__all__ = [
    "Gathered",
    "caution_of_crops",
    "covered_at",
    "gathered",
    "known_outlines",
    "regions_of",
    "take_outlines",
    "taken_again",
    "with_drawn",
    "write_outlines",
]
