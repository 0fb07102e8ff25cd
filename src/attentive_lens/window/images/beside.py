"""What stands beside the images: tables and outlines taken in, lists and outlines written out."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QFileDialog, QMenu, QPushButton, QWidget

from attentive_lens.desk.images.curating import write_list
from attentive_lens.desk.requests.columns import ColumnsKnown, TakeColumns
from attentive_lens.desk.requests.outlines import OutlinesKnown, TakeOutlines
from attentive_lens.errors import LensError
from attentive_lens.window.parts.basics import button, horizontal
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

TABLES = "Tables (*.csv *.tsv *.txt *.parquet)"
SHAPES = "Boxes and polygons (*.json *.csv *.tsv *.txt *.parquet)"


class Beside(QWidget):
    """Two buttons with a menu each; what came of it is said below."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        row = horizontal(self, spacing=4)
        tip = "What files say of the images besides: columns (patient, device, day), and where the object is."
        self.take = _with_menu(
            button("Take in …", "take in", tip, lambda: None),
            {
                "take in table": ("A table: columns by the images' names …", self._ask_table),
                "take in masks": ("Outlines: a folder of mask pictures …", self._ask_masks),
                "take in shapes": ("Outlines: boxes or polygons …", self._ask_shapes),
            },
        )
        self.take.setEnabled(not session.reading_only)
        tip = "Write labels and sets, or where the objects are."
        self.export = _with_menu(
            button("Export …", "export images", tip, lambda: None),
            {
                "save list": ("Every image with its label and set, as a table …", self._save),
                "save outlines": ("Outlines, as a file of runs and polygons …", self._save_outlines),
                "save masks": ("Outlines, as a folder of mask pictures …", self._save_masks),
            },
        )
        row.addWidget(self.take)
        row.addWidget(self.export)

    def _ask_table(self) -> None:
        if file := QFileDialog.getOpenFileName(self, "Table beside the images", "", TABLES)[0]:
            self.take_table(Path(file))

    def _ask_masks(self) -> None:
        if folder := QFileDialog.getExistingDirectory(self, "Folder of mask pictures"):
            self.take_outlines(Path(folder))

    def _ask_shapes(self) -> None:
        if file := QFileDialog.getOpenFileName(self, "Boxes or polygons", "", SHAPES)[0]:
            self.take_outlines(Path(file))

    def _save(self) -> None:
        if name := QFileDialog.getSaveFileName(self, "Export labels", "images.csv", "Tables (*.csv)")[0]:
            self.save_list(Path(name))

    def _save_outlines(self) -> None:
        if name := QFileDialog.getSaveFileName(self, "Export outlines", "outlines.json", "JSON (*.json)")[0]:
            self._write_outlines(Path(name).with_suffix(".json"))

    def _save_masks(self) -> None:
        if folder := QFileDialog.getExistingDirectory(self, "Folder for mask pictures"):
            self._write_outlines(Path(folder))

    def save_list(self, file: Path) -> None:
        """Write every image with its label and set."""
        try:
            count = write_list(self.session.workspace, file, self.session.design.plan)
        except LensError as error:
            self.session.message.emit(str(error), True)
        else:
            self.session.message.emit(f"{thousands(count)} images written to {file.name}.", False)

    def take_table(self, file: Path) -> None:
        """Take in a table beside the images."""

        def done(result: ColumnsKnown) -> None:
            self.session.message.emit(" ".join(result.sentences), False)
            self.session.images.reread()

        self.session.ask(TakeColumns(self.session.place, str(file)), done, self._fail, priority=3, scope="table")

    def take_outlines(self, place: Path) -> None:
        """Take in where the objects are."""
        self.session.message.emit("Reading outlines …", False)

        def done(result: OutlinesKnown) -> None:
            self.session.message.emit(" ".join(words.strip() for words in result.words()), bool(result.skipped))
            self.session.images.reread()

        self.session.ask(TakeOutlines(self.session.place, str(place)), done, self._fail, priority=3, scope="outlines")

    def _write_outlines(self, target: Path) -> None:
        def done(result: OutlinesKnown) -> None:
            self.session.message.emit(f"{thousands(result.images)} outlines written to {target.name}.", False)

        request = TakeOutlines(self.session.place, file=str(target))
        self.session.ask(request, done, self._fail, priority=3, scope="outlines written")

    def _fail(self, words: str) -> None:
        self.session.message.emit(words, True)


def _with_menu(of: QPushButton, entries: Mapping[str, tuple[str, Callable[[], None]]]) -> QPushButton:
    """The button with a menu: name for tests → words, and what is done."""
    menu = QMenu(of)
    for name, (words, done) in entries.items():
        action = QAction(words, menu)
        action.setObjectName(name)
        action.triggered.connect(lambda _=False, done=done: done())
        menu.addAction(action)
    of.setMenu(menu)
    return of
