"""Making a workspace from a source of images."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import tomlkit

from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.images.sources.base import Found, Skipped, Source
from attentive_lens.plan.progress import Job, Progress
from attentive_lens.workspace.catalogue import Catalogue, ImageRow
from attentive_lens.workspace.workspace import FORMAT, MARKER, Workspace


def create(
    folder: Path, source: Source, decoded: Callable[[Path], tuple[int, int, str]], name: str = ""
) -> Job[Workspace]:
    """Make a workspace from a source; every file is opened once, and those that give no image are reported.

    Parameters
    ----------
    folder : Path
        Made if missing; must not be a workspace already. Until the end nothing in it says that it is one.
    source : Source
        Where the images are.
    decoded : callable
        Opens an image file: width, height and mode, or `BadFile`.
    name : str
        What to call it; the folder's name if empty.

    Raises
    ------
    BadFile, BadValue
        If the folder cannot be written, or there are no images of at least two classes.
    """
    if (folder / MARKER).exists():
        raise BadFile(f"{folder} is a workspace already", f"it holds a {MARKER}", "Open it, or name another folder")
    files = list(source.find())
    found = [item for item in files if isinstance(item, Found)]
    skipped = [(str(item.file), item.reason) for item in files if isinstance(item, Skipped)]
    rows: list[tuple[Found, int, int, str]] = []

    def look(item: Found) -> tuple[int, int, str] | str:
        try:
            return decoded(item.file)
        except LensError as error:
            return error.why

    with ThreadPoolExecutor(2) as pool:
        for first in range(0, len(found), 128):
            yield Progress(first, len(found), "reading images")
            part = found[first : first + 128]
            for item, seen in zip(part, pool.map(look, part), strict=True):
                if isinstance(seen, str):
                    skipped.append((str(item.file), seen))
                else:
                    rows.append((item, *seen))
    counts = Counter(item.label for item, *_ in rows)
    _check_classes(source.place, counts, len(skipped))
    classes = sorted(counts)
    images = [
        ImageRow(
            n,
            _relative(item.file, folder),
            classes.index(item.label),
            item.set_name,
            w,
            h,
            mode,
            item.file.stat().st_size,
        )
        for n, (item, w, h, mode) in enumerate(rows, 1)
    ]
    _write(
        folder,
        name or folder.absolute().name,
        classes,
        images,
        [(_relative(Path(f), folder), why) for f, why in skipped],
    )
    return Workspace.open(folder)


def _check_classes(place: Path, counts: Counter[str], skipped: int) -> None:
    lost = f" ({skipped} files could not be read)" if skipped else ""
    if not counts:
        raise BadValue(
            f"{place} gave no images",
            f"no file in its class folders is a readable image{lost}",
            "Name another folder",
        )
    if len(counts) == 1:
        (only,) = counts
        raise BadValue(
            f"{place} has one class only",
            f"all {counts[only]} images are of «{only}», and a classifier tells at least two apart{lost}",
            "Put images of another class in a folder beside it",
        )


def _relative(file: Path, folder: Path) -> str:
    file, folder = file.absolute(), folder.absolute()
    return str(file.relative_to(folder)) if file.is_relative_to(folder) else str(file)


def _write(folder: Path, name: str, classes: list[str], images: list[ImageRow], skipped: list[tuple[str, str]]) -> None:
    """The catalogue under a temporary name, then the marker: a half-made workspace is none."""
    own = folder / f".catalogue.{os.getpid()}.sqlite"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        Catalogue.create(own, classes, images, skipped)
        own.replace(folder / "catalogue.sqlite")
        (folder / MARKER).write_text(tomlkit.dumps({"format": FORMAT, "name": name}), "utf-8")
    except OSError as error:
        raise BadFile(
            f"{folder} could not be made a workspace",
            str(error.strerror).lower(),
            "Name a folder you may write in",
        ) from None
    finally:
        for left in (own, own.with_name(own.name + "-wal"), own.with_name(own.name + "-shm")):
            left.unlink(missing_ok=True) if left.parent.exists() else None
