"""The documents as the program shows them: sections of pages, found by words, by name, or by what a link says."""

from __future__ import annotations

import posixpath
import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

CONTENTS = "index.md"
"""The page that lists all others, in groups."""
LISTED = re.compile(r"```\{toctree\}\n:caption: (.+)\n((?:.+\n)+?)```")
HEADING = re.compile(r"^(#{1,3}) (.+)$")
LINK = re.compile(r"(?<!!)\[([^\]]*)\]\(([^)\s]+)\)")


@dataclass(frozen=True)
class Section:
    """A part of a page under one heading.

    Attributes
    ----------
    page, slug : str
        Its page, «how-to/split», and its name in links: «folds».
    group, head : str
        What its page stands under in the contents, and what the page is called.
    title : str
        Its heading.
    level : int
        1 for a page, 2 and 3 for what is in it.
    text : str
        Markdown, with its heading.
    """

    page: str
    slug: str
    group: str
    head: str
    title: str
    level: int
    text: str

    @property
    def address(self) -> str:
        """As links name it from where all pages are."""
        return f"{self.page}.md#{self.slug}"


def folder() -> Path:
    """Where the pages are as they were written: with the program, or in its sources."""
    package = Path(__file__).parents[1]
    installed = package / "documents" / "_sources"
    return installed if installed.is_dir() else package.parents[1] / "docs"


def built(page: str = "") -> Path | None:
    """A page for a browser, the contents if none is named; None where they were not built."""
    for place in (Path(__file__).parents[1] / "documents", folder() / "pages"):
        file = place / f"{page or 'index'}.html"
        if file.exists():
            return file
    return None


@cache
def pages() -> dict[str, str]:
    """All of them in order, and the group of each; none where there are no documents."""
    try:
        text = (folder() / CONTENTS).read_text("utf-8")
    except OSError:
        return {}
    return {page: group for group, listed in LISTED.findall(text) for page in listed.split()}


@cache
def sections() -> tuple[Section, ...]:
    """Those of all pages, in order."""
    return tuple(part for page, group in pages().items() for part in _parted(page, group))


def section(address: str, of: str = "") -> Section | None:
    """That of a link, «how-to/split.md#folds»; None where there is none.

    Parameters
    ----------
    of : str
        The page that holds the link, where it says «../theory/maps.md» or «#folds» from there.
    """
    file, _, slug = address.partition("#")
    page = posixpath.normpath(posixpath.join(posixpath.dirname(of), file)).removesuffix(".md") if file else of
    return next((part for part in sections() if part.page == page and slug in (part.slug, "")), None)


def look_for(words: str) -> tuple[Section, ...]:
    """Sections in which every word stands: those with it in their title first, then those that say it often."""
    wanted = words.lower().split()
    if not wanted:
        return sections()
    ranked = []
    for place, part in enumerate(sections()):
        text, title = part.text.lower(), f"{part.title} {part.head}".lower()
        counts = [text.count(word) for word in wanted]
        if all(counts):
            ranked.append((-sum(word in title for word in wanted), -min(counts), place, part))
    return tuple(part for *_, part in sorted(ranked, key=lambda each: each[:3]))


def whole(page: str) -> str:
    """A page in Markdown, its sections one below the other."""
    return "\n".join(part.text for part in sections() if part.page == page)


def slug_of(title: str) -> str:
    """What a link calls a heading."""
    return re.sub(r"[^\w\- ]", "", title.lower()).strip().replace(" ", "-")


def _parted(page: str, group: str) -> list[Section]:
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
            parts.append((heading[2].replace("`", ""), len(heading[1]), [line]))
        elif parts:
            parts[-1][2].append(line)
    return [
        Section(page, slug_of(title), group, parts[0][0], title, level, "\n".join(own)) for title, level, own in parts
    ]
