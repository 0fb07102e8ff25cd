"""Image files in one folder whose names carry the class: «spiny_012.png»."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from attentive_lens.errors import BadFile
from attentive_lens.images.decoding import suffixes
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources.base import Found, Skipped, Source, class_name, listed

ALL = "(all)"
"""In place of a pattern: all are of one class."""
PATTERNS = (
    r"^(.*?)[\W_]*\d+$",
    r"^([^\W\d_]+)",
    r"^([^\W_]+)[\W_]",
    r"[\W_]([^\W_]+)$",
    r"^[^\W_]+[\W_]+([^\W_]+)",
    r"([^\W\d_]+)$",
)
"""Tried in this order on names without their ending: all before the last number, the letters or the word a name begins
with, its last word, its second one, the letters it ends with."""
FEWEST, MOST = 2, 1000
"""Images that a class should have on average, and classes at most, for a pattern to be proposed."""
COVERED = 0.9
"""Part of the names that a pattern must fit to be proposed."""


class Flat(Source):
    """A folder of image files without folders in it; a pattern says which part of a name is the class.

    The pattern is a regular expression for the name without its ending; its first bracket, or all that it matches, is
    the class. Files it does not fit are reported. Where no pattern parts the names, all are of one class, which has the
    folder's name.
    """

    title = "image files whose names carry the class"

    @classmethod
    def recognises(cls, place: Path) -> bool:
        """A folder with several image files and no folder in it."""
        if not place.is_dir():
            return False
        try:
            inside = listed(place)
        except BadFile:
            return False
        files = [each for each in inside if each.suffix.lower() in suffixes() and each.is_file()]
        return len(files) > 1 and not any(each.is_dir() for each in inside)

    @classmethod
    def readings(cls, place: Path, wish: Reading) -> list[Reading]:
        """The pattern asked for, or each that parts the names in another way than those before it."""
        stems = [each.stem for each in listed(place) if each.suffix.lower() in suffixes()]
        if wish.labels:
            _compiled(wish.labels, place)
            return [wish]
        result: dict[tuple[str | None, ...], str] = {}
        for pattern in PATTERNS:
            words = tuple(_class_in(stem, re.compile(pattern)) for stem in stems)
            counts = Counter(word for word in words if word)
            enough = 2 <= len(counts) <= min(MOST, len(stems) // FEWEST)
            if enough and counts.total() >= COVERED * len(stems) and _many(counts):
                result.setdefault(words, pattern)
        return [replace(wish, labels=pattern) for pattern in result.values() or [ALL]]

    def find(self) -> Iterator[Found | Skipped]:
        """Images in the order of their names."""
        if self.reading.labels == ALL:
            for file in listed(self.place):
                is_image = file.suffix.lower() in suffixes()
                name = class_name(self.place.absolute().name)
                if is_image:
                    yield from self.each_page(Found(file, name, None))
                else:
                    yield Skipped(file, "its name does not end like an image's")
            return
        pattern = _compiled(self.reading.labels, self.place)
        for file in listed(self.place):
            if file.suffix.lower() not in suffixes():
                yield Skipped(file, "its name does not end like an image's")
            elif word := _class_in(file.stem, pattern):
                yield from self.each_page(Found(file, class_name(word), None))
            else:
                yield Skipped(file, f"its name does not fit the pattern {self.reading.labels}")


def _class_in(stem: str, pattern: re.Pattern[str]) -> str | None:
    match = pattern.search(stem)
    if match is None:
        return None
    return (match.group(1) if pattern.groups else match.group(0)) or None


def _many(counts: Counter[str]) -> bool:
    """Whether most names are of classes that have others: numbers of images make poor classes."""
    return sum(count for count in counts.values() if count >= FEWEST) >= COVERED * counts.total()


def _compiled(pattern: str, place: Path) -> re.Pattern[str]:
    try:
        return re.compile(pattern)
    except re.error as error:
        why = f"«{pattern}» is no regular expression ({error})"
        raise BadFile(f"{place} could not be read", why, "Mend the pattern: labels=^([a-z]+)") from None
