"""Where images come from. Each kind of source is one file and one line here."""

from __future__ import annotations

from pathlib import Path

from attentive_lens.core.extensions import take_kinds
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources.base import Found, Reference, Skipped, Source
from attentive_lens.images.sources.flat import Flat
from attentive_lens.images.sources.folders import Folders
from attentive_lens.images.sources.idx import IdxFiles
from attentive_lens.images.sources.listing import Listing
from attentive_lens.images.sources.mat import MatFile
from attentive_lens.images.sources.npz import Arrays
from attentive_lens.images.sources.table import PixelTable

SOURCES: dict[str, type[Source]] = {
    "listing": Listing,
    "pixel table": PixelTable,
    "arrays": Arrays,
    "MAT": MatFile,
    "IDX": IdxFiles,
    "named files": Flat,
    "folders": Folders,
}
"""In the order in which they are asked whether they know a place; the least particular last."""
take_kinds(SOURCES, "images.sources", Source)
for _last in ("named files", "folders"):
    SOURCES[_last] = SOURCES.pop(_last)


def kind_of(place: Path) -> str:
    """The kind of source that recognises a file or folder.

    Raises
    ------
    BadFile
        If there is nothing there, or no kind of source knows it.
    """
    if not place.exists():
        raise BadFile(f"{place} could not be opened", "there is no such file or folder", "Check the path")
    for kind, source in SOURCES.items():
        if source.recognises(place):
            return kind
    raise BadFile(
        f"{place} could not be opened",
        f"it is none of these: {'; '.join(source.title for source in SOURCES.values())}",
        "Name a folder that holds one folder per class, a table, or a file of arrays",
    )


def readings_of(place: Path, wish: Reading | None = None) -> list[Reading]:
    """Every way a place can be read that agrees with what is asked, the likeliest first; `BadFile` if none."""
    wish = wish or Reading()
    source = SOURCES[kind_of(place)]
    ways = [r for r in source.readings(place, wish) if r.agrees(wish)]
    if not ways:
        raise BadFile(f"{place} could not be read", f"nothing in it fits «{wish.summary}»", "Ask for less")
    return [source(place, way).completed() for way in ways]


def open_source(place: Path, wish: Reading | None = None) -> Source:
    """The source that recognises this file or folder.

    Raises
    ------
    BadFile
        If there is nothing there, or no kind of source knows it.
    BadValue
        If it can be read in more than one way; the remedy lists them.
    """
    possible = readings_of(place, wish)
    if len(possible) > 1:
        differing = [n for n in Reading.specs() if len({getattr(r, n) for r in possible}) > 1]
        ways = " or ".join(" ".join(f"--read {n}={getattr(r, n)!s}" for n in differing) for r in possible)
        raise BadValue(
            f"{place} can be read in {len(possible)} ways",
            "the file does not say how its numbers are laid out",
            f"Say which: {ways}",
        )
    return SOURCES[kind_of(place)](place, possible[0])


__all__ = ["SOURCES", "Found", "Reference", "Skipped", "Source", "kind_of", "open_source", "readings_of"]
