"""Making a workspace from a source of images, and looking through the source again."""

from __future__ import annotations

import contextlib
import os
from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import tomlkit

from attentive_lens.core.files import remove_leftovers, write_text
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.images.sources.base import Found, Skipped, Source
from attentive_lens.workspace.catalogue import Catalogue
from attentive_lens.workspace.corrections import GONE
from attentive_lens.workspace.rows import ImageRow, Origin
from attentive_lens.workspace.workspace import FORMAT, MARKER, Workspace

AT_ONCE = 256
"""Images opened between two reports."""

Seen = tuple[int, int, str, int]
"""Width, height, mode and bytes of an image."""


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
        If the folder cannot be written, or there are no images of at least two classes.
    """
    if (folder / MARKER).exists():
        raise BadFile(f"{folder} is a workspace already", f"it holds a {MARKER}", "Open it, or name another folder")
    images, lost = _listed(source)
    opened = yield from _opened(source, images)
    skipped = [*lost, *((item.name, seen) for item, seen in zip(images, opened, strict=True) if isinstance(seen, str))]
    readable = [(item, seen) for item, seen in zip(images, opened, strict=True) if not isinstance(seen, str)]
    counts = Counter(item.label for item, _ in readable)
    _check_classes(source.place, counts, len(skipped))
    classes = sorted(counts, key=_natural)
    labels = {word: k for k, word in enumerate(classes)}
    rows = [_row(n, item, seen, folder, labels) for n, (item, seen) in enumerate(readable, 1)]
    origin = Origin(kind, _relative(str(source.place), folder), source.reading.write())
    _write(
        folder,
        name or folder.absolute().name,
        classes,
        rows,
        [(_relative(file, folder), why) for file, why in skipped],
        origin,
    )
    return Workspace.open(folder)


@dataclass(frozen=True)
class Rescanned:
    """What a second look found: numbers of images that are new, changed, gone, or back again."""

    added: tuple[int, ...]
    changed: tuple[int, ...]
    gone: tuple[int, ...]
    back: tuple[int, ...]


def rescan(workspace: Workspace, source: Source, origin: int = 1) -> Job[Rescanned]:
    """Look through a source again: new images get further numbers, those whose file is gone are kept but not used.

    An image has changed if its file has another size, or another label or set in the source; decisions people made
    about it stay.

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
    classes = catalogue.classes()
    classes += sorted({item.label for item in images} - set(classes), key=_natural)
    labels = {word: k for k, word in enumerate(classes)}
    fresh = [item for item, place in zip(images, places, strict=True) if _is_news(known.get(place), item, labels)]
    opened = yield from _opened(source, fresh)
    changed: list[ImageRow] = []
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
            added.append(_row(total + len(added) + 1, item, seen, workspace.folder, labels, origin))
        else:
            row = _row(before.number, item, seen, workspace.folder, labels, origin)
            (back if before.given_set == GONE else changed).append(row)
    gone = [replace(known[place], given_set=GONE) for place in sorted(lost) if known[place].given_set != GONE]
    used = len({item.label for item in images})
    if used < 2:
        raise BadValue(f"{source.place} has less than two classes now", "the workspace stays as it was", "Look at it")
    reasons = [(_relative(file, workspace.folder), why) for file, why in skipped]
    catalogue.renew(classes, [*changed, *gone, *back], added, reasons)
    numbers = [tuple(row.number for row in rows) for rows in (added, changed, gone, back)]
    return Rescanned(*numbers)


def _is_news(row: ImageRow | None, item: Found, labels: dict[str, int]) -> bool:
    if row is None or row.given_set != item.set_name or row.label != labels[item.label]:
        return True
    return item.index < 0 and _size(item.file) != row.bytes


def _size(file: Path) -> int:
    try:
        return file.stat().st_size
    except OSError:
        return -1


def _listed(source: Source) -> tuple[list[Found], list[tuple[str, str]]]:
    images: list[Found] = []
    skipped: list[tuple[str, str]] = []
    for item in source.find():
        if isinstance(item, Skipped):
            skipped.append((str(item.file), item.reason))
        else:
            images.append(item)
    return images, skipped


def _opened(source: Source, images: Sequence[Found]) -> Job[list[Seen | str]]:
    """What each image is, or why it is none."""

    def look(item: Found) -> Seen | str:
        try:
            picture = source.picture(item.file, item.part, item.index)
        except LensError as error:
            return error.why
        height, width = picture.pixels.shape[:2]
        mode = f"{picture.mode}; {picture.note}" if picture.note else picture.mode
        return width, height, mode, picture.pixels.nbytes if item.index >= 0 else _size(item.file)

    seen: list[Seen | str] = []
    with ThreadPoolExecutor(2) as pool:
        for first in range(0, len(images), AT_ONCE):
            yield Progress(first, len(images), "reading images")
            seen += pool.map(look, images[first : first + AT_ONCE])
    return seen


def _row(number: int, item: Found, seen: Seen, folder: Path, labels: dict[str, int], origin: int = 1) -> ImageRow:
    width, height, mode, size = seen
    return ImageRow(
        number,
        _relative(str(item.file), folder),
        labels[item.label],
        item.set_name,
        width,
        height,
        mode,
        size,
        item.part,
        item.index,
        origin,
    )


def _natural(word: str) -> tuple[int, float, str]:
    """Whole numbers by their value, before everything else."""
    return (0, int(word), word) if word.isascii() and word.isdigit() else (1, 0, word)


def _check_classes(place: Path, counts: Counter[str], skipped: int) -> None:
    lost = f" ({skipped} files or lines could not be read)" if skipped else ""
    if not counts:
        raise BadValue(f"{place} gave no images", f"nothing in it is a readable image{lost}", "Name another place")
    if len(counts) == 1:
        (only,) = counts
        raise BadValue(
            f"{place} has one class only",
            f"all {counts[only]} images are of «{only}», and a classifier tells at least two apart{lost}",
            "Add images of another class",
        )


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
