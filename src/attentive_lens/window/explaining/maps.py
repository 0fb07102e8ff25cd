"""Maps: every method for one image side by side, the quick ones first."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.map_colours import over_image
from attentive_lens.desk.requests.explaining import MAP_METHODS, Explanation
from attentive_lens.desk.requests.maps import Maps, MapsMade
from attentive_lens.window import look
from attentive_lens.window.explaining.panel import Panel
from attentive_lens.window.explaining.right_map import DIFFERENCE
from attentive_lens.window.parts.basics import button, chooser, label, map_colours, tint_image, to_image, vertical
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.tiles import Tile, Tiles, enlarged, laid_over
from attentive_lens.window.session import Session

SIDE, MOST = 112, 260
LARGE = 256
"""Pixels of a side to which the image is enlarged under a map."""
SAID, TRUE = "said", "true"


class MapsPanel(Panel):
    """A tile a method; a click puts its map under the lens.

    Signals
    -------
    chosen
        Name of the method whose tile was clicked.
    """

    title = "Maps"
    tip = "The maps that all methods make of this image, side by side"
    pins = "maps"
    chosen = pyqtSignal(object)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.made: MapsMade | None = None
        inside = vertical(self, spacing=4)
        row = Flow()
        row.addWidget(label("for", "faint"))
        self.target = chooser("maps target", "what the maps speak for")
        self.target.activated.connect(lambda _: self._ask())
        row.addWidget(self.target)
        tip = "Write every map into a folder: a picture (PNG) and its values (NumPy)."
        self.save = button("Save all …", "save maps", tip, self._save)
        row.addWidget(self.save)
        self.pin = button("Pin", "pin maps", "Keep what is seen with the image's case.", self._pin)
        row.addWidget(self.pin)
        inside.addLayout(row)
        self.says = label(role="faint", size=look.SMALL, name="maps say")
        self.says.setWordWrap(True)
        inside.addWidget(self.says)
        self.tiles = Tiles("map tiles", "a map by every method", SIDE, MOST)
        self.tiles.chosen.connect(self._choose)
        inside.addWidget(self.tiles, 1)

    def changed(self, explanation: Explanation, same: bool) -> None:
        """Another image, or another method under the lens."""
        if not same:
            self.made = None
            self._list_targets(explanation)
        self._show()
        if self.isVisible():
            self._ask()

    def _list_targets(self, explanation: Explanation) -> None:
        chosen = self.target.currentText()
        words = [SAID]
        if explanation.true is not None and explanation.true != explanation.predicted:
            words += [TRUE, DIFFERENCE]
        taken = (explanation.predicted, explanation.true)
        words += [name for name in explanation.probabilities if name not in taken]
        self.target.clear()
        self.target.addItems(words)
        self.target.setCurrentIndex(max(0, self.target.findText(chosen)))

    def _ask(self) -> None:
        shown = self.explanation
        if shown is None:
            return
        words = self.target.currentText()
        target = {SAID: shown.predicted, TRUE: shown.true or "", DIFFERENCE: shown.predicted}.get(words, words)
        against = shown.true or "" if words == DIFFERENCE else ""
        request = Maps(shown.subject, (), target, against)
        if self.awaits(request, "maps of image"):
            return
        self.made = None
        self.says.setText("Asking every method …")
        self._show()
        self.ask(request, self._take, self.says.setText, priority=3, scope="maps of image")

    def _take(self, made: MapsMade) -> None:
        self.made = made
        self._show()

    def _show(self) -> None:
        shown, made = self.explanation, self.made
        self.pin.setEnabled(made is not None)
        self.save.setEnabled(made is not None)
        if shown is None or made is None:
            self.tiles.show_tiles(())
            return
        picture = enlarged(to_image(shown.pixels), LARGE)
        tiles, marked = [], None
        for number, each in enumerate(made.maps):
            name, tip = each.method.label, f"{each.method.label}: {each.method.tip}"
            if each.method == shown.method:
                marked = number
            if each.values is None:
                tiles.append(Tile((picture,), f"{name}: none", f"{name}: {each.refused}.", "ochre"))
                continue
            drawn = tint_image(map_colours(each.values, signed=bool(made.against)))
            word = {True: "✓ ", False: "✗ ", None: ""}[each.passed]
            role = {True: "petrol", False: "ochre", None: "faint"}[each.passed]
            verdict = {True: " It gains more than what knows nothing of the answer.", False: " It gains no more."}
            tip += verdict.get(bool(each.passed), "") if each.passed is not None else ""
            if not each.values.any():
                tip += " It is zero everywhere: it finds nothing."
            tiles.append(Tile((laid_over(picture, drawn),), word + name, tip, role))
        self.tiles.show_tiles(tuple(tiles), marked)
        self.says.setText(in_words(made))

    def _choose(self, number: int) -> None:
        if self.made is not None and self.made.maps[number].values is not None:
            self.chosen.emit(self.made.maps[number].method)

    def replay(self, settings: PlainTable) -> None:
        """What was pinned."""
        at = self.target.findText(str(settings.get("for", SAID)))
        self.target.setCurrentIndex(max(0, at))
        self._ask()

    def _pin(self) -> None:
        if self.made is not None:
            self.pinned.emit(self.pins, in_words(self.made), {"for": self.target.currentText()})

    def _save(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "Save every map into a folder")
        if chosen:
            self.write(Path(chosen))

    def write(self, folder: Path) -> None:
        """A picture and the values of every map."""
        shown, made = self.explanation, self.made
        if shown is None or made is None:
            return
        stem = f"image-{made.image:05d}" if made.image is not None else Path(made.file).stem
        about = f"{made.target}-less-{made.against}" if made.against else made.target
        written = 0
        try:
            for each in made.maps:
                if each.values is not None:
                    file = folder / f"{stem}-{about}-{each.method.kind}".replace("/", "_")
                    with file.with_name(f"{file.name}.npy").open("wb") as stream:
                        np.save(stream, each.values)
                    drawn = to_image(over_image(shown.pixels, each.values, signed=bool(made.against)))
                    if not drawn.save(str(file.with_name(f"{file.name}.png"))):
                        raise OSError("its picture could not be written")
                    written += 1
        except OSError as error:
            why = str(error.strerror or error).lower()
            self.session.message.emit(f"{folder} could not be written: {why}. Choose another folder.", True)
        else:
            self.session.message.emit(f"{written} maps are in {folder}, each as PNG and NumPy.", False)


def in_words(made: MapsMade) -> str:
    """How many methods agree that can be tried."""
    there = [each for each in made.maps if each.values is not None]
    tried = [each for each in there if each.passed is not None]
    of = f"{made.target} − {made.against}" if made.against else made.target
    if len(made.maps) < len(MAP_METHODS):
        return f"{len(made.maps)} of {len(MAP_METHODS)} methods, for {of}; more to come"
    if not tried:
        nothing = ": nothing in this image can be said to decide" if made.tested else ""
        return f"{len(there)} methods, for {of}{nothing}"
    return f"{len(there)} methods, for {of}: {sum(bool(each.passed) for each in tried)} of {len(tried)} pass"
