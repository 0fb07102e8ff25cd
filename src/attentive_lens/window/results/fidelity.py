"""Drawings beside real images: how near they are by what a trained network sees, and whether they are copies."""

from __future__ import annotations

import numpy as np

from attentive_lens.desk.requests.fidelity import Fidelity, MeasureFidelity, Nearness
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
}


class FidelityView(DrawnView):
    """Pairs of a drawing and the training image nearest to it, and figures of all."""

    word = "fidelity"
    tip = "drawings, each beside the training image nearest to it"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.figures = {}
        for word, (name, tip) in MEANINGS.items():
            self.column.addWidget(label(name, role="faint", size=look.SMALL))
            self.figures[word] = label("–", name=f"fidelity {word}", strong=True)
            self.figures[word].setToolTip(tip)
            self.column.addWidget(self.figures[word])
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
        """Precision and recall."""
        result = self.result
        if result is None:
            return ""
        return f"{percent(result.whole.precision)} precise, recall {percent(result.whole.recall)}"

    def take(self, result: Fidelity) -> None:
        """Figures, and pairs side by side."""
        self.result = result
        self.says.setText(
            f"{thousands(result.drawings)} drawings and as many {result.on} images, as {result.layer} of"
            f" {result.features} sees them. Each drawing stands left of the training image nearest to it."
        )
        for word, shown in self.figures.items():
            halves = sorted(getattr(half, word) for half in result.halves)
            low, high = (_worded(word, value) for value in (halves[0], halves[-1]))
            shown.setText(_of(word, result.whole))
            shown.setToolTip(f"{MEANINGS[word][1]} Its halves: {low} and {high}.")
        lines = [
            f"Two halves of the images: {', '.join(_of(word, result.apart) for word in MEANINGS)}.",
            f"{percent(result.copies)} nearer to a training image than 99% of validation images are.",
        ]
        if result.accuracy is not None:
            name, part = min(result.by_class.items(), key=lambda item: item[1], default=("", 0.0))
            lines.append(f"{percent(result.accuracy)} taken for their class; least {name}, {percent(part)}.")
        self.more.setText("\n".join(lines))
        pairs = np.stack([result.drawn, result.real], axis=1).reshape(-1, *result.drawn.shape[1:])
        self.sheet.show_images(list(pairs), together=2)
        self._show_one(max(0, self.sheet.current))

    def _show_one(self, place: int) -> None:
        result, at = self.result, place // 2
        if result is None or not 0 <= at < len(result.drawn):
            return
        for box, pixels in zip(self.boxes.values(), (result.drawn[at], result.real[at]), strict=True):
            box.show_image(to_image(pixels))
        number = int(result.labels[at])
        wanted = f"{result.classes[number]}, " if number >= 0 else ""
        nearest, distance = result.nearest[at], result.distances[at]
        self.about.setText(f"{wanted}nearest to image {nearest}: {distance:.2f} of the usual distance")


def _of(word: str, nearness: Nearness) -> str:
    return _worded(word, getattr(nearness, word))


def _worded(word: str, value: float) -> str:
    return f"{value:.3g}" if word == "distance" else percent(value)
