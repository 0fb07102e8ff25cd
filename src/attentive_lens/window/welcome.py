"""The first page: open a workspace, make one from images, see the demo, or go on where one stopped."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QProcess, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import QFileDialog, QGridLayout, QScrollArea, QVBoxLayout, QWidget

from attentive_lens.desk.cards import read_card
from attentive_lens.desk.remembering import recent_sources, recent_workspaces
from attentive_lens.errors import LensError
from attentive_lens.plan.base import MODEL_SUFFIXES
from attentive_lens.window import look
from attentive_lens.window.dropping import dropped_place
from attentive_lens.window.fault_offer import FaultOffer
from attentive_lens.window.help import show_help
from attentive_lens.window.importing import ImportWindow
from attentive_lens.window.parts.basics import button, horizontal, label, set_role, vertical
from attentive_lens.window.parts.loop import Loop
from attentive_lens.window.parts.workspace_card import WIDTH, WorkspaceCard
from attentive_lens.window.running import run_command
from attentive_lens.window.workspace_menu import MODELS, TABLES, ask_file, ask_folder
from attentive_lens.workspace import is_workspace

MOST_CARDS, COLUMNS, MOST_SOURCES = 6, 3, 4
DOORS = 960
"""Width of the row of buttons, in pixels."""
CENTRE = Qt.AlignmentFlag.AlignCenter


class Welcome(QWidget):
    """The loop in one picture, doors, and the workspaces opened lately; what is dropped on it is opened."""

    def __init__(self, open_folder: Callable[[Path], QWidget]) -> None:
        super().__init__()
        self._open_folder = open_folder
        self.setObjectName("welcome")
        self.setWindowTitle("Attentive Lens")
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        whole.addWidget(scroll)
        whole.addWidget(FaultOffer())
        page = QWidget()
        scroll.setWidget(page)
        layout = vertical(page, spacing=12, margins=(24, 24, 24, 24))
        layout.addStretch(1)
        layout.addWidget(label("Attentive Lens", size=look.TITLE, strong=True), 0, CENTRE)
        text = label("Train a network on images, find its mistakes, and see why it made them.", "faint")
        layout.addWidget(text, 0, CENTRE)
        layout.addSpacing(8)
        layout.addWidget(Loop(), 0, CENTRE)
        layout.addSpacing(8)
        layout.addWidget(self._make_doors(), 0, CENTRE)
        self.message = label(name="welcome message")
        self.message.setWordWrap(True)
        self.message.setFixedWidth(640)
        self.message.setAlignment(CENTRE)
        layout.addWidget(self.message, 0, CENTRE)
        self._cards = QGridLayout()
        self._cards.setSpacing(16)
        self._cards.setAlignment(CENTRE)
        layout.addLayout(self._cards)
        self._add_sources(layout)
        layout.addStretch(2)
        QShortcut(QKeySequence("F1"), self).activated.connect(lambda: show_help(self))
        self._process: QProcess | None = None
        self.frame: QWidget | None = None
        self.importing: ImportWindow | None = None
        self._unread = recent_workspaces()[:MOST_CARDS]
        self._reader = QTimer(self)
        self._reader.setSingleShot(True)
        self._reader.timeout.connect(self._read_next)
        self._reader.start(0)

    def _make_doors(self) -> QWidget:
        doors = QWidget()
        doors.setFixedWidth(DOORS)
        row = horizontal(doors, spacing=12)
        self.open = button("Open a workspace", "open workspace", "Choose a workspace's folder.", self._open)
        self.new = button(
            "Start from a folder", "new workspace", "One folder per class, or images with a table.", self._folder
        )
        self.file = button(
            "Start from a file", "new from file", "A table, or arrays as NPZ, NPY, MAT or IDX.", self._file
        )
        self.model = button(
            "Open a model",
            "open model",
            "A trained model (.alens): what it is, and why it answers as it does.",
            self._model,
        )
        self.demo = button("See the pollen station", "demo", "Make the demo's images and open them.", self._demo)
        self._doors = (self.open, self.new, self.file, self.model, self.demo)
        (self.open if recent_workspaces() else self.demo).setProperty("role", "main")
        for door in self._doors:
            row.addWidget(door, 1)
        return doors

    def _read_next(self) -> None:
        """Add the next workspace's card, one for each turn of the event loop: the page is there at once."""
        if not self._unread:
            return
        card = WorkspaceCard(read_card(self._unread.pop(0)))
        card.clicked.connect(partial(self.open_folder, card.card.folder))
        at = self._cards.count()
        self._cards.addWidget(card, at // COLUMNS, at % COLUMNS)
        self._reader.start(0)

    def _add_sources(self, layout: QVBoxLayout) -> None:
        """Sources used before, and that anything may be dropped."""
        row = horizontal(spacing=8)
        row.setAlignment(CENTRE)
        sources = recent_sources()[:MOST_SOURCES]
        if sources:
            row.addWidget(label("Images used before", "faint", look.SMALL))
        names = [place.name for place in sources]
        for place in sources:
            name = place.name if names.count(place.name) == 1 else f"{place.parent.name}/{place.name}"
            source_button = button(name, f"recent {place.name}", str(place), partial(self.import_from, place))
            source_button.setMaximumWidth(WIDTH // 2)
            row.addWidget(source_button)
        layout.addLayout(row)
        dropped = label(
            "Or drop a folder or a file anywhere on the window: images, a model, or a workspace.", "faint", look.SMALL
        )
        layout.addWidget(dropped, 0, CENTRE)

    def open_folder(self, folder: Path, *_: object) -> None:
        """Open a workspace in the window proper, which takes this one's place."""
        try:
            self.frame = self._open_folder(folder)
        except LensError as error:
            self._say(str(error), "bad")
            return
        self.frame.show()
        self.close()

    def import_from(self, place: Path) -> None:
        """Look at a source of images, and make a workspace from it."""
        self.importing = ImportWindow(place, self.open_folder)
        self.importing.show()

    def make_demo(self, folder: Path) -> None:
        """Make the pollen station and open it."""
        for door in self._doors:
            door.setEnabled(False)
        self._say("Photographing pollen grains …", "faint")
        self._process = run_command(
            self, ["demo", str(folder), "--json"], lambda code, message: self._made(code, message, folder)
        )

    def _made(self, code: int, message: str, folder: Path) -> None:
        for door in self._doors:
            door.setEnabled(True)
        if code == 0:
            self.open_folder(folder)
        else:
            self._say(message, "bad")

    def _say(self, sentence: str, role: str) -> None:
        set_role(self.message, role)
        self.message.setText(sentence)

    def _open(self) -> None:
        if chosen := ask_folder(self, "Open a workspace"):
            self.open_folder(chosen)

    def _folder(self) -> None:
        if chosen := ask_folder(self, "A folder of images"):
            self.import_from(chosen)

    def _file(self) -> None:
        if chosen := ask_file(self, "A table or a file of arrays", TABLES):
            self.import_from(chosen)

    def _model(self) -> None:
        if chosen := ask_file(self, "A model file", MODELS):
            self.open_folder(chosen)

    def _demo(self) -> None:
        folder = QFileDialog.getSaveFileName(self, "Where the pollen station is to be", "pollen-station")[0]
        if folder:
            self.make_demo(Path(folder))

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Take files and folders."""
        if event is not None and dropped_place(event) is not None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Open what was dropped: a workspace as one, anything else as a source of images."""
        place = dropped_place(event) if event is not None else None
        if place is None:
            return
        if is_workspace(place) or place.suffix.lower() in MODEL_SUFFIXES:
            self.open_folder(place)
        else:
            self.import_from(place)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Read no more cards."""
        self._reader.stop()
        super().closeEvent(event)
