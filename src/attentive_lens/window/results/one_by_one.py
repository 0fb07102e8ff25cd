"""Answers looked at one image at a time: the picture, what was said and what is true, and how it has gone so far."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from attentive_lens.core.numbering import place_of
from attentive_lens.scoring.answers import Answer
from attentive_lens.window import look
from attentive_lens.window.parts.bars import Bar, Bars
from attentive_lens.window.parts.basics import button, label, set_role, to_image, vertical
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.session import Session
from attentive_lens.window.words import answer_tip, percent, thousands

SIDE = 288
MOST_BARS = 8


class OneByOne(QWidget):
    """One answer, and the way to the next; the arrow keys step.

    Signals
    -------
    moved
        Place of the image that is looked at now.
    opened
        It is to be explained.
    """

    moved = pyqtSignal(int)
    opened = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("one by one")
        self.setAccessibleName("images one by one")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.answers: tuple[Answer, ...] = ()
        self.names: tuple[str, ...] = ()
        self.at = 0
        self._right = 0
        layout = vertical(self, spacing=8)
        self.title = label(size=look.LARGE, strong=True, name="step title")
        layout.addWidget(self.title)
        self.picture = PictureBox("step picture", SIDE)
        layout.addWidget(self.picture)
        self.bars = Bars("step bars", 120)
        layout.addWidget(self.bars)
        self.so_far = label(role="faint", name="step so far")
        layout.addWidget(self.so_far)
        row = QHBoxLayout()
        self.before = button("← Previous", "step back", "The image before (left arrow).", lambda: self.step(-1))
        self.after = button("Next →", "step on", "The next image (right arrow).", lambda: self.step(1))
        row.addWidget(self.before)
        row.addWidget(self.after)
        row.addStretch()
        layout.addLayout(row)
        layout.addStretch()

    def show_answers(self, answers: Sequence[Answer], names: tuple[str, ...], place: int | None) -> None:
        """Other answers in their order, classes by these names, beginning at a place if it is among them."""
        self.answers, self.names = tuple(answers), names
        self._right = sum(a.predicted == a.true for a in self.answers)
        self.at = next((k for k, a in enumerate(self.answers) if place_of(a.image) == place), 0)
        self._show()
        if self.answers and place_of(self.answers[self.at].image) != place:
            self.moved.emit(place_of(self.answers[self.at].image))  # decisions are about what is looked at

    def step(self, by: int) -> None:
        """To another image, no further than the first and the last."""
        at = min(max(self.at + by, 0), len(self.answers) - 1)
        if self.answers and at != self.at:
            self.at = at
            self._show()
            self.moved.emit(place_of(self.answers[at].image))

    def _show(self) -> None:
        count = len(self.answers)
        self.before.setEnabled(self.at > 0)
        self.after.setEnabled(self.at < count - 1)
        if not count:
            self.title.setText("There is no image to look at")
            set_role(self.title, "faint")
            self.picture.show_image(None)
            self.bars.show_bars(())
            self.so_far.setText("")
            return
        answer = self.answers[self.at]
        predicted, true = self.names[answer.predicted], self.names[answer.true]
        wrong = answer.predicted != answer.true
        self.title.setText(f"said {predicted}, true {true}" if wrong else f"{predicted}, rightly")
        set_role(self.title, "bad" if wrong else "good")
        pixels = self.session.images.pixels
        self.picture.show_image(to_image(pixels[place_of(answer.image)]) if pixels is not None else None)
        self._show_bars(answer)
        self.so_far.setText(
            f"{thousands(self.at + 1)} of {thousands(count)} · {thousands(self._right)} of them right,"
            f" {percent(self._right / count)} · image {thousands(answer.image)}"
        )

    def _show_bars(self, answer: Answer) -> None:
        known = self.session.scores.row(answer.image)
        if known is None:
            self.bars.show_bars(())
            self.session.scores.want_row(answer.image)
            return
        scores, row = known
        self.bars.setToolTip(answer_tip(scores.output))
        values = scores.probabilities[row]
        order = sorted(range(len(values)), key=lambda k: -float(values[k]))[:MOST_BARS]
        if answer.true not in order:
            order[-1] = answer.true
        roles = {answer.predicted: "vermilion", answer.true: "petrol"}
        longest = max(1.0, float(values.max())) if scores.output == "none" else 1.0
        self.bars.show_bars(
            tuple(
                Bar(self.names[k], max(0.0, float(values[k]) / longest), f"{values[k]:.3f}", roles.get(k, "faint"))
                for k in order
            )
        )

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows, Home and End step; Return explains."""
        if event is None:
            return
        count = len(self.answers)
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -1,
            Qt.Key.Key_Down: 1,
            Qt.Key.Key_Home: -count,
            Qt.Key.Key_End: count,
        }
        key = Qt.Key(event.key())
        if key in steps:
            self.step(steps[key])
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and count:
            self.opened.emit(place_of(self.answers[self.at].image))
        else:
            super().keyPressEvent(event)
