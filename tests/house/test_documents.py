"""The pages of docs/: built without a warning, every link followed; commands on them are the program's."""

from __future__ import annotations

import json
import re
import shutil
import sys
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest
import typer.main

from attentive_lens.cli.entry import with_commands
from attentive_lens.desk import documents

ROOT = Path(__file__).parents[2]
DOCS = ROOT / "docs"
sys.path.insert(0, str(ROOT / "scripts"))

import documents as building  # type: ignore[import-not-found]  # noqa: E402

WRITTEN = sorted(file for file in DOCS.rglob("*.md") if "pages" not in file.relative_to(DOCS).parts)
MADE = {"reference/settings", "reference/commands", "reference/python"}
"""Pages that the program makes of itself."""
LONG = {"developing/developing", "developing/extending", "reference/model-file", "reference/promises"} | MADE
TOPICS, LINES = 14, 130
"""Of a page: headings, and lines."""
SAID = re.compile(r"^ {4,}(?:\S+ )*?attentive-lens (.+)$|`attentive-lens\s+([^`]+)`", re.MULTILINE)


@pytest.fixture(scope="module")
def pages(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("documents") / "pages"
    assert building.build(folder) == 0
    return folder


class Links(HTMLParser):
    """What a page leads to, and what in it can be led to."""

    def __init__(self, file: Path) -> None:
        super().__init__()
        self.to: list[str] = []
        self.names: set[str] = set()
        self.feed(file.read_text("utf-8"))

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        named = dict(attrs)
        self.names.add(named.get("id") or "")
        if tag == "link" and named.get("rel") in ("search", "prev", "next", "index"):
            return
        self.to += [value for key, value in attrs if key in ("href", "src") and value]


def test_every_link_of_every_page_leads_somewhere(pages: Path) -> None:
    parsed = {file: Links(file) for file in pages.rglob("*.html") if "_static" not in file.parts}
    assert len(parsed) > 45
    lost, outside, followed = [], set(), 0
    for file, links in parsed.items():
        for link in links.to:
            if ":" in link.split("/")[0]:
                outside.add(link)
                continue
            target, _, name = link.partition("#")
            there = (file.parent / target.partition("?")[0]).resolve() if target else file
            followed += 1
            if not there.exists() or (name and there in parsed and name not in parsed[there].names):
                lost.append(f"{file.relative_to(pages)}: {link}")
    assert lost == [] and followed > 3000
    assert all(link.startswith(("https://", "data:")) for link in outside), outside
    assert not [link for link in outside if re.search(r"\.(js|css|woff2?|png|svg)$", link)], "read without a network"


def test_pages_can_be_searched_from_disk(pages: Path) -> None:
    index = (pages / "searchindex.js").read_text("utf-8")
    found_in = json.loads(index.removeprefix("Search.setIndex(").rstrip().removesuffix(")"))
    names = [found_in["docnames"][place] for place in _many(found_in["titleterms"]["occlus"])]
    assert "theory/maps" in names
    assert (pages / "_sources/how-to/split.md").read_text("utf-8") == (DOCS / "how-to/split.md").read_text("utf-8")


def _many(places: int | list[int]) -> list[int]:
    return places if isinstance(places, list) else [places]


def test_what_is_wrong_with_a_page_is_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    shutil.copytree(DOCS, tmp_path / "docs", ignore=shutil.ignore_patterns("pages"))
    icons = "src/attentive_lens/desktop/icons"
    shutil.copytree(ROOT / icons, tmp_path / icons)
    for page, old, new in (
        ("how-to/split.md", "(columns.md", "(rows.md"),
        ("theory/maps.md", "(maps/gradient.png)", "(maps/slope.png)"),
        ("index.md", "theory/trust\n", ""),
    ):
        file = tmp_path / "docs" / page
        text = file.read_text("utf-8")
        assert old in text
        file.write_text(text.replace(old, new, 1), "utf-8")
    monkeypatch.setattr(building, "ROOT", tmp_path)
    assert building.build(tmp_path / "pages") != 0
    said = capfd.readouterr().err
    assert all(word in said for word in ("rows.md", "slope.png", "trust.md")), said


def test_no_page_has_more_than_a_screenful_of_topics() -> None:
    listed = documents.pages()
    names = [file.relative_to(DOCS).with_suffix("").as_posix() for file in WRITTEN]
    assert sorted([*listed, "index"]) == sorted(names), "every page is in the contents"
    for name in set(listed) - LONG:
        lines = (DOCS / f"{name}.md").read_text("utf-8").splitlines()
        assert sum(line.startswith("#") for line in lines) <= TOPICS and len(lines) <= LINES, name


def test_every_link_of_the_first_page_of_the_sources_leads_somewhere() -> None:
    for _, target in documents.LINK.findall((ROOT / "README.md").read_text("utf-8")):
        address, _, name = target.partition("#")
        assert (ROOT / address).exists(), target
        assert not name or documents.section(target.removeprefix("docs/")) is not None, target


def test_commands_on_pages_are_commands_with_options_they_have() -> None:
    group: Any = typer.main.get_command(with_commands())
    wrong, seen = [], set()
    for file in [*WRITTEN, ROOT / "README.md"]:
        for match in SAID.finditer(file.read_text("utf-8")):
            line = match[1] or match[2]
            command, words = group, line.split()
            while words and hasattr(command, "commands") and words[0] in command.commands:
                command = command.commands[words.pop(0)]
            if command is group:
                if not re.match(r"[A-Z…]|--(help|version)|\S+\.alens|\w+-\w+$", line):
                    wrong.append(f"{file.name}: {line}")
                continue
            if file.stem != "commands":
                seen.add(line.split()[0])
            options = {name for each in command.params for name in (*each.opts, *each.secondary_opts)}
            used = set(re.findall(r"(?<![\w«-])--[a-z][a-z-]*", line)) - {"--help"}
            if not used <= options:
                wrong.append(f"{file.name}: {sorted(used - options)} in «{line}»")
    assert wrong == []
    assert seen == set(group.commands), "every command is shown somewhere"
