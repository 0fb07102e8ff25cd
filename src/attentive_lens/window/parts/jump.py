"""Going to one image by its number or a part of its name."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QLineEdit, QWidget

from attentive_lens.desk.images.browsing import find_images
from attentive_lens.window import look
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

KEY = "Ctrl+G"


class JumpField(QLineEdit):
    """A field for a number or a part of a name; Return goes there, and again to the next that has it in its name.

    Parameters
    ----------
    session : Session
        Whose images.
    page : QWidget
        Where the key for it holds.

    Signals
    -------
    chosen
        Place of the image.
    """

    chosen = pyqtSignal(int)

    def __init__(self, session: Session, page: QWidget) -> None:
        super().__init__()
        self.session = session
        self._last: tuple[str, int] = ("", -1)
        self.setObjectName("go to image")
        self.setAccessibleName("go to an image by its number or name")
        self.setPlaceholderText("go to image …")
        self.setToolTip(f"Go to an image by its number or a part of its name; Return again: the next one ({KEY}).")
        self.setFont(look.font())
        self.setClearButtonEnabled(False)
        self.returnPressed.connect(self._go)
        QShortcut(QKeySequence(KEY), page).activated.connect(self._take_focus)

    def _take_focus(self) -> None:
        self.setFocus()
        self.selectAll()

    def _go(self) -> None:
        words = self.text().strip()
        if not words:
            return
        places = find_images(self.session.images.collection, words)
        if not places:
            many = len(self.session.images.collection.rows)
            why = f"numbers go from 1 to {thousands(many)}, and no name contains it"
            self.session.message.emit(f"No image is called «{words}»: {why}.", True)
            return
        at = self._last[1] + 1 if self._last[0] == words else 0
        self._last = (words, at % len(places))
        if len(places) > 1:
            self.session.message.emit(
                f"{thousands(self._last[1] + 1)} of {thousands(len(places))} images match; Return: the next.", False
            )
        self.chosen.emit(places[self._last[1]])
        self.selectAll()
