"""The window without a workspace: open one, make one, or see the demo."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QProcess, Qt
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QVBoxLayout, QWidget

from attentive_lens.errors import LensError
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, set_role


class Welcome(QWidget):
    """Three doors."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("welcome")
        self.setWindowTitle("Attentive Lens")
        self.resize(1280, 800)
        layout = QVBoxLayout(self)
        layout.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout.setSpacing(14)
        title = label("Attentive Lens", size=look.TITLE, strong=True)
        text = label("Train a network on images, find its mistakes, and see why it made them.", "faint")
        self.message = label(name="welcome message")
        self.message.setWordWrap(True)
        self.message.setFixedWidth(560)
        row = QHBoxLayout()
        row.setSpacing(12)
        self.open = button("Open a workspace", "open workspace", "Choose a workspace's folder.", self._open)
        self.new = button("Start from images", "new workspace", "Choose a folder with one folder per class.", self._new)
        self.demo = button("See the pollen station", "demo", "Make the demo's images and open them.", self._demo)
        self.demo.setProperty("role", "main")
        for made in (self.open, self.new, self.demo):
            row.addWidget(made)
        for widget in (title, text):
            layout.addWidget(widget, 0, Qt.AlignmentFlag.AlignCenter)
        layout.addLayout(row)
        layout.addWidget(self.message, 0, Qt.AlignmentFlag.AlignCenter)
        self.message.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._process: QProcess | None = None
        self.frame: QWidget | None = None

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

    def make_workspace(self, folder: Path, images: Path) -> None:
        """Make a workspace from a folder of images, in a process of its own, and open it."""
        self._run(["new", str(folder), str(images)], folder, f"Reading the images of {images.name} …")

    def make_demo(self, folder: Path) -> None:
        """Make the pollen station and open it."""
        self._run(["demo", str(folder), "--json"], folder, "Photographing pollen grains …")

    def _run(self, words: list[str], folder: Path, sentence: str) -> None:
        import sys

        for made in (self.open, self.new, self.demo):
            made.setEnabled(False)
        self._say(sentence, "faint")
        process = QProcess(self)
        process.finished.connect(lambda code, _: self._made(code, folder))
        process.start(sys.executable, ["-m", "attentive_lens", *words])
        self._process = process

    def _made(self, code: int, folder: Path) -> None:
        for made in (self.open, self.new, self.demo):
            made.setEnabled(True)
        if code == 0:
            self.open_folder(folder)
        elif self._process is not None:
            words = bytes(self._process.readAllStandardError().data()).decode(errors="replace").strip()
            self._say(words.splitlines()[-1] if words else "That did not work.", "bad")

    def _say(self, sentence: str, role: str) -> None:
        set_role(self.message, role)
        self.message.setText(sentence)

    def _open(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "Open a workspace")
        if chosen:
            self.open_folder(Path(chosen))

    def _new(self) -> None:
        images = QFileDialog.getExistingDirectory(self, "A folder with one folder of images per class")
        if images:
            folder = QFileDialog.getSaveFileName(self, "Where the workspace is to be", f"{images}-workspace")[0]
            if folder:
                self.make_workspace(Path(folder), Path(images))

    def _demo(self) -> None:
        folder = QFileDialog.getSaveFileName(self, "Where the pollen station is to be", "pollen-station")[0]
        if folder:
            self.make_demo(Path(folder))
