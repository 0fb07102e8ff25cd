"""One image in full size: every pixel of its file, with its values under the mouse."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from attentive_lens.desk.requests.images import OpenPicture, Picture
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.window import look
from attentive_lens.window.images.canvas import Canvas
from attentive_lens.window.images.display_box import DisplayBox
from attentive_lens.window.images.outline_box import OutlineBox
from attentive_lens.window.parts.basics import button, label, to_image
from attentive_lens.window.session import Session

DISPLAY = 232
"""Pixels of the column that says how images are shown."""


class Viewer(QWidget):
    """An image of the collection in full size; the arrows go to its neighbours, Esc goes back.

    Signals
    -------
    moved
        −1 or 1: the neighbour is wanted.
    left
        Back to the sheet.
    """

    moved = pyqtSignal(int)
    left = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("viewer")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.session = session
        self.pixels: PixelArray | None = None
        self._image = 0
        layout = QVBoxLayout(self)
        layout.setContentsMargins(24, 16, 16, 16)
        head = QHBoxLayout()
        self.title = label(size=look.LARGE, strong=True, name="viewer title")
        head.addWidget(self.title)
        self.note = label(role="faint", name="viewer note")
        head.addWidget(self.note)
        head.addStretch()
        self.values = label(role="faint", name="viewer values")
        head.addWidget(self.values)
        head.addSpacing(12)
        head.addWidget(button("Fit", "fit picture", "As large as fits.", lambda: self.canvas.fit()))
        head.addWidget(button("Back to the sheet", "leave viewer", "Back (Esc).", self.left.emit))
        layout.addLayout(head)
        self.canvas = Canvas()
        self.canvas.hovered.connect(self._show_values)
        across = QHBoxLayout()
        across.addWidget(self.canvas, 1)
        self.display = DisplayBox(session, lambda: self.pixels)
        self.display.setFixedWidth(DISPLAY)
        self.display.unfold(True)
        self.canvas.dragged.connect(self._drag_levels)
        session.display_changed.connect(self._show_anew)
        side = QVBoxLayout()
        side.addWidget(self.display)
        self.outline = OutlineBox(session, self.canvas)
        self.outline.setFixedWidth(DISPLAY)
        side.addWidget(self.outline)
        side.addStretch()
        across.addLayout(side)
        layout.addLayout(across, 1)

    def open_image(self, place: int) -> None:
        """Show an image; it is opened in the background."""
        row = self.session.images.collection.rows[place]
        self._image = row.number
        self.title.setText(f"image {row.number} · {self.session.images.collection.classes[row.label]}")
        self.note.setText(f"{row.name} · {row.width}×{row.height}")
        self.values.setText("")
        self.outline.leave()
        self.session.ask(
            OpenPicture(self.session.place, row.number), self._take, self._failed, priority=0, scope="picture"
        )
        self.setFocus()

    def _take(self, picture: Picture) -> None:
        if picture.image == self._image:
            self.pixels = picture.pixels
            self.canvas.show_picture(to_image(picture.pixels))
            self.outline.show_image(picture)
            if picture.bits:
                values = f"values {picture.low:g} to {picture.high:g}"
                self.note.setText(f"{self.note.text()} · {picture.bits} bit, {values}")
            if picture.step > 1:
                self.note.setText(f"{self.note.text()}, every {picture.step}. pixel shown")

    def _failed(self, sentence: str) -> None:
        self.pixels = None
        self.canvas.show_picture(None)
        self.outline.show_image(None)
        self.values.setText(sentence)

    def _show_values(self, across: int, down: int) -> None:
        if self.pixels is None or across < 0 or down >= len(self.pixels) or across >= self.pixels.shape[1]:
            self.values.setText("")
            return
        values = self.session.images.pixel_format.in_words(self.pixels[down, across])
        self.values.setText(f"column {across}, row {down}: {values}")

    def _drag_levels(self, across: float, down: float) -> None:
        if self.display.isVisible():
            self.display.drag(across, down)

    def _show_anew(self) -> None:
        if self.pixels is not None:
            self.canvas.redraw(to_image(self.pixels))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows, +, − and Esc."""
        key = Qt.Key(event.key()) if event is not None else None
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.moved.emit(-1 if key == Qt.Key.Key_Left else 1)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            self.canvas.zoom(1.25 if key == Qt.Key.Key_Plus else 0.8)
        elif key is not None and self.outline.take_key(key):
            return
        elif key in (Qt.Key.Key_Escape, Qt.Key.Key_Space):
            self.left.emit()
        else:
            super().keyPressEvent(event)
