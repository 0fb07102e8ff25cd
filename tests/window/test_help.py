"""F1 opens the documents at what is in view; they are found by words, and every link in them leads somewhere."""

from __future__ import annotations

import ast
import re
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QDesktopServices, QImage, QShortcut
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from tests.driving import click, enter, stage

from attentive_lens.desk import documents
from attentive_lens.desk.documents import LINK, folder, look_for, pages, section, sections, slug_of
from attentive_lens.window import help as help_module
from attentive_lens.window import look
from attentive_lens.window.frame import Frame
from attentive_lens.window.help import HelpWindow, show_help
from attentive_lens.window.help_topics import TOPICS, topic_of
from attentive_lens.window.images.sets import SetsView
from attentive_lens.window.pages import STAGES
from attentive_lens.workspace import Workspace


@pytest.fixture
def help_window(qtbot: QtBot) -> Iterator[HelpWindow]:
    window = HelpWindow()
    qtbot.addWidget(window)
    window.show()
    yield window


def test_every_panel_of_the_table_is_one_and_every_section_is_there() -> None:
    files = Path(help_module.__file__).parent.rglob("*.py")
    nodes = [node for file in files for node in ast.parse(file.read_text("utf-8")).body]
    names = {node.name for node in nodes if isinstance(node, ast.ClassDef)}
    assert set(TOPICS) <= names
    assert {kind for kind in names if kind.endswith("Page") and f"{kind[:-4].lower()}" in STAGES} <= set(TOPICS)
    assert set(TOPICS.values()) <= set(pages())


def test_every_link_between_documents_leads_somewhere() -> None:
    assert len(sections()) > 150 and {part.page for part in sections()} == set(pages())
    addresses = [part.address for part in sections()]
    assert len(addresses) == len(set(addresses)), "no two sections of a page have one name"
    lost = []
    for part in sections():
        for _, target in LINK.findall(re.sub(r"```.*?```|`[^`]*`", "", part.text, flags=re.DOTALL)):
            beside = (folder() / part.page).parent / target
            if not target.startswith("https://") and section(target, part.page) is None and not beside.is_file():
                lost.append(f"{part.address}: {target}")
    assert lost == []


def test_sections_are_parted_named_and_ranked() -> None:
    assert slug_of("Are today's images like those?") == "are-todays-images-like-those"
    split = section("how-to/split.md#what-a-figure-stands-on")
    assert split is not None and split.text.startswith("## What a figure") and "\n## " not in split.text[3:]
    assert (split.head, split.level, split.group) == ("Split images into sets", 2, "How to · images")
    assert section("../theory/trust.md", of="how-to/split") == section("theory/trust.md")
    assert section("#what-a-figure-stands-on", of="how-to/split") == split
    assert section("#nowhere", of="how-to/split") is None and section("nowhere.md") is None
    assert look_for("") == sections()
    assert look_for("split images")[0].page == "how-to/split", "a title counts first"
    for part in look_for("least squares hinge"):
        assert all(word in part.text.lower() for word in ("least", "squares", "hinge"))
    assert look_for("xyzzy") == ()


def test_words_find_links_go_on_and_back_comes_back(
    qtbot: QtBot, help_window: HelpWindow, monkeypatch: pytest.MonkeyPatch
) -> None:
    opened: list[str] = []
    monkeypatch.setattr(QDesktopServices, "openUrl", lambda url: opened.append(url.toString()))
    help_window.show_address("how-to/split.md#what-a-figure-stands-on")
    assert "validation" in help_window.text.toPlainText(), "the whole page"
    assert help_window.list.currentItem() is not None and not help_window.back.isEnabled()
    help_window.text.anchorClicked.emit(QUrl("columns.md"))
    assert help_window.shown is not None and help_window.shown.page == "how-to/columns"
    help_window.text.anchorClicked.emit(QUrl("https://pollen.example"))
    assert opened == ["https://pollen.example"] and help_window.shown.page == "how-to/columns"
    click(qtbot, help_window, "help back")
    assert help_window.shown.slug == "what-a-figure-stands-on"
    help_window.show_address("theory/maps.md#occlusion")
    bar = help_window.text.verticalScrollBar()
    assert bar is not None and bar.value() > 1000, "at its section"
    help_window.show_address("theory/maps.md")
    assert bar.value() == 0
    html = help_window.text.toHtml()
    (link,) = re.findall(r'<a href="trust.md"><span style="([^"]*)"', html)
    assert look.theme.petrol.lower() in link, "links have a colour that can be read on our ground"
    help_window.show_address("reference/output.md")
    help_window.text.anchorClicked.emit(QUrl("json-schema.json"))
    assert opened[1].endswith("docs/reference/json-schema.json"), "what is no page goes to the desktop"
    enter(help_window, "find help", "occlusion")
    assert 0 < help_window.list.count() < len(sections())
    help_window.list.setCurrentRow(0)
    assert "cclusion" in help_window.text.toPlainText()
    enter(help_window, "find help", "xyzzy")
    assert help_window.none.isVisible()
    qtbot.keyClick(help_window, Qt.Key.Key_Escape)
    assert not help_window.isVisible()


def test_f1_is_about_what_is_in_view(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(help_module, "_window", [])
    frame = open_frame(station)
    (f1,) = [each for each in frame.findChildren(QShortcut) if each.key().toString() == "F1"]
    about = {}
    for key in STAGES:
        stage(qtbot, frame, key)
        QApplication.processEvents()
        about[key] = topic_of(frame.page(key))
    assert len(set(about.values())) == len(STAGES), about
    stage(qtbot, frame, "images")
    frame.page("images").show_view("sets")
    QApplication.processEvents()
    assert topic_of(frame.page("images")) == "how-to/split", "of a page, what fills it"
    assert topic_of(frame.findChild(SetsView)) == "how-to/split"
    f1.activated.emit()
    (window,) = help_module._window
    assert window.isVisible() and window.shown is not None
    assert show_help(frame) is window
    window.close()


def test_without_documents_nothing_breaks(qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(documents, "folder", lambda: tmp_path)
    documents.pages.cache_clear()
    documents.sections.cache_clear()
    try:
        window = HelpWindow()
        qtbot.addWidget(window)
        window.show_about(None)
        assert window.shown is None and window.list.count() == 0
        assert documents.built() is None and not window.outside.isVisibleTo(window)
        (tmp_path / "pages/theory").mkdir(parents=True)
        (tmp_path / "pages/theory/maps.html").touch()
        assert documents.built("theory/maps") == tmp_path / "pages/theory/maps.html" and documents.built() is None
    finally:
        documents.pages.cache_clear()
        documents.sections.cache_clear()


def test_pages_show_their_pictures_no_wider_than_themselves(help_window: HelpWindow) -> None:
    help_window.show_address("how-to/network.md")
    picture = help_window.text.loadResource(2, QUrl("../screenshots/network.png"))
    assert (
        isinstance(picture, QImage) and 400 < picture.width() / picture.devicePixelRatio() <= help_window.text.width()
    )
    small = help_window.text.loadResource(2, QUrl("../theory/maps/gradient.png"))
    assert isinstance(small, QImage) and small.width() == 536


def test_built_pages_open_in_the_browser(qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    opened: list[QUrl] = []
    monkeypatch.setattr(QDesktopServices, "openUrl", opened.append)
    monkeypatch.setattr(help_module, "built", lambda page="": tmp_path / f"{page}.html")
    window = HelpWindow()
    qtbot.addWidget(window)
    window.show()
    window.show_address("theory/maps.md#occlusion")
    click(qtbot, window, "help in browser")
    assert opened == [QUrl(f"file://{tmp_path}/theory/maps.html#occlusion")]
    monkeypatch.setattr(help_module, "built", lambda page="": None)
    without = HelpWindow()
    qtbot.addWidget(without)
    without.show()
    assert not without.outside.isVisible()
