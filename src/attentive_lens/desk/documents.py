"""The documents as the program shows them: sections of pages, found by words, by name, or by what a link says."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

PAGES = {
    "guide": "Guide",
    "settings": "Settings of a plan",
    "python": "From Python",
    "extending": "Bringing your own parts",
    "model-file": "Reading a model file",
    "promises": "What may be relied on",
}
"""Files of docs/ and what they are called, in order."""
HEADING = re.compile(r"^(#{1,3}) (.+)$")
PICTURE = re.compile(r"!\[([^\]]*)\]\([^)]*\)\n?")
LINK = re.compile(r"\[([^\]]*)\]\(([^)\s]+)\)")


@dataclass(frozen=True)
class Section:
    """A part of a page under one heading.

    Attributes
    ----------
    page, slug : str
        Of `PAGES`, and its name in links: «the-split».
    title : str
        Its heading.
    level : int
        1 for a page, 2 and 3 for what is in it.
    text : str
        Markdown, with its heading.
    """

    page: str
    slug: str
    title: str
    level: int
    text: str

    @property
    def address(self) -> str:
        """As links name it."""
        return f"{self.page}.md#{self.slug}"


def folder() -> Path:
    """Where the documents are: with the program, or in its sources."""
    package = Path(__file__).parents[1]
    installed = package / "documents"
    return installed if installed.is_dir() else package.parents[1] / "docs"


@cache
def sections() -> tuple[Section, ...]:
    """All of them, in order; none of a page that is not there."""
    return tuple(part for page in PAGES for part in _parted(page))


def section(address: str) -> Section | None:
    """That of a link, «guide.md#the-split», «#the-split» or «guide.md»; None where there is none."""
    file, _, slug = address.partition("#")
    page = file.removesuffix(".md") or "guide"
    return next((part for part in sections() if part.page == page and slug in (part.slug, "")), None)


def look_for(words: str) -> tuple[Section, ...]:
    """Sections in which every word stands: those with it in their title first, then those that say it often."""
    wanted = words.lower().split()
    if not wanted:
        return sections()
    ranked = []
    for place, part in enumerate(sections()):
        text, title = part.text.lower(), part.title.lower()
        counts = [text.count(word) for word in wanted]
        if all(counts):
            ranked.append((-sum(word in title for word in wanted), -min(counts), place, part))
    return tuple(part for *_, part in sorted(ranked, key=lambda each: each[:3]))


def slug_of(title: str) -> str:
    """What a link calls a heading."""
    return re.sub(r"[^\w\- ]", "", title.lower()).strip().replace(" ", "-")


def _parted(page: str) -> list[Section]:
    try:
        lines = (folder() / f"{page}.md").read_text("utf-8").splitlines()
    except OSError:
        return []
    parts: list[tuple[str, int, list[str]]] = []
    in_code = False
    for line in lines:
        in_code ^= line.startswith("```")
        heading = None if in_code else HEADING.match(line)
        if heading:
            parts.append((PAGES[page] if heading[1] == "#" else heading[2], len(heading[1]), [line]))
        elif parts:
            parts[-1][2].append(line)
    return [
        Section(page, slug_of(title), title.replace("`", ""), level, PICTURE.sub("", "\n".join(own)))
        for title, level, own in parts
        if level > 1 or any(line.strip() for line in own[1:])
    ]
