"""The strip at the left: the images that are walked through, mistakes first of all."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from attentive_lens.core.numbering import number_at, place_of
from attentive_lens.window import look
from attentive_lens.window.parts.basics import label, vertical
from attentive_lens.window.parts.sheet import ContactSheet, Group
from attentive_lens.window.session import Session

SIDE, WIDE = 60, 80


class ImageStrip(QWidget):
    """One column of images; a click or the arrow keys explain one.

    Signals
    -------
    chosen
        Number of the image.
    """

    chosen = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.images: tuple[int, ...] = ()
        self._quiet = False
        self.setFixedWidth(WIDE)
        inside = vertical(self, spacing=0, margins=(0, 4, 0, 0))
        self.title = label(role="faint", size=look.SMALL, name="strip title")
        inside.addWidget(self.title)
        self.sheet = ContactSheet("image strip", SIDE)
        self.sheet.setAccessibleName("images that are walked through")
        self.sheet.setToolTip("Click an image, or use the arrow keys: it is explained.")
        self.sheet.selected.connect(self._select)
        inside.addWidget(self.sheet, 1)

    def show_images(self, title: str, tip: str, images: tuple[int, ...], current: int | None) -> None:
        """Others, or another one of them under the lens."""
        self.title.setText(title)
        self.title.setToolTip(tip)
        places = tuple(place_of(image) for image in images)
        if images != self.images or self.sheet.pixels is not self.session.images.pixels:
            self.images = images
            self.sheet.show_groups(self.session.images.pixels, (Group("", "", places),) if places else ())
        if current is not None and current in images and self.sheet.current != current - 1:
            self._quiet = True
            self.sheet.select(current - 1)
            self._quiet = False

    def _select(self, place: int) -> None:
        if not self._quiet:
            self.chosen.emit(number_at(place))
