"""What a figure stands on: every image's pixels, label, set, crop and decision, for a run or as they are now."""

from __future__ import annotations

import csv
import hashlib
import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from attentive_lens.core.files import write_text
from attentive_lens.core.tables import table_in
from attentive_lens.core.telling import counted
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.outlines import regions_seen
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.errors import BadFile, NotHere
from attentive_lens.images.split import LEFT_OUT
from attentive_lens.workspace import ImageRow, Run, Workspace

HEADS = ("image", "file", "pixels", "label", "set", "decision", "crop")
NAMED = 5
"""Images that a sentence names."""


@dataclass(frozen=True)
class Entry:
    """An image.

    Attributes
    ----------
    image : int
        Its number.
    file : str
        As the catalogue has it, with the place in it where it holds several.
    pixels : str
        Digest of the decoded pixels, 16 hexadecimal digits; empty where none was noted.
    label, set : str
        Its class and its set.
    decision : str
        What a person decided: "label", "set", "flag", with blanks between; empty for none.
    crop : str
        Top, left, bottom and right of what is seen of it, in pixels, with blanks between; empty where that is all.
    """

    image: int
    file: str
    pixels: str
    label: str
    set: str
    decision: str
    crop: str = ""


@dataclass(frozen=True)
class Changes:
    """What two manifests differ in, by the images' numbers.

    Attributes
    ----------
    pixels, label, set : tuple of int
        Images that both have, with other pixels, another label, or in another set.
    missing, added : tuple of int
        Images that only the first has, and only the second.
    crop : tuple of int
        Images that both crop to their objects, and not to the same part of them.
    """

    pixels: tuple[int, ...] = ()
    label: tuple[int, ...] = ()
    set: tuple[int, ...] = ()
    missing: tuple[int, ...] = ()
    added: tuple[int, ...] = ()
    crop: tuple[int, ...] = ()

    @property
    def none(self) -> bool:
        """Whether they are the same."""
        return not any((self.pixels, self.label, self.set, self.missing, self.added, self.crop))

    def words(self, first: str, second: str) -> Iterator[str]:
        """A sentence for each sort; the two are called as is said."""
        sorts = (
            (self.pixels, f"with other pixels in {second} than in {first}"),
            (self.label, f"with another label in {second} than in {first}"),
            (self.set, f"in another set in {second} than in {first}"),
            (self.missing, f"in {first} alone"),
            (self.added, f"in {second} alone"),
            (self.crop, f"cropped otherwise in {second} than in {first}"),
        )
        for images, what in sorts:
            if images:
                some = ", ".join(map(str, images[:NAMED])) + (" …" if len(images) > NAMED else "")
                yield f"{counted(len(images), 'image', 'images')} {what}: {some}."


def manifest(workspace: Workspace, run: Run | None = None) -> tuple[Entry, ...]:
    """Every image as a run saw it, or as it is now by the workspace's plan.

    Raises
    ------
    NotHere
        If a run noted no images, for it has not begun.
    """
    plan = usual_plan(workspace)
    known = collection(workspace, plan)
    if run is None:
        seen = regions_seen(workspace, known.rows, plan.preprocessing).tolist()
        return tuple(
            _entry(row, row.digest, known.classes[row.label], name, crop, plain)
            for row, plain, name, crop in zip(known.rows, workspace.catalogue.images(), known.sets, seen, strict=True)
        )
    noted = run.images()
    if noted is None:
        raise NotHere(f"Run {run.number} has no manifest", "it has noted no images", "Wait until it has begun")
    names, digests = run.classes(), run.digests().tolist()
    digests += [0] * (len(noted[0]) - len(digests))
    crops = run.regions().tolist()
    crops += [[]] * (len(noted[0]) - len(crops))
    return tuple(
        _entry(row, digest, names[label] if 0 <= label < len(names) else "", set_name, crop)
        for row, label, set_name, digest, crop in zip(
            known.rows, noted[0].tolist(), noted[1], digests, crops, strict=False
        )
    )


def _entry(
    row: ImageRow, digest: int, label: str, set_name: str, crop: Sequence[int], plain: ImageRow | None = None
) -> Entry:
    pixels = f"{digest & (1 << 64) - 1:016x}" if digest else ""
    decided = []
    if plain is not None:
        other = {"label": row.label != plain.label, "set": row.given_set != plain.given_set, "flag": row.flagged}
        decided = [word for word, is_so in other.items() if is_so]
    file = f"{row.file}, {row.part} {row.index}" if row.index >= 0 else row.file
    seen = " ".join(map(str, crop)) if any(crop) else ""
    return Entry(row.number, file, pixels, label, set_name, " ".join(decided), seen)


def changes(one: Sequence[Entry], other: Sequence[Entry]) -> Changes:
    """What a second manifest has otherwise than a first.

    Pixels count as other only where both are noted, and crops only where both have some: whether images are cropped is
    their plans' matter.
    """
    first, second = ({each.image: each for each in entries if each.set != LEFT_OUT} for entries in (one, other))
    cropped = all(any(each.crop for each in entries.values()) for entries in (first, second))
    both = [(first[image], second[image]) for image in sorted(first.keys() & second.keys())]
    return Changes(
        tuple(a.image for a, b in both if a.pixels and b.pixels and a.pixels != b.pixels),
        tuple(a.image for a, b in both if a.label != b.label),
        tuple(a.image for a, b in both if a.set != b.set),
        tuple(sorted(first.keys() - second.keys())),
        tuple(sorted(second.keys() - first.keys())),
        tuple(a.image for a, b in both if cropped and a.crop != b.crop),
    )


def digest_of(entries: Sequence[Entry]) -> str:
    """One for all: SHA-256 of the file's lines without decisions and files' places, 64 hexadecimal digits."""
    lines = "".join(
        f"{each.image},{each.pixels},{each.label},{each.set}{f',{each.crop}' if each.crop else ''}\n"
        for each in entries
    )
    return hashlib.sha256(lines.encode("utf-8", "surrogateescape")).hexdigest()


def write_manifest(file: Path, entries: Sequence[Entry]) -> None:
    """As CSV, a line an image; `BadFile` if it cannot be written."""
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    table.writerow(HEADS)
    table.writerows([(e.image, e.file, e.pixels, e.label, e.set, e.decision, e.crop) for e in entries])
    write_text(file, text.getvalue())


def read_manifest(file: Path) -> tuple[Entry, ...]:
    """From such a file.

    Raises
    ------
    BadFile
        If it cannot be read, lacks a column, names an image twice, or a number is none; the line is named.
    """
    what, remedy = f"{file.name} is no manifest", "Name a file that «manifest --out» wrote"
    head, rows = table_in(file, what, remedy)
    if lacking := [word for word in HEADS[:5] if word not in head]:
        raise BadFile(what, f"it has no column {', '.join(lacking)}", remedy)
    entries: dict[int, Entry] = {}
    for line, row in rows.items():
        cells = {word: row[head.index(word)] for word in HEADS if word in head}
        if not cells["image"].isascii() or not cells["image"].isdigit():
            raise BadFile(what, f"«{cells['image']:.30}» in line {line} is no image's number", remedy)
        number = int(cells["image"])
        if number in entries:
            raise BadFile(what, f"image {number} is in it twice, in line {line} too", remedy)
        entries[number] = Entry(
            number,
            cells["file"],
            cells["pixels"],
            cells["label"],
            cells["set"],
            cells.get("decision", ""),
            cells.get("crop", ""),
        )
    return tuple(entries.values())
