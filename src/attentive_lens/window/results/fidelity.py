"""Drawings beside real images: how near they are by what a trained network sees, and whether they are copies."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QLabel

from attentive_lens.desk.requests.fidelity import Fidelity, MeasureFidelity
from attentive_lens.window import look
from attentive_lens.window.parts.basics import label, to_image
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.results.drawings import SMALL, DrawnView
from attentive_lens.window.session import Session
from attentive_lens.window.words import percent, thousands

SHOWN, MOST = 40, 500
"""Drawings beside their nearest training images, and those that are compared."""
MEANINGS = {
    "distance": ("Fréchet distance", "Of the normal distributions of what is seen in both; 0 is none."),
    "precision": ("precision", "Part of the drawings that look like real images."),
    "recall": ("recall", "Part of the real images that something drawn looks like."),
    "class": ("own class", "Part that is taken for the class it was to be, or is labelled; – where none was named."),
}
COLUMNS = {
    "drawings": "Drawings beside real images.",
    "real": "One half of the real images beside the other: what drawings could reach.",
}


class FidelityView(DrawnView):
    """Pairs of a drawing and the training image nearest to it, and figures of all."""

    word = "fidelity"
    tip = "drawings, each beside the training image nearest to it"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        table = QGridLayout()
        table.setHorizontalSpacing(16)
        for column, (words, tip) in enumerate(COLUMNS.items(), 1):
            head = label(words, role="faint", size=look.SMALL)
            head.setToolTip(tip)
            table.addWidget(head, 0, column, Qt.AlignmentFlag.AlignRight)
        self.figures: dict[str, tuple[QLabel, QLabel]] = {}
        for row, (word, (name, tip)) in enumerate(MEANINGS.items(), 1):
            said = label(name, role="faint")
            said.setToolTip(tip)
            table.addWidget(said, row, 0)
            self.figures[word] = label("–", name=f"fidelity {word}", strong=True), label("–", role="faint")
            for column, figure in enumerate(self.figures[word], 1):
                table.addWidget(figure, row, column, Qt.AlignmentFlag.AlignRight)
        table.setColumnStretch(3, 1)
        self.column.addLayout(table)
        self.more = label(role="faint", name="fidelity more")
        self.more.setWordWrap(True)
        self.column.addWidget(self.more)
        self.boxes: dict[str, PictureBox] = {}
        for word in ("drawing", "nearest training image"):
            self.column.addWidget(label(word, role="faint", size=look.SMALL))
            self.boxes[word] = PictureBox(word, SMALL)
            self.column.addWidget(self.boxes[word])
        self.column.addWidget(self.about)
        self.sheet.chosen.connect(self._show_one)
        self.result: Fidelity | None = None

    def wanted(self, run: int) -> MeasureFidelity:
        """Of training images, by what the newest run that answers classes sees."""
        return MeasureFidelity(self.session.place, run, count=MOST, most=SHOWN)

    def figure(self) -> str:
        """Recall, which generators lack first."""
        result = self.result
        if result is None:
            return ""
        return f"recall {percent(result.whole.recall)}"

    def take(self, result: Fidelity) -> None:
        """Figures, and pairs side by side."""
        self.result = result
        self.says.setText(
            f"{thousands(result.drawings)} drawings and as many {result.on} images, as {result.layer} of"
            f" {result.features} sees them. Each drawing stands left of the training image nearest to it."
        )
        for word in ("distance", "precision", "recall"):
            shown, beside = self.figures[word]
            low, high = sorted(getattr(half, word) for half in result.halves)
            shown.setText(_worded(word, getattr(result.whole, word)))
            shown.setToolTip(f"By halves: {_worded(word, low)} and {_worded(word, high)}.")
            beside.setText(_worded(word, getattr(result.apart, word)))
        for shown, part in zip(self.figures["class"], (result.accuracy, result.real), strict=True):
            shown.setText("–" if part is None else percent(part))
        near = "are nearer to a training image than 99 of 100 validation images."
        untold = "Whether they are copies cannot be told without validation images."
        lines = [untold if result.copies is None else f"{percent(result.copies)} {near}"]
        if result.by_class:
            name, part = min(result.by_class.items(), key=lambda item: item[1])
            lines.append(f"Least of all taken for its class: {name}, {percent(part)}.")
        self.more.setText("\n".join(lines))
        pairs = np.stack([result.drawn, result.beside], axis=1).reshape(-1, *result.drawn.shape[1:])
        self.sheet.show_images(list(pairs), together=2)
        self._show_one(max(0, self.sheet.current))

    def _show_one(self, place: int) -> None:
        result, at = self.result, place // 2
        if result is None or not 0 <= at < len(result.drawn):
            return
        for box, pixels in zip(self.boxes.values(), (result.drawn[at], result.beside[at]), strict=True):
            box.show_image(to_image(pixels))
        number = int(result.labels[at])
        wanted = f"{result.classes[number]}, " if number >= 0 else ""
        nearest, distance = result.nearest[at], result.distances[at]
        self.about.setText(f"{wanted}nearest to image {nearest}: {distance:.2f} of the usual distance")


def _worded(word: str, value: float) -> str:
    if word == "distance":
        return thousands(round(value)) if value >= 100 else f"{value:.3g}"
    return percent(value)
