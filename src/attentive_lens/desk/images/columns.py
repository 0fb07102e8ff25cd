"""Tables beside the images: taken in by the images' names, and what they tell of each image."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePath

from attentive_lens.core.jobs import paced
from attentive_lens.core.keeping import key_of
from attentive_lens.core.recent import Recent
from attentive_lens.core.tables import as_head, table_in
from attentive_lens.core.telling import counted
from attentive_lens.desk.images.naming import Finder, naming_column
from attentive_lens.errors import BadFile, LensError
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources import SOURCES
from attentive_lens.images.sources.listing import Listing
from attentive_lens.workspace import ImageRow, Origin, Workspace
from attentive_lens.workspace.columns import ColumnTable

NAMED = 3
"""Lines and columns that a sentence names."""


_LISTED: Recent[dict[str, dict[int, str]]] = Recent(2)


@dataclass(frozen=True)
class Joined:
    """A table as far as it is about a workspace's images.

    Attributes
    ----------
    by : str
        The column that names the images.
    columns : dict
        Column → image's number → word, of all others.
    unknown : tuple of str
        Names in it that no image has.
    without : tuple of int
        Numbers of the images of which it says nothing.
    """

    by: str
    columns: dict[str, dict[int, str]]
    unknown: tuple[str, ...]
    without: tuple[int, ...]

    def words(self, name: str) -> Iterator[str]:
        """What it tells, and where it and the images do not meet; ``name`` is the table's."""
        names = ", ".join(f"{column} ({len(set(words.values()))} words)" for column, words in self.columns.items())
        yield f"{name}, joined by its column {self.by}: {names}."
        if self.unknown:
            some = ", ".join(f"«{each}»" for each in self.unknown[:NAMED])
            yield f"{counted(len(self.unknown), 'line names', 'lines name')} no image here: {some}."
        if self.without:
            some = ", ".join(map(str, self.without[:NAMED]))
            yield f"{counted(len(self.without), 'image is', 'images are')} in no line of it: {some}."


def joined(rows: Sequence[ImageRow], file: Path, by: str = "") -> Joined:
    """A table, joined by the column that names the images: by number, or by file as far as the names tell them apart.

    Raises
    ------
    BadFile
        If it cannot be read, no column names images, a name may be several images', or an image stands in two lines
        that say different things.
    """
    what = f"{file.name} was not taken in"
    head, lines = table_in(file, what, "Save it as text, its columns parted by commas, with a first line of names")
    if len(set(head)) < len(head) or "" in head:
        twice = next((name for name in head if head.count(name) > 1), "one without a name")
        raise BadFile(what, f"of its columns two are called alike, or one is not called anything: {twice}", "Name each")
    finder = Finder(rows)
    column = head.index(as_head(by)) if by and as_head(by) in head else -1 if by else naming_column(head, lines, finder)
    if column < 0:
        why = f"it has no column «{by}»" if by else "no column of it names the workspace's images"
        raise BadFile(what, f"{why}; its columns are {', '.join(head[:8])}", "Name the column with --by")
    others = [k for k in range(len(head)) if k != column]
    values: dict[str, dict[int, str]] = {head[k]: {} for k in others}
    seen: dict[int, int] = {}
    unknown: list[str] = []
    for line, row in paced(lines.items()):
        images = finder.images(head[column], row[column])
        if len(images) > 1:
            why = f"«{row[column]:.60}» in line {line} may be image {images[0]} or {images[1]}"
            raise BadFile(what, why, "Write their folders too, or number the images in a column «image»")
        if not images:
            unknown.append(row[column].strip()[:60])
            continue
        (image,) = images
        for k in others:
            word = row[k].strip()
            if image in seen and values[head[k]].get(image, "") != word:
                why = f"image {image} stands in lines {seen[image]} and {line}, with another {head[k]} in each"
                raise BadFile(what, why, "Leave one of them")
            if word:
                values[head[k]][image] = word
        seen[image] = line
    if not seen:
        raise BadFile(what, f"no line of its column {head[column]} names an image here", "Name another with --by")
    without = tuple(row.number for row in rows if row.number not in seen)
    return Joined(head[column], {name: words for name, words in values.items() if words}, tuple(unknown), without)


def take_in(workspace: Workspace, file: Path, by: str = "", alone: bool = False) -> Joined:
    """Note what a table tells of the workspace's images, ``alone`` or besides others; a rescan reads it again.

    Raises
    ------
    BadFile
        See `joined`; or if the workspace cannot be written, or the table has nothing but names.
    """
    workspace.check_writable("The table was not taken in")
    result = joined(workspace.catalogue.images(), file, by)
    if not result.columns:
        raise BadFile(f"{file.name} was not taken in", "it has no other column than the images' names", "Name another")
    folder, place = str(workspace.folder.absolute()), os.path.abspath(file)  # noqa: PTH100  # keeps links
    table = ColumnTable(place.removeprefix(folder + os.sep), by and result.by)
    workspace.catalogue.columns.take(result.columns, table, alone)
    return result


def known_columns(workspace: Workspace) -> dict[str, dict[int, str]]:
    """Column → image's number → word, of every table: those that name the images of a source, and those beside.

    A source's table that is gone tells nothing.
    """
    origins = workspace.catalogue.origins().values()
    listings = [origin for origin in origins if issubclass(SOURCES[origin.kind], Listing)]
    listed = _listed(workspace, listings) if listings else {}
    return listed | workspace.catalogue.columns.values()


def _listed(workspace: Workspace, listings: Sequence[Origin]) -> dict[str, dict[int, str]]:
    """What the tables say that name a workspace's images; read again when they, or the number of images, change."""
    places = [workspace.folder / origin.place for origin in listings]
    tables = [Listing(place).table or place for place in places]
    key = (key_of(*tables), workspace.catalogue.file.absolute(), workspace.catalogue.size())
    known = _LISTED.known(key)
    if known is not None:
        return known
    result: dict[str, dict[int, str]] = {}
    numbers = {os.path.abspath(workspace.path_of(row)): row.number for row in workspace.catalogue.images()}  # noqa: PTH100
    for origin, place in zip(listings, places, strict=True):
        with contextlib.suppress(BadFile):
            source = Listing(place, Reading.read(origin.reading))
            for name, by_file in source.columns().items():
                words = {numbers.get(os.path.abspath(file)): word for file, word in by_file.items() if word}  # noqa: PTH100
                result.setdefault(name, {}).update({image: word for image, word in words.items() if image is not None})
    return _LISTED.keep(key, {name: words for name, words in result.items() if words})


def taken_again(workspace: Workspace) -> list[str]:
    """Read every table that was taken again, as a rescan does; a sentence for each that could not be."""
    sentences = []
    for table in workspace.catalogue.columns.tables():
        try:
            take_in(workspace, workspace.folder / table.place, table.by)
        except LensError as error:
            sentences.append(f"{PurePath(table.place).name} was not read again, and what it said stays: {error}")
    return sentences
