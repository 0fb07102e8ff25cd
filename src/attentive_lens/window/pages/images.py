"""Images, the stage that answers: what am I teaching from."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QProcess, Qt
from PyQt6.QtWidgets import (
    QApplication,
    QPushButton,
    QStackedLayout,
    QStackedWidget,
    QWidget,
)

from attentive_lens.core.records import PlainTable
from attentive_lens.window.images.averages import AveragesView
from attentive_lens.window.images.beside import Beside
from attentive_lens.window.images.browser import Browser
from attentive_lens.window.images.sets import SetsView
from attentive_lens.window.images.sizes import SizesView
from attentive_lens.window.images.viewer import Viewer
from attentive_lens.window.pages.base import Page
from attentive_lens.window.parts.augmentation_editor import AugmentationEditor
from attentive_lens.window.parts.basics import button, horizontal, vertical, view_button
from attentive_lens.window.running import run_command
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

VIEWS = {
    "pictures": ("Pictures", "The images by class and set."),
    "table": ("Table", "The images as rows, with their figures."),
    "averages": ("Averages", "Mean and deviation of each class, pixel by pixel."),
    "sets": ("Sets", "How images are split into training, validation and test."),
    "sizes": ("Preprocessing", "What is done to every image before the network sees it."),
    "augmentation": ("Augmentation", "What is done to training images alone; design it by eye."),
}


class ImagesPage(Page):
    """Browsing, deciding, parting, preparing and changing, each a view of its own."""

    key = "images"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.layers = QStackedLayout(self)
        self.layers.setContentsMargins(0, 0, 0, 0)
        body = QWidget()
        self.layers.addWidget(body)
        self.viewer = Viewer(session)
        self.viewer.left.connect(self._leave_viewer)
        self.viewer.moved.connect(self._view_neighbour)
        self.layers.addWidget(self.viewer)
        down = vertical(body, spacing=10, margins=(24, 12, 16, 14))
        head = horizontal(spacing=4)
        self.tabs: dict[str, QPushButton] = {}
        for name, (words, tip) in VIEWS.items():
            tab = view_button(words, f"view {name}", tip, partial(self.show_view, name))
            self.tabs[name] = tab
            head.addWidget(tab)
        head.addStretch()
        head.addWidget(
            button(
                "Rescan source",
                "rescan",
                "Look through the source again for new, changed or lost files; with Shift every image is compared.",
                self._rescan,
            )
        )
        self.beside = Beside(session)
        head.addWidget(self.beside)
        down.addLayout(head)
        self.views = QStackedWidget()
        down.addWidget(self.views, 1)
        self.browser = Browser(session)
        self.browser.opened.connect(self.open_full)
        self.views.addWidget(self.browser)
        self.averages: AveragesView | None = None
        self.sets: SetsView | None = None
        self.sizes: SizesView | None = None
        self.editor: AugmentationEditor | None = None
        self._process: QProcess | None = None
        self._view = "pictures"
        self.show_view("pictures")
        session.images_changed.connect(self.action_changed)

    def bookmark(self) -> PlainTable:
        """The view, and the image at hand."""
        return {"view": self._view, "place": self.browser.sheet.current}

    def come_back(self, bookmark: PlainTable) -> None:
        """See `Page`."""
        self.show_view(str(bookmark["view"]))
        if isinstance(bookmark["place"], int):
            self.browser.sheet.select(bookmark["place"])

    def state(self) -> str:
        """Images and classes."""
        collection = self.session.images.collection
        return f"{thousands(sum(collection.totals))} · {collection.kinds_in_words.split()[0]}"

    def action(self) -> tuple[str, bool]:
        """On to the network."""
        return "Choose a network", True

    def act(self) -> None:
        """On to the network."""
        self.session.stage_asked.emit("network")

    def show_view(self, name: str) -> None:
        """Show one of `VIEWS`; all but the first are made when they are first wanted."""
        if name != self._view:
            self.leaving.emit()
        self._view = name
        for tab_name, tab in self.tabs.items():
            tab.setChecked(tab_name == name)
        self.layers.setCurrentIndex(0)
        if name in ("pictures", "table"):
            self.views.setCurrentWidget(self.browser)
            self.browser.show_table(name == "table")
        elif name == "averages":
            if self.averages is None:
                self.averages = AveragesView(self.session)
                self.views.addWidget(self.averages)
            self.views.setCurrentWidget(self.averages)
            self.averages.refresh()
        elif name == "sets":
            if self.sets is None:
                self.sets = SetsView(self.session)
                self.views.addWidget(self.sets)
            self.views.setCurrentWidget(self.sets)
        elif name == "sizes":
            if self.sizes is None:
                self.sizes = SizesView(self.session)
                self.views.addWidget(self.sizes)
            self.views.setCurrentWidget(self.sizes)
            self.sizes.refresh()
        else:
            if self.editor is None:
                self.editor = AugmentationEditor(self.session)
                self.views.addWidget(self.editor)
            self.views.setCurrentWidget(self.editor)
            self.editor.refresh()

    def open_full(self, place: int) -> None:
        """Show an image in full size."""
        self.layers.setCurrentWidget(self.viewer)
        self.viewer.open_image(place)

    def _leave_viewer(self) -> None:
        self.layers.setCurrentIndex(0)
        self.browser.sheet.setFocus()

    def _view_neighbour(self, step: int) -> None:
        place = self.browser.neighbour(step)
        if place is not None:
            self.viewer.open_image(place)

    def _rescan(self) -> None:
        if self._process is None:
            self.session.message.emit("Looking through the source again …", False)
            shift = QApplication.keyboardModifiers() & Qt.KeyboardModifier.ShiftModifier
            words = ["rescan", str(self.session.workspace.folder), *(["--contents"] if shift else [])]
            self._process = run_command(self, words, self._rescanned)

    def _rescanned(self, code: int, message: str) -> None:
        self._process = None
        self.session.message.emit(message or "The source was looked through.", code != 0)
        if code == 0:
            self.session.images.reread()
            self.session.images.want_pixels()
