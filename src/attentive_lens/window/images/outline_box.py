"""Where the object is in the image at hand: drawn on it by rectangle and polygon, or taken away."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from PyQt6.QtCore import Qt

from attentive_lens.core.numbering import place_of
from attentive_lens.desk.requests.images import Picture
from attentive_lens.errors import LensError
from attentive_lens.images.outlines import Outline, read_outline
from attentive_lens.window import look
from attentive_lens.window.images.canvas import POLYGON, RECTANGLE, SHAPES, Canvas
from attentive_lens.window.parts.basics import button, horizontal, label
from attentive_lens.window.parts.fold import Fold
from attentive_lens.window.session import Session

HINTS = {
    "": "",
    RECTANGLE: "Drag from corner to corner.",
    POLYGON: "Click corner by corner; a double click or Enter closes it, Backspace takes the last back.",
}
KEYS = {Qt.Key.Key_R: RECTANGLE, Qt.Key.Key_P: POLYGON}


class OutlineBox(Fold):
    """Buttons that draw on the canvas; what is drawn is a decision about the image, and can be undone.

    Parameters
    ----------
    session : Session
        Whose images.
    canvas : Canvas
        On which it is drawn.
    """

    def __init__(self, session: Session, canvas: Canvas) -> None:
        super().__init__("Object", "outline", "Where the object is: maps and answers are held against it.")
        self.session, self.canvas = session, canvas
        self.picture: Picture | None = None
        self.state = label(role="faint", size=look.SMALL, name="outline state")
        self.state.setWordWrap(True)
        self.inside.addWidget(self.state)
        row = horizontal(spacing=6)
        tips = {RECTANGLE: "Draw a rectangle about the object (R).", POLYGON: "Draw the object's outline (P)."}
        self.shapes = {
            shape: button(shape.capitalize(), f"draw {shape}", tips[shape], partial(self.draw, shape), checkable=True)
            for shape in SHAPES
        }
        for each in self.shapes.values():
            row.addWidget(each, 1)
        self.inside.addLayout(row)
        tip = "Say that nothing is outlined in this image."
        self.remove = button("Remove outline", "remove outline", tip, self._remove)
        self.inside.addWidget(self.remove)
        self.hint = label(role="faint", size=look.SMALL, name="outline hint")
        self.hint.setWordWrap(True)
        self.inside.addWidget(self.hint)
        canvas.drawn.connect(self._add)
        session.images_changed.connect(self._refresh)
        self.unfold(True)
        self._refresh()

    def draw(self, shape: str) -> None:
        """Begin a shape; the same again stops drawing."""
        chosen = shape if self.canvas.draws != shape else ""
        for name, each in self.shapes.items():
            each.setChecked(name == chosen)
        self.canvas.draw(chosen)
        self.hint.setText(HINTS[chosen])

    def leave(self) -> None:
        """Stop drawing: another image comes."""
        self.picture = None
        if self.canvas.draws:
            self.draw(self.canvas.draws)

    def show_image(self, picture: Picture | None) -> None:
        """The image at hand as it was opened, or none."""
        self.picture = picture
        self._refresh()

    def take_key(self, key: Qt.Key) -> bool:
        """Whether a key drew, took back or stopped something."""
        if key in KEYS and self.shapes[KEYS[key]].isEnabled():
            self.draw(KEYS[key])
            return True
        if not self.canvas.draws:
            return False
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.canvas.finish()
        elif key == Qt.Key.Key_Backspace:
            self.canvas.undraw()
        elif key == Qt.Key.Key_Escape:
            if self.canvas.corners:
                self.canvas.draw(self.canvas.draws)
            else:
                self.draw(self.canvas.draws)
        else:
            return False
        return True

    def _refresh(self) -> None:
        """The outline as it is known now, and what can be done."""
        picture, images = self.picture, self.session.images
        able = picture is not None and not self.session.reading_only
        outline = images.outline_of(picture.image) if picture is not None else Outline()
        for each in self.shapes.values():
            each.setEnabled(able)
        self.remove.setEnabled(able and bool(outline))
        drawn = picture is not None and images.is_drawn(picture.image)
        known = "Drawn by hand." if drawn else "Taken from a file."
        self.state.setText(known if outline else "No outline.")
        self.say(known if outline else "none")
        if picture is not None:
            row = images.collection.rows[place_of(picture.image)]
            mask = outline.mask(row.height, row.width)[:: picture.step, :: picture.step] if outline.runs else None
            self.canvas.show_outline(outline.polygons, mask, picture.step)

    def _add(self, corners: list[tuple[float, float]]) -> None:
        if self.picture is None:
            return
        number, step = self.picture.image, self.picture.step
        polygon = [[round(x * step, 2), round(y * step, 2)] for x, y in corners]
        row = self.session.images.collection.rows[place_of(number)]
        try:
            drawn = read_outline({"polygons": [polygon]}, row.height, row.width)
        except LensError as error:
            self.session.message.emit(str(error), True)
            return
        outline = self.session.images.outline_of(number) | drawn
        self.session.images.decide(f"outlined image {number}", [number], lambda now: replace(now, outline=outline))

    def _remove(self) -> None:
        if self.picture is not None:
            number = self.picture.image
            summary = f"removed the outline of image {number}"
            self.session.images.decide(summary, [number], lambda now: replace(now, outline=Outline()))
