"""Where images come from. Each kind of source is one file and one line here."""

from __future__ import annotations

from pathlib import Path

from attentive_lens.errors import BadFile
from attentive_lens.images.sources.base import Found, Skipped, Source
from attentive_lens.images.sources.folders import Folders

SOURCES: dict[str, type[Source]] = {"folders": Folders}


def open_source(place: Path) -> Source:
    """The source that recognises this file or folder.

    Raises
    ------
    BadFile
        If there is nothing there, or no kind of source knows it.
    """
    if not place.exists():
        raise BadFile(f"{place} could not be opened", "there is no such file or folder", "Check the path")
    for kind in SOURCES.values():
        if kind.recognises(place):
            return kind(place)
    raise BadFile(
        f"{place} could not be opened",
        "it is not a folder of images",
        "Name a folder that holds one folder per class",
    )


__all__ = ["SOURCES", "Found", "Skipped", "Source", "open_source"]
