"""The image at hand: what it is, and what is decided about it and the others selected."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QFrame, QScrollArea

from attentive_lens.core.numbering import number_at
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.window.images.display_box import DisplayBox
from attentive_lens.window.parts.basics import button, horizontal, label, to_image, vertical
from attentive_lens.window.parts.decisions import Decisions
from attentive_lens.window.parts.picture import PixelBox
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

EDGES, LEAST = 34, 160
"""Pixels beside the picture, and of the picture at least."""
MOST_TOLD = 6
"""Columns of tables beside the images that are told."""


class Details(QFrame):
    """Picture, facts, and the buttons that decide; each has a key of its own.

    Signals
    -------
    opened
        Somebody wants to see the image in full size.
    """

    opened = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.places: tuple[int, ...] = ()
        self.place: int | None = None
        self.setProperty("role", "panel")
        self.setObjectName("image panel")
        layout = vertical(self, spacing=6, margins=(16, 12, 16, 12))
        self.preview = PixelBox("image preview", LEAST)
        self.preview.hovered.connect(self._show_pixel)
        layout.addWidget(self.preview)
        self.pixel = label(" ", "faint", name="pixel values")
        self.pixel.setWordWrap(True)
        layout.addWidget(self.pixel)
        self.display = DisplayBox(session, self._pixels)
        layout.addWidget(self.display)
        session.display_changed.connect(self._show_anew)
        self.facts = label("Select an image to see what it is.", "faint", name="image facts")
        self.facts.setWordWrap(True)
        self.facts.setAlignment(Qt.AlignmentFlag.AlignTop)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(self.facts)
        layout.addWidget(area, 1)
        self.selected = label(strong=True, name="selected count")
        layout.addWidget(self.selected)
        self.decisions = Decisions(session)
        layout.addWidget(self.decisions)
        self.full = button("Full size", "full size", "See the image pixel by pixel (Space).", self.opened.emit)
        self.ask = button("Explain (E)", "explain image", "Why the run in view answers as it does.", self._explain)
        row = horizontal(spacing=6)
        for each in (self.full, self.ask):
            row.addWidget(each, 1)
        layout.addLayout(row)
        self.show_images(None, ())

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """The picture is as wide as there is room, and leaves half of the height to what is known of it."""
        super().resizeEvent(event)
        side = max(LEAST, min(self.width() - EDGES, self.height() // 2))
        self.preview.setFixedSize(side, side)

    def show_images(self, place: int | None, places: tuple[int, ...]) -> None:
        """The image at hand, and all that are selected."""
        self.place, self.places = place, places
        collection = self.session.images.collection
        self.decisions.show_images(places or ((place,) if place is not None else ()))
        self.full.setEnabled(place is not None)
        view = self.session.runs.view
        self.ask.setVisible(place is not None and view is not None and view.has_model and not view.draws)
        self.selected.setVisible(len(places) > 1)
        self.selected.setText(f"{thousands(len(places))} images selected")
        self.pixel.setText(" ")
        if place is None:
            self.preview.show_image(None)
            self.facts.setText("Select an image to see what it is.")
            return
        row, set_name = collection.rows[place], collection.sets[place]
        if self.session.images.pixels is not None:
            self.preview.show_image(to_image(self.session.images.pixels[place]))
        before = self.session.images.library.rows[place].label
        was = f" (was {collection.classes[before]})" if before != row.label else ""
        mark = " · flagged" if row.flagged else ""
        lines = [
            f"{collection.classes[row.label]}{was} · {set_name}{mark}",
            f"image {row.number}",
            row.name,
            f"{row.width}×{row.height} pixels, {row.mode}",
            f"{thousands(row.bytes)} bytes",
            *([f"{thousands(row.beyond)} values beyond the scale"] if row.beyond else []),
        ]
        shown = {name: values[place] for name, values in self.session.images.measures.items() if name != "pixels"}
        lines += [f"{name} {value:.2f}" for name, value in shown.items() if np.isfinite(value)]
        if self.session.images.outline_of(row.number):
            by_hand = self.session.images.is_drawn(row.number)
            lines.append("object outlined by hand" if by_hand else "object outlined in a file")
        tables = self.session.images.library.columns
        lines += [f"{name}: {words[row.number]}" for name, words in tables.items() if row.number in words][:MOST_TOLD]
        answer = self.session.scores.answers.predicted.get(row.number)
        if answer is not None:
            lines.append(f"said {answer.name} ({answer.probability:.2f})")
        self.facts.setText("\n".join(lines))
        self.facts.setToolTip(row.file)

    def _show_pixel(self, across: int, down: int) -> None:
        if across < 0 or self.place is None or self.session.images.pixels is None:
            self.pixel.setText(" ")
            return
        values = self.session.images.pixel_format.in_words(self.session.images.pixels[self.place][down, across])
        self.pixel.setText(f"column {across}, row {down}: {values}")

    def _pixels(self) -> PixelArray | None:
        pixels = self.session.images.pixels
        return None if pixels is None or self.place is None else np.asarray(pixels[self.place])

    def _show_anew(self) -> None:
        pixels = self._pixels()
        if pixels is not None:
            self.preview.show_image(to_image(pixels))

    def _explain(self) -> None:
        if self.place is not None:
            self.session.explain_asked.emit(number_at(self.place))
