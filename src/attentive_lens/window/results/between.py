"""The way from one image to another: what is drawn of the codes that lie between theirs."""

from __future__ import annotations

from PyQt6.QtWidgets import QSpinBox

from attentive_lens.core.numbering import number_at, place_of
from attentive_lens.desk.requests.drawing import DrawImages, Drawn
from attentive_lens.window import look
from attentive_lens.window.parts.basics import label, to_image
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.results.drawings import LARGE, SMALL, DrawnView
from attentive_lens.window.session import Session

STEPS = 25
"""Images on the way, both ends among them."""


class BetweenView(DrawnView):
    """Two images by their numbers, and the way between them, from left to right and row by row."""

    word = "between"
    tip = "images drawn on the way from one image to another"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.ends: dict[str, QSpinBox] = {}
        self.pictures: dict[str, PictureBox] = {}
        for word in ("from", "to"):
            box = self.ends[word] = QSpinBox()
            box.setObjectName(f"between {word}")
            box.setAccessibleName(f"number of the image {word}")
            box.setToolTip(f"Number of the image that the way leads {word}.")
            box.setPrefix(f"{word} image ")
            box.setKeyboardTracking(False)
            box.valueChanged.connect(self.refresh)
            self.head.addWidget(box)
        self.large = PictureBox("on the way", LARGE)
        self.column.addWidget(self.large)
        self.column.addWidget(self.about)
        for word in self.ends:
            self.column.addWidget(label(f"the way leads {word}", role="faint", size=look.SMALL))
            self.pictures[word] = PictureBox(f"the way leads {word}", SMALL)
            self.column.addWidget(self.pictures[word])
        self.sheet.chosen.connect(self._show_one)
        self.result: Drawn | None = None
        self._begun = False

    def wanted(self, run: int) -> DrawImages:
        """From the first image of the set in view to the first of another class, until others are chosen."""
        images = self.session.images.collection
        if not self._begun:
            self._begun = True
            places = [place for place, own in enumerate(images.sets) if own == self.session.scores.on]
            places = places or list(range(len(images.rows)))
            first = places[0]
            labels = images.rows
            other = next((k for k in places if labels[k].label != labels[first].label), places[-1])
            for box, place in zip(self.ends.values(), (first, other), strict=True):
                box.blockSignals(True)
                box.setRange(1, max(1, len(images.rows)))
                box.setValue(number_at(place))
                box.blockSignals(False)
        one, other = (box.value() for box in self.ends.values())
        return DrawImages(self.session.place, run, "between", STEPS, first=one, second=other)

    def take(self, result: Drawn) -> None:
        """Show the way, and both images as they are."""
        self.result = result
        self.says.setText("The straight way between the codes of two images, row by row.")
        self.sheet.show_images(list(result.images))
        pixels = self.session.images.pixels
        for word, box in self.ends.items():
            place = place_of(box.value())
            shown = pixels is not None and 0 <= place < len(pixels)
            self.pictures[word].show_image(to_image(pixels[place]) if shown and pixels is not None else None)
        self._show_one(max(0, self.sheet.current))

    def _show_one(self, place: int) -> None:
        if self.result is None or not 0 <= place < len(self.result.images):
            return
        self.large.show_image(to_image(self.result.images[place]))
        part = place / max(1, len(self.result.images) - 1)
        self.about.setText(f"{part:.0%} of the way".replace("%", "\u202f%"))
