"""Making a workspace from a source of images, and looking through the source again."""

from __future__ import annotations

import contextlib
import hashlib
import os
import time
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import NamedTuple

import numpy as np
import tomlkit

from attentive_lens.core.files import remove_leftovers, shown, write_text
from attentive_lens.core.helpers import Helpers
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.images.ahead import batches
from attentive_lens.images.decoding import Picture
from attentive_lens.images.opening import keeping_open
from attentive_lens.images.sources.base import Found, Skipped, Source
from attentive_lens.workspace.catalogue import SETTLED, Catalogue
from attentive_lens.workspace.corrections import GONE
from attentive_lens.workspace.rows import ImageRow, Origin
from attentive_lens.workspace.workspace import FORMAT, MARKER, Workspace


class Seen(NamedTuple):
    """What an image is when it is opened; the attributes as in `ImageRow`."""

    width: int
    height: int
    mode: str
    bytes: int
    digest: int
    changed: int
    beyond: int = 0


def create(folder: Path, kind: str, source: Source, name: str = "") -> Job[Workspace]:
    """Make a workspace from a source; every image is opened once, and what gives none is reported.

    Parameters
    ----------
    folder : Path
        Made if missing; must not be a workspace already. Until the end nothing in it says that it is one.
    kind : str
        The source's key, to find it again.
    source : Source
        Where the images are.
    name : str
        What to call it; the folder's name if empty.

    Raises
    ------
    BadFile, BadValue
        If the folder cannot be written, or there are no images.
    """
    if (folder / MARKER).exists():
        raise BadFile(f"{folder} is a workspace already", f"it holds a {MARKER}", "Open it, or name another folder")
    images, lost = _listed(source)
    opened = yield from _opened(source, images)
    skipped = [*lost, *((item.name, seen) for item, seen in zip(images, opened, strict=True) if isinstance(seen, str))]
    readable = [(item, seen) for item, seen in zip(images, opened, strict=True) if not isinstance(seen, str)]
    counts = Counter(item.label for item, _ in readable)
    _check_images(source.place, counts, len(skipped))
    classes = sorted(counts, key=_natural)
    labels = {word: k for k, word in enumerate(classes)}
    rows = [row_of(n, item, seen, folder, labels) for n, (item, seen) in enumerate(readable, 1)]
    origin = Origin(kind, _relative(str(source.place), folder), source.reading.write())
    _write(
        folder,
        shown(name or folder.absolute().name),
        classes,
        rows,
        [(_relative(file, folder), why) for file, why in skipped],
        origin,
    )
    return Workspace.open(folder)


@dataclass(frozen=True)
class Rescanned:
    """What a second look found: numbers of images that are new, changed, gone, or back again.

    ``problems`` are sentences about tables beside them that were not read again.
    """

    added: tuple[int, ...]
    changed: tuple[int, ...]
    gone: tuple[int, ...]
    back: tuple[int, ...]
    problems: tuple[str, ...] = ()


def rescan(workspace: Workspace, source: Source, origin: int = 1, contents: bool = False) -> Job[Rescanned]:
    """Look through a source again: new images get further numbers, those whose file is gone are kept but not used.

    An image has changed if it has other pixels, or another label or set in the source; decisions people made about it
    stay. Files of the same size and time of change as they had when they were read last are not read again, unless
    their contents are asked for.

    Raises
    ------
    BadFile
        If the source or the workspace cannot be used.
    """
    catalogue = workspace.catalogue
    known = {(row.file, row.part, row.index): row for row in catalogue.images() if row.origin == origin}
    total = len(catalogue.images())
    images, skipped = _listed(source)
    places = [(_relative(str(item.file), workspace.folder), item.part, item.index) for item in images]
    classes, former = catalogue.classes(), catalogue.former_names()
    classes += sorted({item.label for item in images} - set(classes) - set(former), key=_natural)
    labels = {**former, **{word: k for k, word in enumerate(classes)}}
    states: dict[Path, tuple[int, int]] = {}
    fresh = [
        item
        for item, place in zip(images, places, strict=True)
        if contents or _in_doubt(known.get(place), item, labels, states)
    ]
    opened = yield from _opened(source, fresh)
    changed: list[ImageRow] = []
    same: list[ImageRow] = []
    added: list[ImageRow] = []
    back: list[ImageRow] = []
    lost = set(known) - set(places)
    for item, seen in zip(fresh, opened, strict=True):
        place = (_relative(str(item.file), workspace.folder), item.part, item.index)
        before = known.get(place)
        if isinstance(seen, str):
            skipped.append((item.name, seen))
            lost |= {place} if before is not None else set()
        elif before is None:
            added.append(row_of(total + len(added) + 1, item, seen, workspace.folder, labels, origin))
        else:
            row = row_of(before.number, item, seen, workspace.folder, labels, origin)
            news = back if before.given_set == GONE else changed if _is_other(before, row) else same
            news.append(row)
    gone = [replace(known[place], given_set=GONE) for place in sorted(lost) if known[place].given_set != GONE]
    used = len({item.label for item in images})
    if used < 2:
        raise BadValue(f"{source.place} has less than two classes now", "the workspace stays as it was", "Look at it")
    reasons = [(_relative(file, workspace.folder), why) for file, why in skipped]
    catalogue.renew(classes, [*changed, *same, *gone, *back], added, reasons)
    of_news, of_changed, of_gone, of_back = (tuple(r.number for r in rows) for rows in (added, changed, gone, back))
    return Rescanned(of_news, of_changed, of_gone, of_back)


def _in_doubt(row: ImageRow | None, item: Found, labels: dict[str, int], states: dict[Path, tuple[int, int]]) -> bool:
    """Whether an image must be opened to know that it is what it was; ``states`` keeps what files were found like."""
    if row is None or row.given_set != item.set_name or row.label != labels[item.label] or not row.changed:
        return True
    if item.file not in states:
        states[item.file] = _state(item.file)
    size, changed = states[item.file]
    return changed != row.changed or (item.index < 0 and size != row.bytes)


def _is_other(before: ImageRow, now: ImageRow) -> bool:
    """Whether anything but the time of the file is another; what was never noted is not."""
    known = replace(now, changed=before.changed, digest=now.digest if before.digest else 0)
    return replace(before, flagged=False) != known


def _state(file: Path) -> tuple[int, int]:
    """Bytes of a file, and the time of its last change; 0 for a time so fresh that another change could share it."""
    try:
        status = file.stat()
    except OSError:
        return -1, 0
    return status.st_size, status.st_ctime_ns if status.st_ctime_ns + SETTLED < time.time_ns() else 0


def _listed(source: Source) -> tuple[list[Found], list[tuple[str, str]]]:
    """Images with their classes, several labels of one in order, and files that gave none."""
    images: list[Found] = []
    skipped: list[tuple[str, str]] = []
    for item in source.find():
        if isinstance(item, Skipped):
            skipped.append((str(item.file), item.reason))
        else:
            images.append(replace(item, label=source.reading.label(item.label)))
    return images, skipped


def _opened(source: Source, images: Sequence[Found]) -> Job[list[Seen | str]]:
    """What each image is, or why it is none."""
    looks: list[Seen | str] = []
    yield Progress(0, len(images), "reading images")
    with Helpers(partial(_looks, source), 0 if source.is_whole else None) as helpers:
        for few in helpers.each(batches(images)):
            looks += few
            yield Progress(len(looks), len(images), "reading images")
    return looks


def _looks(source: Source, images: Sequence[Found]) -> list[Seen | str]:
    with keeping_open():
        return [_look(source, item) for item in images]


def _look(source: Source, item: Found) -> Seen | str:
    size, changed = _state(item.file)
    try:
        picture = source.picture(item.file, item.part, item.index)
    except LensError as error:
        return error.why
    return seen(picture, picture.stored or size, changed)


def seen(picture: Picture, size: int, changed: int) -> Seen:
    """What is noted of a picture whose file has a size and a time of change."""
    height, width = picture.pixels.shape[:2]
    mode = f"{picture.mode}; {picture.note}" if picture.note else picture.mode
    values = picture.pixels if picture.values is None else picture.values
    digest = hashlib.blake2b(np.ascontiguousarray(values).data, digest_size=8).digest()
    return Seen(width, height, mode, size, int.from_bytes(digest, "big", signed=True) or 1, changed, picture.beyond)


def row_of(number: int, item: Found, seen: Seen, folder: Path, labels: dict[str, int], origin: int = 1) -> ImageRow:
    """The row of an image that was opened."""
    return ImageRow(
        number,
        _relative(str(item.file), folder),
        labels[item.label],
        item.set_name,
        seen.width,
        seen.height,
        seen.mode,
        seen.bytes,
        item.part,
        item.index,
        origin,
        seen.digest,
        seen.changed,
        seen.beyond,
    )


def _natural(word: str) -> tuple[int, float, str]:
    """Whole numbers by their value, before everything else."""
    return (0, int(word), word) if word.isascii() and word.isdigit() else (1, 0, word)


def _check_images(place: Path, counts: Counter[str], skipped: int) -> None:
    lost = f" ({skipped} files or lines could not be read)" if skipped else ""
    if not counts:
        raise BadValue(f"{place} gave no images", f"nothing in it is a readable image{lost}", "Name another place")


def _relative(file: str, folder: Path) -> str:
    """A path as the catalogue keeps it: relative inside the workspace, absolute elsewhere."""
    whole, within = os.path.abspath(file), os.path.abspath(folder) + os.sep  # noqa: PTH100  # fast; keeps «, row 3»
    return whole.removeprefix(within)


def _write(
    folder: Path,
    name: str,
    classes: list[str],
    images: list[ImageRow],
    skipped: list[tuple[str, str]],
    origin: Origin,
) -> None:
    """The catalogue under a temporary name, then the marker: a half-made workspace is none."""
    partial_file = folder / f".catalogue.{os.getpid()}.sqlite"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        remove_leftovers(folder)
        Catalogue.create(partial_file, classes, images, skipped, origin)
        partial_file.replace(folder / "catalogue.sqlite")
        Catalogue(folder / "catalogue.sqlite").keep_copy()
        (folder / "decisions.jsonl").unlink(missing_ok=True)
        write_text(folder / MARKER, tomlkit.dumps({"format": FORMAT, "name": name}))
    except OSError as error:
        raise BadFile(
            f"{folder} could not be made a workspace",
            str(error.strerror).lower(),
            "Name a folder you may write in",
        ) from None
    finally:
        for left in (
            partial_file,
            partial_file.with_name(partial_file.name + "-wal"),
            partial_file.with_name(partial_file.name + "-shm"),
        ):
            with contextlib.suppress(OSError):
                left.unlink(missing_ok=True)
