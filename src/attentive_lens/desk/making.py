"""Making workspaces: from a folder of images, and the pollen station's demo."""

from __future__ import annotations

import os
from dataclasses import dataclass, replace
from pathlib import Path

from attentive_lens.core.jobs import Job
from attentive_lens.core.telling import counted
from attentive_lens.core.values import unknown_word
from attentive_lens.demo.fields import make_fields
from attentive_lens.demo.station import OUTLINES, make
from attentive_lens.desk.images.collection import Collection, collection
from attentive_lens.desk.images.columns import taken_again
from attentive_lens.desk.images.data import pixel_format_of
from attentive_lens.desk.images.outlines import take_outlines
from attentive_lens.desk.images.outlines import taken_again as outlines_again
from attentive_lens.desk.network.usual import note_usual
from attentive_lens.desk.training.cautions import classes_by_folder, small_classes
from attentive_lens.errors import BadFile, LensError
from attentive_lens.images.display import Display, usual_display, write_display
from attentive_lens.images.pixel_format import EIGHT
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources import SOURCES, kind_of, open_source
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.importing import Rescanned, create, rescan

SETS_OF_LABELS = 2
"""Classes with such a sign in their names from which they may be sets of labels."""
GRAINS, FIELDS = COLLECTIONS = ("grains", "fields")
"""Of the station: one grain an image, which has its type; and views with several, which have several labels."""


@dataclass(frozen=True)
class Made:
    """A new workspace, what is in it, and what was noticed at once."""

    workspace: Workspace
    collection: Collection
    findings: list[str]


def make_workspace(folder: Path, source: Path, name: str = "", reading: Reading | None = None) -> Job[Made]:
    """A workspace from a folder of images, a table or a file of arrays; ``reading`` says how where it is not plain."""
    workspace = yield from create(folder, kind_of(source), open_source(source, reading), name)
    unusual = yield from note_usual(workspace)
    display = usual_display(pixel_format_of(workspace).channels)
    if display != Display():
        write_display(folder, display)
    images = collection(workspace, Plan())
    own = [*what_pixels_are(workspace), *like_several_labels(images)]
    return Made(workspace, images, [*own, *small_classes(images), *classes_by_folder(images), *unusual])


def like_several_labels(images: Collection) -> list[str]:
    """A sentence where classes look like sets of labels that a table has in one cell, and were read as classes."""
    if images.several:
        return []
    for sign in (";", "|"):
        names = [name for name in images.classes if sign in name]
        if len(names) >= SETS_OF_LABELS:
            return [
                f"{counted(len(names), 'class has', 'classes have')} «{sign}» in their names, as «{names[0]}»: if that"
                f" parts several labels of one image, import anew with separator={sign}, and each is learned by itself."
            ]
    return []


def what_pixels_are(workspace: Workspace) -> list[str]:
    """A sentence about images that keep more than an ordinary picture holds: depth, scale, values beyond it."""
    own = pixel_format_of(workspace)
    if own.is_plain:
        return []
    scale = "" if own.depth == EIGHT else f": {own.scale_in_words}"
    beyond = [row.beyond for row in workspace.catalogue.images() if row.beyond]
    past = f"; {counted(len(beyond), 'image has', 'images have')} {sum(beyond)} values beyond" if beyond else ""
    return [f"The values ({own.depth}) are kept as they are{scale}{past}."]


def make_demo(folder: Path, images: int, seed: int, collection_name: str = GRAINS) -> Job[Made]:
    """The pollen station: its images, their answer key, and a workspace on them; opened if it is there already.

    Raises
    ------
    BadUsage
        If it has no collection of that name.
    """
    if collection_name not in COLLECTIONS:
        raise unknown_word("collection", collection_name, frozenset(COLLECTIONS))
    try:
        workspace = Workspace.open(folder)
    except LensError:
        if collection_name == FIELDS:
            place = yield from make_fields(folder, images, seed)
            return (yield from make_workspace(folder, place, "fields of view", Reading(separator=";")))
        place = yield from make(folder, images, seed)
        made = yield from make_workspace(folder, place, "pollen station")
        yield from take_outlines(made.workspace, folder / OUTLINES)
        return made
    held = collection(workspace, Plan())
    return Made(workspace, held, small_classes(held))


def move_source(workspace: Workspace, place: Path) -> tuple[int, int]:
    """The workspace's source is elsewhere now; how many of its images are there, and how many are not.

    Raises
    ------
    BadFile
        If the place is no source of that kind, or none of the images is there; nothing is changed then.
    """
    workspace.check_writable("The source was not changed")
    origin = workspace.catalogue.origins()[1]
    source = SOURCES[origin.kind]
    if not place.exists() or not source.recognises(place):
        why = f"there is no source of this kind: {source.title}" if place.exists() else "there is nothing"
        raise BadFile(f"{place} cannot be the source", why, "Name the place where the images are now")
    before = os.path.abspath(workspace.folder / origin.place)  # noqa: PTH100  # keeps links
    now = os.path.abspath(place)  # noqa: PTH100
    folder = str(workspace.folder.absolute())
    files: dict[str, str] = {}
    present = missing = 0
    for row in workspace.catalogue.images():
        whole = os.path.join(folder, row.file)  # noqa: PTH118
        within = os.path.relpath(whole, before)
        if row.origin != 1 or within.startswith(".."):
            continue
        new = now if within == "." else os.path.join(now, within)  # noqa: PTH118
        files[row.file] = new.removeprefix(folder + os.sep)
        there = os.path.exists(new)  # noqa: PTH110
        present, missing = present + there, missing + (not there)
    if not present:
        raise BadFile(f"{place} cannot be the source", "none of the workspace's images is there", "Name another place")
    workspace.catalogue.move_origin(1, now.removeprefix(folder + os.sep), files)
    return present, missing


def look_again(workspace: Workspace, contents: bool = False) -> Job[Rescanned]:
    """Look through the workspace's source again for new, changed and lost images, and read tables beside it again.

    See `rescan` and `desk.images.columns`.

    Raises
    ------
    BadFile
        If the source is not there any more, or was not noted when the workspace was made.
    """
    workspace.check_writable("The source was not looked through again")
    origin = workspace.catalogue.origins()[1]
    place = workspace.folder / origin.place
    if not origin.place or not place.exists():
        where = f"{place} is gone" if origin.place else "an early version that did not note it made the workspace"
        raise BadFile("The images' source could not be looked through", where, "Put it back, or import again")
    source = SOURCES[origin.kind](place, Reading.read(origin.reading))
    result = yield from rescan(workspace, source, contents=contents)
    return replace(result, problems=(*taken_again(workspace), *(yield from outlines_again(workspace))))
