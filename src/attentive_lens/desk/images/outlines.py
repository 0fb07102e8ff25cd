"""Where the objects are: taken in from files beside the images, joined with what people drew, and written out again."""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path, PurePath

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.files import replacing
from attentive_lens.core.jobs import Job
from attentive_lens.core.recent import Recent
from attentive_lens.core.telling import counted
from attentive_lens.desk.images.outline_files import Gathered, gathered, not_taken
from attentive_lens.errors import BadFile, LensError
from attentive_lens.images.outlines import Outline, coverage, region_of
from attentive_lens.images.preprocessing import Region
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.workspace import ImageRow, Workspace
from attentive_lens.workspace.corrections import Corrections

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


def regions_seen(workspace: Workspace, rows: Sequence[ImageRow], settings: Preprocessing) -> NDArray[np.int64]:
    """The same of all images, N×4: top, left, bottom, right, and zeros for those that are seen whole."""
    result = np.zeros((len(rows), 4), np.int64)
    regions = regions_of(workspace, rows, settings)
    for place, row in enumerate(rows):
        if row.number in regions:
            result[place] = regions[row.number]
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
        raise BadFile(not_taken(place), why, "Name masks, boxes or polygons of the images")
    folder, whole = str(workspace.folder.absolute()), os.path.abspath(place)  # noqa: PTH100  # keeps links
    workspace.catalogue.outlines.take(result.outlines, whole.removeprefix(folder + os.sep), alone)
    return result


def taken_again(workspace: Workspace) -> Job[list[str]]:
    """Read every file and folder of outlines again, as a rescan does; a sentence for what of each could not be."""
    sentences = []
    for place in workspace.catalogue.outlines.places():
        name = PurePath(place).name
        try:
            skipped = (yield from take_outlines(workspace, workspace.folder / place)).skipped
        except LensError as error:
            sentences.append(f"{name} was not read again, and its outlines stay: {error}")
            continue
        if skipped:
            entries = counted(len(skipped), "entry", "entries")
            sentences.append(f"{entries} of {name} not taken, the first: {skipped[0][0]}, {skipped[0][1]}")
    return sentences


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
    "caution_of_crops",
    "covered_at",
    "known_outlines",
    "regions_of",
    "regions_seen",
    "take_outlines",
    "taken_again",
    "with_drawn",
    "write_outlines",
]
