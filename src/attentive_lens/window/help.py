"""The documents in a window: sections at the left, found by words; the one that is read at the right."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QDesktopServices, QKeyEvent, QPalette, QTextDocument
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QTextBrowser, QWidget

from attentive_lens.desk.documents import PAGES, Section, look_for, section, sections
from attentive_lens.window import look
from attentive_lens.window.help_topics import topic_of
from attentive_lens.window.parts.basics import button, horizontal, label, vertical

LIST, MARGIN = 300, 20
"""Pixels."""
NOTHING = "No section holds all of these words."
INDENT = "\u2003"


class HelpWindow(QWidget):
    """Sections, a field to find some by words, and the text of one; links go on, Alt+Left comes back."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("help")
        self.setWindowTitle("Help – Attentive Lens")
        self.resize(1040, 760)
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
        self.list.setAccessibleName("sections")
        self.list.setFixedWidth(LIST)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setFont(look.font())
        self.list.currentItemChanged.connect(lambda item, _: self._open(item))
        left.addWidget(self.list, 1)
        self.none = label(NOTHING, "faint", name="no help")
        left.addWidget(self.none)
        across.addLayout(left)
        right = vertical(spacing=8)
        self.text = QTextBrowser()
        self.text.setObjectName("help text")
        self.text.setAccessibleName("text of the section")
        self.text.setOpenLinks(False)
        self.text.setFont(look.font())
        self.text.anchorClicked.connect(self._follow)
        right.addWidget(self.text, 1)
        row = horizontal(spacing=8)
        self.back = button("Back", "help back", "The section read before (Alt+Left).", self.go_back)
        self.back.setShortcut("Alt+Left")
        row.addWidget(self.back)
        row.addStretch()
        row.addWidget(button("Close", "close help", "Close the documents (Esc).", self.close))
        right.addLayout(row)
        across.addLayout(right, 1)
        self.shown: Section | None = None
        self._before: list[Section] = []
        self._list()

    def show_about(self, widget: QWidget | None) -> None:
        """The section about what somebody looks at."""
        self.show_address(f"guide.md#{topic_of(widget)}")

    def show_address(self, address: str) -> None:
        """A section, as links name it; the first one where there is none."""
        wanted = section(address) or next(iter(sections()), None)
        if wanted is not None:
            self._show(wanted)

    def go_back(self) -> None:
        """To the section read before."""
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
        text = self.text.document()
        if text is not None:
            text.setDocumentMargin(MARGIN)
            colours = self.text.palette()
            colours.setColor(QPalette.ColorRole.Link, look.theme.colour("petrol"))
            self.text.setPalette(colours)
            text.setMarkdown(wanted.text, QTextDocument.MarkdownFeature.MarkdownDialectGitHub)
        self._mark()

    def _list(self) -> None:
        """Those that hold the words, or all."""
        matching = look_for(self.words.text())
        page = ""
        self.list.blockSignals(True)
        self.list.clear()
        for part in matching:
            if part.page != page and part.level > 1 and not self.words.text():
                head = QListWidgetItem(PAGES[part.page])
                head.setFlags(Qt.ItemFlag.NoItemFlags)
                head.setFont(look.font(look.TEXT, True))
                self.list.addItem(head)
            page = part.page
            title = part.title if part.level == 1 or self.words.text() else INDENT * (part.level - 1) + part.title
            item = QListWidgetItem(title)
            item.setData(Qt.ItemDataRole.UserRole, part.address)
            item.setToolTip(f"{PAGES[part.page]}: {part.title}")
            item.setFont(look.font(look.TEXT, part.level == 1))
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
        if not link.scheme():
            page = self.shown.page if self.shown is not None else "guide"
            self.show_address(f"{page}.md{address}" if address.startswith("#") else address)
        elif link.scheme() in ("http", "https"):
            QDesktopServices.openUrl(link)

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
