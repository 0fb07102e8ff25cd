"""The window without a workspace: open one, make one from images, or see the demo."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QProcess, Qt
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QVBoxLayout, QWidget

from attentive_lens.desk.memory import recent_sources, recent_workspaces
from attentive_lens.errors import LensError
from attentive_lens.window import look
from attentive_lens.window.dropping import dropped_place
from attentive_lens.window.importing import ImportWindow
from attentive_lens.window.parts.basics import button, label, set_role
from attentive_lens.window.running import run_command

MOST_RECENT = 5


class Welcome(QWidget):
    """Doors, and what was opened lately; a source or workspace dropped on it is opened."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("welcome")
        self.setWindowTitle("Attentive Lens")
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        layout = QVBoxLayout(self)
        layout.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout.setSpacing(14)
        title = label("Attentive Lens", size=look.TITLE, strong=True)
        text = label("Train a network on images, find its mistakes, and see why it made them.", "faint")
        self.message = label(name="welcome message")
        self.message.setWordWrap(True)
        self.message.setFixedWidth(640)
        row = QHBoxLayout()
        row.setSpacing(12)
        self.open = button("Open a workspace", "open workspace", "Choose a workspace's folder.", self._open)
        self.new = button(
            "Start from a folder", "new workspace", "One folder per class, or images with a table.", self._folder
        )
        self.file = button(
            "Start from a file", "new from file", "A table, or arrays as NPZ, NPY, MAT or IDX.", self._file
        )
        self.demo = button("See the pollen station", "demo", "Make the demo's images and open them.", self._demo)
        self.demo.setProperty("role", "main")
        for made in (self.open, self.new, self.file, self.demo):
            row.addWidget(made)
        for widget in (title, text):
            layout.addWidget(widget, 0, Qt.AlignmentFlag.AlignCenter)
        layout.addLayout(row)
        layout.addWidget(self.message, 0, Qt.AlignmentFlag.AlignCenter)
        self.message.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._add_recent(layout, "Workspaces", recent_workspaces()[:MOST_RECENT], self.open_folder)
        self._add_recent(layout, "Images used before", recent_sources()[:MOST_RECENT], self.import_from)
        layout.addWidget(
            label("Or drop a folder or file of images here.", "faint", look.SMALL), 0, Qt.AlignmentFlag.AlignCenter
        )
        self._process: QProcess | None = None
        self.frame: QWidget | None = None
        self.importing: ImportWindow | None = None

    def _add_recent(self, layout: QVBoxLayout, title: str, places: list[Path], done: object) -> None:
        if not places or not callable(done):
            return
        layout.addSpacing(10)
        layout.addWidget(label(title, "faint", look.SMALL), 0, Qt.AlignmentFlag.AlignCenter)
        for place in places:
            words = f"{place.name}  ·  {place.parent}"
            made = button(words, f"recent {place.name}", str(place), partial(done, place))
            made.setMaximumWidth(640)
            layout.addWidget(made, 0, Qt.AlignmentFlag.AlignCenter)

    def open_folder(self, folder: Path) -> None:
        """Open a workspace in the window proper, which takes this one's place."""
        from attentive_lens.window.application import make_frame
        from attentive_lens.window.session import open_session

        try:
            self.frame = make_frame(open_session(folder))
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
        for made in (self.open, self.new, self.file, self.demo):
            made.setEnabled(False)
        self._say("Photographing pollen grains …", "faint")
        self._process = run_command(
            self, ["demo", str(folder), "--json"], lambda code, told: self._made(code, told, folder)
        )

    def _made(self, code: int, told: str, folder: Path) -> None:
        for made in (self.open, self.new, self.file, self.demo):
            made.setEnabled(True)
        if code == 0:
            self.open_folder(folder)
        else:
            self._say(told, "bad")

    def _say(self, sentence: str, role: str) -> None:
        set_role(self.message, role)
        self.message.setText(sentence)

    def _open(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "Open a workspace")
        if chosen:
            self.open_folder(Path(chosen))

    def _folder(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "A folder of images")
        if chosen:
            self.import_from(Path(chosen))

    def _file(self) -> None:
        kinds = "Tables and arrays (*.csv *.tsv *.txt *.npz *.npy *.mat *.gz);;All files (*)"
        chosen = QFileDialog.getOpenFileName(self, "A table or a file of arrays", "", kinds)[0]
        if chosen:
            self.import_from(Path(chosen))

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
        if (place / "workspace.toml").exists():
            self.open_folder(place)
        else:
            self.import_from(place)
