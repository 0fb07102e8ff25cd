"""Adding single images to a workspace: they are copied into it, whatever becomes of their files."""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Sequence, Set
from dataclasses import replace
from pathlib import Path

from attentive_lens.core.files import replacing
from attentive_lens.errors import BadFile
from attentive_lens.images.pages import decode_named, each_page, parted
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources.base import PAGE, Found, class_name
from attentive_lens.plan.labels import label_set, labels_in
from attentive_lens.workspace.corrections import GONE
from attentive_lens.workspace.importing import row_of, seen
from attentive_lens.workspace.rows import Origin
from attentive_lens.workspace.workspace import Workspace

PIXELS = ("depth", "channels", "pages", "scale", "black", "white")
"""Of a source's reading: what holds for images from anywhere."""
ADDED = "added"
"""The folder in the workspace, and in the catalogue the place of the source that these images have."""


def add_images(workspace: Workspace, files: Sequence[Path], label: str) -> list[int]:
    """Copy image files, or pages of them, into the workspace as images of a class, a new one if there is none so named.

    The split decides their sets as it does for others; runs that were trained before do not know them.

    Returns
    -------
    list of int
        Their numbers.

    Raises
    ------
    BadFile
        If one cannot be read or copied; none is added then.
    """
    workspace.check_writable("The images were not added")
    catalogue, label = workspace.catalogue, class_name(label)
    reading = catalogue.origins()[1].reading
    if Reading.read(reading).several_labels:
        label = label_set(labels_in(label))
    pixels = {key: reading[key] for key in PIXELS if key in reading}
    pixel_format = Reading.read(pixels).pixel_format
    names = list(each_page(map(str, files), pixel_format))
    pictures = [decode_named(name, pixel_format) for name in names]
    classes = catalogue.classes()
    number = classes.index(label) if label in classes else len(classes)
    origin = catalogue.origin_at(Origin("folders", ADDED, pixels))
    first = catalogue.size()[0] + 1
    taken = {workspace.path_of(row) for row in catalogue.images()}
    copies: list[Path] = []
    rows = []
    try:
        for k, (name, picture) in enumerate(zip(names, pictures, strict=True)):
            file, page = parted(name)
            copies.append(_copy(Path(file), workspace.folder / ADDED / _folder_name(label), taken))
            of_page = (PAGE, page - 1) if page is not None else ()
            result = Found(copies[-1], label, None, *of_page)
            look = seen(picture, copies[-1].stat().st_size, 0)
            rows.append(row_of(first + k, result, look, workspace.folder, {label: number}, origin))
        catalogue.add([*classes, label] if number == len(classes) else classes, rows)
    except OSError as error:
        for copy in copies:
            copy.unlink(missing_ok=True)
        why = f"they could not be copied into {workspace.folder}: {str(error.strerror or error).lower()}"
        raise BadFile("The images were not added", why, "Make room there") from None
    return [row.number for row in rows]


def take_out_images(workspace: Workspace, numbers: Sequence[int], out: bool = True) -> None:
    """Take added images back, or put them in again: their files stay in the workspace, hidden, their numbers too.

    Raises
    ------
    BadFile
        If a file cannot be renamed; all are then as they were.
    """
    workspace.check_writable("The added images stay as they were")
    rows = [row for row in workspace.catalogue.images() if row.number in set(numbers)]
    pairs = [(workspace.path_of(row), workspace.path_of(row).with_name(f".out-{row.number}")) for row in rows]
    renamed: list[tuple[Path, Path]] = []
    try:
        for shown, hidden in pairs:
            one, other = (shown, hidden) if out else (hidden, shown)
            one.rename(other)
            renamed.append((one, other))
        gone = [replace(row, given_set=GONE if out else None) for row in rows]
        workspace.catalogue.renew(workspace.catalogue.classes(), gone, (), workspace.catalogue.skipped())
    except (OSError, BadFile) as error:
        for one, other in renamed:
            other.rename(one)
        why = str(getattr(error, "strerror", "") or getattr(error, "why", "") or error).lower()
        raise BadFile("The added images stay as they were", why, "Look at the folder «added»") from None


def _folder_name(label: str) -> str:
    """A folder for a class: its name, but for what a folder cannot be called."""
    return re.sub(r"[/\\:\x00]|^\.", "_", label)[:80]


def _copy(file: Path, folder: Path, taken: Set[Path]) -> Path:
    """The copy, under a name that is free there, and not that of an image that was taken out and may come back."""
    folder.mkdir(parents=True, exist_ok=True)
    stem, ending = os.path.splitext(file.name)  # noqa: PTH122
    target, number = folder / file.name, 1
    while target.exists() or target in taken:
        number += 1
        target = folder / f"{stem}~{number}{ending}"
    with replacing(target) as part:
        shutil.copyfile(file, part)
    return target
