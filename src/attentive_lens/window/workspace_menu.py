"""The menu behind the workspace's name: another workspace, a new one, a model file; and the keys that do it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QApplication, QFileDialog, QMenu, QPushButton, QWidget

from attentive_lens.desk.remembering import recent_workspaces
from attentive_lens.window import look

MOST = 9
TABLES = "Tables and arrays (*.csv *.tsv *.txt *.npz *.npy *.mat *.gz);;All files (*)"
MODELS = "Models (*.alens)"


def ask_folder(parent: QWidget, title: str) -> Path | None:
    """A folder that somebody chooses."""
    chosen = QFileDialog.getExistingDirectory(parent, title)
    return Path(chosen) if chosen else None


def ask_file(parent: QWidget, title: str, kinds: str) -> Path | None:
    """A file that somebody chooses, of kinds as Qt writes them."""
    chosen = QFileDialog.getOpenFileName(parent, title, "", kinds)[0]
    return Path(chosen) if chosen else None


class WorkspaceMenu(QPushButton):
    """The name of the workspace; pressing it opens the menu.

    Parameters
    ----------
    window : QWidget
        That has the workspace open.
    folder : Path
        Of the workspace.
    name : str
        Shown.
    open_place : callable
        Opens whatever was chosen, in a window of its own.
    """

    def __init__(self, window: QWidget, folder: Path, name: str, open_place: Callable[[Path], None]) -> None:
        super().__init__(name)
        self._window, self._folder, self._open = window, folder, open_place
        self.setObjectName("workspace name")
        self.setAccessibleName(f"workspace {name}: menu")
        self.setToolTip(f"{folder}: open another workspace, make one, open a model (Alt+W).")
        self.setProperty("role", "title")
        self.setFont(look.font(look.LARGE, True))
        self.menu_shown = QMenu(self)
        self.menu_shown.setObjectName("workspace menu")
        self.recent = QMenu("Open recent", self.menu_shown)
        self.recent.setObjectName("recent workspaces")
        self.recent.setToolTipsVisible(True)
        self.entries: tuple[tuple[str, str, Callable[[], object]], ...] = (
            ("Open a workspace …", "Ctrl+O", partial(self._ask, ask_folder, "Open a workspace")),
            ("New workspace from a folder …", "Ctrl+N", partial(self._ask, ask_folder, "A folder of images")),
            ("New workspace from a file …", "Ctrl+Shift+N", partial(self._ask, ask_file, "A table or arrays", TABLES)),
            ("Open a model file …", "Ctrl+Shift+O", partial(self._ask, ask_file, "A model file", MODELS)),
            ("Close this window", "Ctrl+W", window.close),
            ("Close all windows", "Ctrl+Q", QApplication.closeAllWindows),
        )
        for place, (words, keys, call) in enumerate(self.entries):
            if place == 1:
                self.menu_shown.addMenu(self.recent)
            if place == 4:
                self._closing = self.menu_shown.addSeparator()
            action = self.menu_shown.addAction(words)
            if action is not None:
                action.setShortcut(QKeySequence(keys))
                action.triggered.connect(lambda _=False, call=call: call())
                window.addAction(action)
        self.menu_shown.aboutToShow.connect(self._list_recent)
        self.setMenu(self.menu_shown)
        self.setShortcut("Alt+W")

    def add(self, words: str, call: Callable[[], object]) -> None:
        """One entry more, above those that close."""
        action = QAction(words, self.menu_shown)
        action.triggered.connect(lambda _=False: call())
        self.menu_shown.insertAction(self._closing, action)

    def _ask(self, ask: Callable[..., Path | None], *words: str) -> None:
        place = ask(self._window, *words)
        if place is not None:
            self._open(place)

    def _list_recent(self) -> None:
        """Workspaces opened before, but for this one."""
        self.recent.clear()
        for folder in [each for each in recent_workspaces() if each != self._folder][:MOST]:
            action = self.recent.addAction(folder.name)
            if action is not None:
                action.setToolTip(str(folder))
                action.triggered.connect(partial(self._open_recent, folder))
        self.recent.setEnabled(not self.recent.isEmpty())

    def _open_recent(self, folder: Path, *_: object) -> None:
        self._open(folder)
