"""The documents in a window: pages at the left, found by words; the one that is read at the right."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import (
    QDesktopServices,
    QImage,
    QKeyEvent,
    QTextBlock,
    QTextCursor,
    QTextDocument,
    QTextFormat,
    QTextFragment,
)
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QTextBrowser, QWidget

from attentive_lens.desk.documents import Section, built, folder, look_for, section, sections, whole
from attentive_lens.window import look
from attentive_lens.window.help_topics import topic_of
from attentive_lens.window.parts.basics import button, horizontal, label, vertical

LIST, MARGIN, GAP = 300, 20, 10
"""Pixels."""
NOTHING = "No section holds all of these words."
INDENT = "\u2003"


class Reader(QTextBrowser):
    """A page with its pictures, which are never wider than it."""

    def loadResource(self, kind: int, name: QUrl) -> Any:
        """A picture of the documents, as wide as there is room."""
        shown = self._picture(name.path()) if kind == QTextDocument.ResourceType.ImageResource.value else None
        return super().loadResource(kind, name) if shown is None else shown

    def _picture(self, name: str) -> QImage | None:
        page = self.property("page") or ""
        for file in (folder() / Path(page).parent / name, folder().parent / "_images" / Path(name).name):
            picture = QImage(str(file))
            if not picture.isNull():
                ratio = self.devicePixelRatioF()
                port = self.viewport()
                room = int(((port.width() if port is not None else self.width()) - 3 * MARGIN) * ratio)
                if picture.width() > room:
                    picture = picture.scaledToWidth(room, Qt.TransformationMode.SmoothTransformation)
                picture.setDevicePixelRatio(ratio if picture.width() == room else 1.0)
                return picture
        return None

    def show_page(self, part: Section) -> None:
        """A page, at one of its sections."""
        text = self.document()
        if text is None:
            return
        if self.property("page") != part.page:
            self.setProperty("page", part.page)
            text.setDocumentMargin(MARGIN)
            text.setMarkdown(whole(part.page), QTextDocument.MarkdownFeature.MarkdownDialectGitHub)
            _set(text)
        block = text.begin()
        while block.isValid():
            if block.blockFormat().headingLevel() == part.level and block.text() == part.title:
                break
            block = block.next()
        layout, bar = text.documentLayout(), self.verticalScrollBar()
        if layout is not None and bar is not None:
            at_section = part.level > 1 and block.isValid()
            bar.setValue(int(layout.blockBoundingRect(block).top()) if at_section else 0)


def _set(text: QTextDocument) -> None:
    """Room between paragraphs, listings smaller, links in our colour; Markdown alone says none of it."""
    petrol = look.theme.colour("petrol")
    cursor = QTextCursor(text)
    block = text.begin()
    while block.isValid():
        form, following = block.blockFormat(), block.next()
        is_code = _is_code(block)
        goes_on = is_code and _is_code(following)
        cursor.setPosition(block.position())
        if cursor.currentTable() is None:
            form.setBottomMargin(0 if goes_on else 4 if block.textList() is not None else GAP)
            form.setTopMargin(2 * GAP if form.headingLevel() > 1 else 0)
            form.setNonBreakableLines(False)
            cursor.setBlockFormat(form)
        for part in _parts(block):
            letters = part.charFormat()
            if letters.isAnchor() or is_code:
                if letters.isAnchor():
                    letters.setForeground(petrol)
                if is_code:
                    letters.setProperty(QTextFormat.Property.FontPixelSize, look.SMALL)
                cursor.setPosition(part.position())
                cursor.setPosition(part.position() + part.length(), QTextCursor.MoveMode.KeepAnchor)
                cursor.setCharFormat(letters)
        block = following


def _parts(block: QTextBlock) -> list[QTextFragment]:
    """Stretches of letters that look alike."""
    parts, at = [], block.begin()
    while not at.atEnd():
        parts.append(at.fragment())
        at += 1
    return parts


def _is_code(block: QTextBlock) -> bool:
    """Whether it is a line of a listing."""
    return block.isValid() and block.blockFormat().hasProperty(QTextFormat.Property.BlockCodeLanguage)


class HelpWindow(QWidget):
    """Pages, a field to find sections by words, and the text of one page; links go on, Alt+Left comes back."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("help")
        self.setWindowTitle("Help – Attentive Lens")
        self.resize(1180, 780)
        self.setFont(look.font())
        across = horizontal(self, spacing=16, margins=(16, 16, 16, 16))
        left = vertical(spacing=8)
        self.words = QLineEdit()
        self.words.setObjectName("find help")
        self.words.setAccessibleName("find sections by words")
        self.words.setPlaceholderText("find by words … (Ctrl+F)")
        self.words.setFont(look.font())
        self.words.textChanged.connect(lambda _: self._list())
        left.addWidget(self.words)
        self.list = QListWidget()
        self.list.setObjectName("help sections")
        self.list.setAccessibleName("pages and sections")
        self.list.setFixedWidth(LIST)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setFont(look.font())
        self.list.currentItemChanged.connect(lambda item, _: self._open(item))
        left.addWidget(self.list, 1)
        self.none = label(NOTHING, "faint", name="no help")
        left.addWidget(self.none)
        across.addLayout(left)
        right = vertical(spacing=8)
        self.text = Reader()
        self.text.setObjectName("help text")
        self.text.setAccessibleName("text of the page")
        self.text.setOpenLinks(False)
        self.text.setFont(look.font())
        self.text.anchorClicked.connect(self._follow)
        right.addWidget(self.text, 1)
        row = horizontal(spacing=8)
        self.back = button("Back", "help back", "What was read before (Alt+Left).", self.go_back)
        self.back.setShortcut("Alt+Left")
        self.back.setEnabled(False)
        row.addWidget(self.back)
        row.addStretch()
        self.outside = button("In the browser", "help in browser", "Open this page in the browser.", self._open_outside)
        self.outside.setVisible(built() is not None)
        row.addWidget(self.outside)
        row.addWidget(button("Close", "close help", "Close the documents (Esc).", self.close))
        right.addLayout(row)
        across.addLayout(right, 1)
        self.shown: Section | None = None
        self._before: list[Section] = []
        self._list()

    def show_about(self, widget: QWidget | None) -> None:
        """The page about what somebody looks at."""
        self.show_address(f"{topic_of(widget)}.md")

    def show_address(self, address: str) -> None:
        """A section, by its address; the first one where there is none."""
        wanted = section(address) or next(iter(sections()), None)
        if wanted is not None:
            self._show(wanted)

    def go_back(self) -> None:
        """To what was read before."""
        if self._before:
            before = self._before.pop()
            self.shown = None
            self._show(before)

    def _show(self, wanted: Section) -> None:
        if wanted == self.shown:
            return
        if self.shown is not None:
            self._before.append(self.shown)
        self.shown = wanted
        self.back.setEnabled(bool(self._before))
        self.text.show_page(wanted)
        if not self.words.text():
            self._list()
        self._mark()

    def _list(self) -> None:
        """Sections that hold the words; without words all pages, and what is in the one in view."""
        words, group = self.words.text(), ""
        matching = look_for(words)
        self.list.blockSignals(True)
        self.list.clear()
        for part in matching:
            if not words and part.level > 1 and (self.shown is None or part.page != self.shown.page):
                continue
            if part.group != group and not words:
                head = QListWidgetItem(part.group)
                head.setFlags(Qt.ItemFlag.NoItemFlags)
                head.setFont(look.font(look.SMALL, True))
                self.list.addItem(head)
            group = part.group
            title = INDENT * (part.level - 1) + part.title
            if words and part.level > 1:
                title = f"{part.title} · {part.head}"
            item = QListWidgetItem(title)
            item.setData(Qt.ItemDataRole.UserRole, part.address)
            item.setToolTip(part.title if part.level == 1 else f"{part.head}: {part.title}")
            item.setFont(look.font(look.TEXT))
            self.list.addItem(item)
        self.list.blockSignals(False)
        self.none.setVisible(not matching)
        self._mark()

    def _mark(self) -> None:
        """The row of the section that is read."""
        address = self.shown.address if self.shown is not None else ""
        self.list.blockSignals(True)
        for row in range(self.list.count()):
            item = self.list.item(row)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == address:
                self.list.setCurrentItem(item)
                break
        self.list.blockSignals(False)

    def _open(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self.show_address(str(item.data(Qt.ItemDataRole.UserRole)))

    def _follow(self, link: QUrl) -> None:
        """Another section, or what lies outside in the browser."""
        address = link.toString()
        page = self.shown.page if self.shown is not None else ""
        wanted, beside = section(address, page), folder() / Path(page).parent / link.path()
        if wanted is not None:
            self._show(wanted)
        elif link.scheme() in ("http", "https"):
            QDesktopServices.openUrl(link)
        elif beside.exists():
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(beside.resolve())))

    def _open_outside(self) -> None:
        page = built(self.shown.page if self.shown is not None else "")
        if page is not None:
            url = QUrl.fromLocalFile(str(page))
            url.setFragment(self.shown.slug if self.shown is not None and self.shown.level > 1 else None)
            QDesktopServices.openUrl(url)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Escape closes, Ctrl+F goes to the field."""
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.close()
        elif (
            event is not None
            and event.key() == Qt.Key.Key_F
            and event.modifiers() & Qt.KeyboardModifier.ControlModifier
        ):
            self.words.setFocus()
        else:
            super().keyPressEvent(event)


_window: list[HelpWindow] = []
"""The one there is, once it was wanted."""


def show_help(widget: QWidget | None) -> HelpWindow:
    """Open the documents at what somebody looks at, in the one window for them."""
    if not _window:
        _window.append(HelpWindow())
    _window[0].show_about(widget)
    _window[0].show()
    _window[0].raise_()
    _window[0].activateWindow()
    return _window[0]
