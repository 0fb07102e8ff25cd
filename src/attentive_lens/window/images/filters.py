"""Which images are shown and in which order: one line of chips and choosers."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QPushButton, QSlider, QWidget

from attentive_lens.desk.images.browsing import ORDERS, SHOWN_SETS
from attentive_lens.desk.images.collection import Collection
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, chooser, filter_button, horizontal, label
from attentive_lens.window.words import thousands

SMALLEST, LARGEST = 24, 256
ALWAYS = ("training", "validation", "test")
MEANINGS = {
    "training": "Images the model learns from.",
    "validation": "Held out from training, to judge it and to choose the best epoch.",
    "test": "Images for one last judgement. Do not choose a model by them.",
    "left out": "Images not used because only a part is used at all.",
    "excluded": "Images you decided not to use.",
    "gone": "Images whose file was not there when the source was looked through.",
}


class FilterBar(QWidget):
    """Sets and flags to show or hide, answers, order, and the size of the images.

    Signals
    -------
    changed
        Something else is to be shown.
    resized
        Side of the images on the sheet, in pixels.
    """

    changed = pyqtSignal()
    resized = pyqtSignal(int)

    def __init__(self, jump: QWidget) -> None:
        super().__init__()
        row = horizontal(self, spacing=6)
        self.chips: dict[str, QPushButton] = {}
        for name in SHOWN_SETS:
            chip = filter_button(name, f"set {name}", MEANINGS[name], self.changed.emit)
            chip.setChecked(True)
            self.chips[name] = chip
            row.addWidget(chip)
        self.flagged = filter_button("flagged", "only flagged", "Show only flagged images.", self.changed.emit)
        row.addWidget(self.flagged)
        row.addStretch()
        jump.setFixedWidth(150)
        row.addWidget(jump)
        self.answers = self._chooser(
            "answers filter", ("all", "wrong", "correct"), "Only images that the run in view answered this way."
        )
        row.addWidget(self.answers)
        self.order = self._chooser("order", ORDERS, "What the images are sorted by.")
        row.addWidget(self.order)
        self.turn = button("↑", "order direction", "Smallest or largest first.", self._turn)
        self.turn.setFixedWidth(34)
        row.addWidget(self.turn)
        row.addSpacing(8)
        row.addWidget(label("smaller", "faint", look.SMALL))
        self.zoom = QSlider(Qt.Orientation.Horizontal)
        self.zoom.setObjectName("zoom")
        self.zoom.setAccessibleName("size of the images on the sheet")
        self.zoom.setToolTip("Size of the images on the sheet, in pixels; a double click shows one in full size.")
        self.zoom.setRange(SMALLEST, LARGEST)
        self.zoom.setValue(64)
        self.zoom.setFixedWidth(90)
        self.zoom.valueChanged.connect(self.resized)
        row.addWidget(self.zoom)
        row.addWidget(label("larger", "faint", look.SMALL))

    @property
    def descending(self) -> bool:
        """Whether the largest come first."""
        return self.turn.text() == "↓"

    @property
    def sets(self) -> frozenset[str]:
        """Sets to show."""
        return frozenset(name for name, chip in self.chips.items() if chip.isChecked())

    def show_counts(self, collection: Collection, class_number: int | None) -> None:
        """Counts on the chips; sets without images have no chip, but the three main ones."""
        for name, chip in self.chips.items():
            chip.setText(f"{name} {thousands(collection.count_of_kind(name, class_number))}")
            chip.setVisible(name in ALWAYS or collection.count(name) > 0)
            chip.setEnabled(collection.count(name) > 0)
        flagged = len(collection.flagged)
        self.flagged.setText(f"flagged {thousands(flagged)}")
        self.flagged.setVisible(flagged > 0 or self.flagged.isChecked())

    def show_answers(self, there: bool) -> None:
        """Whether a run's answers can be filtered and sorted by."""
        self.answers.setVisible(there)

    def clear(self) -> None:
        """Show everything again, in whatever order."""
        for chip in self.chips.values():
            chip.setChecked(True)
        self.flagged.setChecked(False)
        self.answers.setCurrentIndex(0)

    def _turn(self) -> None:
        self.turn.setText("↑" if self.descending else "↓")
        self.changed.emit()

    def _chooser(self, name: str, words: tuple[str, ...], tip: str) -> QComboBox:
        box = chooser(name, name, tip, items=words)
        box.textActivated.connect(lambda _: self.changed.emit())
        return box
